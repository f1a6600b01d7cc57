"""The form of a supply: label data in the units found on labels."""

from __future__ import annotations

from typing import Any, ClassVar

from django import forms

from needle.document import DocumentError
from needle.supply.supply import parse_supply
from web.common.fields import QuantityField, share_field
from web.common.forms import PercentMixin, RecordForm
from web.supplies.models import Supply


class SupplyForm(PercentMixin, RecordForm):
    nominal_wh = QuantityField(
        "Wh", label="Battery holds", most=10_000_000, above=True,
        help_text="As printed: 5.12 kWh, 100 Ah @ 51.2 V, or 2 x 110 Ah @ 24 V.",
    )  # fmt: skip
    continuous_w = QuantityField(
        "W", label="Inverter, continuous", most=1_000_000, above=True, required=False,
        help_text="Leave empty for a supply without an inverter.",
    )  # fmt: skip
    volts = QuantityField("V", label="Battery volts", most=1500, above=True, required=False)
    floor = share_field(
        label="Floor", most=95, required=False,
        help_text="Charge left in it. Usual: 10 % lithium iron phosphate, 15 % other lithium, "
        "50 % lead-acid.",
    )  # fmt: skip
    capacity_factor = share_field(
        label="Really holds", above=True, most=150, required=False,
        help_text="Of the label, from a trial. Until then 93 % ± 5.",
    )  # fmt: skip
    capacity_spread = share_field(
        label="Known to within", most=50, required=False, help_text="One standard deviation."
    )
    peukert_n = forms.FloatField(
        label="Peukert exponent", min_value=1.0, max_value=1.6, required=False,
        help_text="1.15 is usual for lead-acid, 1 for lithium.",
    )  # fmt: skip
    surge_va = QuantityField("VA", label="Surge", most=5_000_000, above=True, required=False)
    surge_s = QuantityField("s", label="Surge lasts", most=600, above=True, required=False)
    idle_w = QuantityField(
        "W", label="Idle draw", most=10_000, required=False,
        help_text="Output on, nothing plugged in. Full, wait hours: idle W = drop × Wh ÷ h.",
    )  # fmt: skip
    efficiency = share_field(
        label="Marginal efficiency", most=100, required=False,
        help_text="More AC watts out over more DC watts in.",
    )  # fmt: skip
    overload_ratio = share_field(
        label="Overload", most=2000, required=False, help_text="Such as 115 % …"
    )
    overload_s = QuantityField(
        "s", label="… for", most=86_400, required=False, help_text="Such as 60 s."
    )

    shares: ClassVar = (
        "floor", "capacity_factor", "capacity_spread", "efficiency", "overload_ratio",
    )  # fmt: skip
    main: ClassVar = ("name", "chemistry", "nominal_wh", "continuous_w")
    blame_as: ClassVar = {"ratio": "overload_ratio", "seconds": "overload_s"}

    class Meta:
        model = Supply
        fields = [
            "name", "chemistry", "nominal_wh", "continuous_w", "surge_va", "surge_s", "idle_w",
            "efficiency", "waveform", "overload_ratio", "overload_s", "volts", "floor",
            "capacity_factor", "capacity_spread", "peukert_n", "note",
        ]  # fmt: skip

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.show_shares()

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        self.store_shares(cleaned)
        if cleaned.get("continuous_w") is None:
            self._without_inverter(cleaned)
        if bool(cleaned.get("overload_ratio")) != (cleaned.get("overload_s") is not None):
            self.add_error("overload_s", "Overload needs both a percentage and a time.")
        if not self.errors:
            self._check_in_core(cleaned)
        return cleaned

    def _without_inverter(self, cleaned: dict[str, Any]) -> None:
        if "continuous_w" in self.errors:
            return
        for name in ("surge_va", "idle_w", "efficiency", "overload_ratio"):
            if cleaned.get(name) is not None:
                self.add_error(
                    "continuous_w", "The other inverter figures need its continuous watts too."
                )
                return

    def _check_in_core(self, cleaned: dict[str, Any]) -> None:
        trial = Supply(**{key: cleaned[key] for key in self.Meta.fields if key in cleaned})
        try:
            parse_supply(trial.to_document())
        except DocumentError as error:
            self.blame(error, self.blame_as)

    def main_fields(self) -> list[forms.BoundField]:
        return [self[name] for name in self.main]

    def more_fields(self) -> list[forms.BoundField]:
        return [one for one in self.visible_fields() if one.name not in self.main]
