"""Forms of a supply and its parts, in the units found on labels."""

from __future__ import annotations

from typing import Any, ClassVar

from django import forms

from needle.household import plain_quantity
from needle.quantity import QuantityError, as_read, charge_volts, multiple_of, with_unit
from web.common.fields import NumberField, QuantityField, WholeNumberField, share_field
from web.common.forms import PercentMixin, RecordForm
from web.common.plausible import PlausibleMixin
from web.supplies.models import Input, Output, Supply


def bank_size(cleaned: dict[str, Any]) -> int:
    """Number of batteries in series and in parallel."""
    return int((cleaned.get("series") or 1) * (cleaned.get("parallel") or 1))


#: Wh and W of batteries and inverters that people usually have: far outside, they are asked about.
_USUAL = {"nominal_wh": (50.0, 50_000.0), "continuous_w": (50.0, 20_000.0)}


class SupplyForm(PlausibleMixin, PercentMixin, RecordForm):
    nominal_wh = QuantityField(
        "Wh",
        label="Battery holds",
        most=10_000_000,
        above=True,
        help_text="As printed: 5.12 kWh, 100 Ah @ 51.2 V. Of a bank: one of them, or all as 4 x "
        "90 Ah @ 12 V.",
    )
    continuous_w = QuantityField(
        "W",
        label="Inverter, continuous",
        most=1_000_000,
        above=True,
        required=False,
        help_text="Leave empty for a supply without an inverter.",
    )
    volts = QuantityField(
        "V",
        label="Battery volts",
        most=1500,
        above=True,
        required=False,
        help_text="Of one battery, where several make the bank.",
    )
    internal_ohm = QuantityField(
        "Ω",
        label="Internal resistance",
        most=100,
        above=True,
        required=False,
        help_text="Of the whole bank: volts lost ÷ amps drawn. Then starts near empty are judged.",
    )
    cutoff_v = QuantityField(
        "V",
        label="Cut-off",
        most=1500,
        above=True,
        required=False,
        help_text="Where it switches itself off, or the inverter does.",
    )
    total_max_w = QuantityField(
        "W",
        label="All outputs together",
        most=1_000_000,
        above=True,
        required=False,
        help_text="A common limit, where the label states one.",
    )
    floor = share_field(
        label="Floor",
        most=95,
        required=False,
        help_text="Charge left in it. Usual: 10 % lithium iron phosphate, 15 % other lithium, "
        "50 % lead-acid.",
    )
    capacity_factor = share_field(
        label="Really holds",
        above=True,
        most=150,
        required=False,
        help_text="Of the label, from a trial. Until then 93 % ± 5.",
    )
    capacity_spread = share_field(
        label="Known to within", most=50, required=False, help_text="One standard deviation."
    )
    peukert_n = NumberField(
        label="Peukert exponent",
        min_value=1.0,
        max_value=1.6,
        required=False,
        help_text="1.15 is usual for lead-acid, 1 for lithium.",
    )
    continuous_va = QuantityField(
        "VA",
        label="Continuous, VA",
        most=5_000_000,
        above=True,
        required=False,
        help_text="Where it is rated in VA too; else as many VA as watts.",
    )
    ac_volts = QuantityField(
        "V",
        label="Gives",
        most=1000,
        above=True,
        required=False,
        help_text="AC volts: a load for other volts does not start on it.",
    )
    surge_va = QuantityField("VA", label="Surge", most=5_000_000, above=True, required=False)
    surge_s = QuantityField("s", label="Surge lasts", most=600, above=True, required=False)
    idle_w = QuantityField(
        "W",
        label="Idle draw",
        most=10_000,
        required=False,
        help_text="Output on, nothing plugged in. Full, wait hours: idle W = drop × Wh ÷ h.",
    )
    efficiency = share_field(
        label="Efficiency",
        most=100,
        required=False,
        help_text="More AC watts out over more DC watts in.",
    )
    overload_ratio = share_field(
        label="Overload", most=2000, required=False, help_text="Such as 115 % …"
    )
    overload_s = QuantityField(
        "s", label="… for", most=86_400, required=False, help_text="Such as 60 s."
    )

    shares: ClassVar = (
        "floor",
        "capacity_factor",
        "capacity_spread",
        "efficiency",
        "overload_ratio",
    )
    main: ClassVar = ("name", "build", "chemistry", "nominal_wh", "continuous_w")
    #: What stands where nothing was said.
    left_open: ClassVar = {"build": "whole", "series": 1, "parallel": 1}
    core_fields: ClassVar = {"ratio": "overload_ratio", "seconds": "overload_s"}

    class Meta:
        model = Supply
        fields = [
            "name",
            "build",
            "chemistry",
            "nominal_wh",
            "continuous_w",
            "surge_va",
            "surge_s",
            "idle_w",
            "efficiency",
            "waveform",
            "ac_volts",
            "continuous_va",
            "overload_ratio",
            "overload_s",
            "total_max_w",
            "volts",
            "series",
            "parallel",
            "floor",
            "capacity_factor",
            "capacity_spread",
            "peukert_n",
            "internal_ohm",
            "cutoff_v",
            "note",
        ]
        field_classes: ClassVar = {"series": WholeNumberField, "parallel": WholeNumberField}

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.show_shares()
        for name in self.left_open:
            self.fields[name].required = False
        self.take_answers()

    def usual(self, cleaned: dict[str, Any]) -> dict[str, tuple[float, float]]:
        return _USUAL

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        self.store_shares(cleaned)
        for name, value in self.left_open.items():
            if not cleaned.get(name) and name not in self.errors:
                cleaned[name] = value
        self._check_counted_once(cleaned)
        self._keep_volts(cleaned)
        if cleaned.get("continuous_w") is None:
            self._without_inverter(cleaned)
        if bool(cleaned.get("overload_ratio")) != (cleaned.get("overload_s") is not None):
            self.add_error("overload_s", "Overload needs both a percentage and a time.")
        self.ask(cleaned)
        return cleaned

    def _written_wh(self) -> str:
        """The battery's Wh as written, parsed as a quantity."""
        written = str(self.data.get(self.add_prefix("nominal_wh")) or "")
        try:
            return plain_quantity(written, "Wh")
        except QuantityError:
            return written

    def _keep_volts(self, cleaned: dict[str, Any]) -> None:
        """Take the battery's volts from amp-hours that were written with volts."""
        written = self._written_wh()
        if cleaned.get("volts") is None and multiple_of(written) == 1:
            cleaned["volts"] = charge_volts(written)

    def _check_counted_once(self, cleaned: dict[str, Any]) -> None:
        """Refuse a product of several batteries together with series or parallel."""
        written = self._written_wh()
        several, bank = multiple_of(written), bank_size(cleaned)
        if several > 1 and bank > 1:
            self.add_error(
                "nominal_wh",
                f"“{written.strip()}” are {several} batteries already, and series and parallel "
                f"would make them {several * bank}: write one of them here, or set both to 1.",
            )

    def comes_to(self) -> str:
        """The bank's size as typed so far, in words; empty if incomplete."""
        typed: dict[str, Any] = {}
        for name in ("nominal_wh", "volts", "series", "parallel"):
            raw = self.data.get(self.add_prefix(name)) or ""
            try:
                typed[name] = self.fields[name].clean(raw) if raw else None
            except forms.ValidationError:
                return ""
        held_wh, bank = typed["nominal_wh"], bank_size(typed)
        if held_wh is None:
            return ""
        whole = with_unit(held_wh * bank, "Wh")
        volts = typed["volts"]
        at = f" at {as_read(volts * (typed['series'] or 1), 'V')}" if volts else ""
        if bank == 1:
            return f"Comes to {whole}{at}."
        each = with_unit(held_wh, "Wh")
        return f"{bank} batteries of {each} each come to {whole}{at}."

    def _without_inverter(self, cleaned: dict[str, Any]) -> None:
        if "continuous_w" in self.errors:
            return
        for name in ("surge_va", "idle_w", "efficiency", "overload_ratio"):
            if cleaned.get(name) is not None:
                self.add_error(
                    "continuous_w", "The other inverter figures need its continuous watts too."
                )
                return


class PartForm(PercentMixin, RecordForm):
    """Base of the forms of outputs and inputs; the core validates them."""

    volts = QuantityField("V", label="Volts", most=1500, above=True, required=False)
    max_a = QuantityField("A", label="At most, amps", most=10_000, above=True, required=False)
    max_w = QuantityField("W", label="At most, watts", most=1_000_000, above=True, required=False)

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.show_shares()

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        self.store_shares(cleaned)
        siblings = type(self.instance).objects.live().filter(supply=self.instance.supply)
        name = cleaned.get("name")
        key = cleaned.get("client_key")
        twins = siblings.filter(name=name).exclude(pk=self.instance.pk)
        if name and twins.exclude(client_key=key).exists():
            self.add_error("name", f"{self.instance.supply} already has “{name}”.")
        return cleaned

    class Meta:
        fields: ClassVar[list[str]] = []


class OutputForm(PartForm):
    idle_w = QuantityField(
        "W",
        label="Idle draw",
        most=1000,
        required=False,
        help_text="Switched on, nothing plugged in. An idle test replaces it.",
    )
    efficiency = share_field(
        label="Efficiency", required=False, help_text="Until tested 80 to 95 %."
    )
    shares: ClassVar = ("efficiency",)

    class Meta:
        model = Output
        fields = [
            "name",
            "kind",
            "volts",
            "max_a",
            "max_w",
            "off_when_idle",
            "idle_w",
            "efficiency",
        ]
        help_texts = {"name": "Such as dc12 or usb-c: a load names it as its route."}

    main: ClassVar = ("name", "kind", "volts", "max_a", "max_w", "off_when_idle")

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["kind"].required = False
        if not self.instance.pk and self.instance.supply.chemistry == "usb":
            self.initial["kind"] = "usb"

    def clean_kind(self) -> str:
        return self.cleaned_data["kind"] or "dc"


class InputForm(PartForm):
    controller_a = QuantityField(
        "A",
        label="Charge controller",
        most=10_000,
        above=True,
        required=False,
        help_text="Amps it gives the battery: times the battery's volts is all it lets in.",
    )

    class Meta:
        model = Input
        fields = ["name", "volts", "max_a", "max_w", "controller_a"]
        help_texts = {"name": "Such as sun, mains or car."}
