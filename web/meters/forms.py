"""Forms of a meter, and of its comparison with another."""

from __future__ import annotations

from typing import Any, ClassVar

from django import forms

from needle.document import DocumentError
from needle.measure.instruments import INSTRUMENTS
from needle.measure.meters import calibrate
from needle.measure.readings import MOST_A, MOST_W
from needle.quantity import QuantityError, parse
from web.common.fields import NumberField, QuantityField, share_field
from web.common.forms import OnceMixin, PercentMixin, RecordForm
from web.meters.models import Meter

SHOWN = {
    "volts": "V",
    "amps": "A",
    "watts": "W",
    "va": "VA",
    "pf": "power factor",
    "hz": "Hz",
    "wh": "Wh or kWh",
}


class MeterForm(PercentMixin, RecordForm):
    """A meter; empty fields are as usual for its class."""

    shares: ClassVar = ("limit",)
    limit = share_field(
        label="Accuracy",
        most=50.0,
        required=False,
        help_text="As stated: ± percent of the reading…",
    )
    counts = NumberField(
        label="And digits",
        min_value=0,
        max_value=100,
        required=False,
        help_text="…and steps of the last digit.",
    )
    step_w = QuantityField("W", label="Last digit", most=1000, above=True, required=False)
    step_wh = QuantityField(
        "Wh",
        label="Last digit of its counter",
        most=10_000,
        above=True,
        required=False,
        help_text="10 Wh where it shows 0.01 kWh.",
    )
    least_w = QuantityField("W", label="Not to be trusted under", most=MOST_W, required=False)
    most_a = QuantityField("A", label="Carries at most", most=MOST_A, above=True, required=False)
    base_w = QuantityField(
        "W",
        label="Draws itself, and counts it",
        most=100,
        required=False,
        help_text="Taken off what it shows.",
    )
    shows = forms.MultipleChoiceField(
        label="Shows",
        choices=list(SHOWN.items()),
        required=False,
        widget=forms.CheckboxSelectMultiple,
        help_text="None ticked: what its class usually shows.",
    )

    class Meta:
        model = Meter
        fields = [
            "name",
            "kind",
            "limit",
            "counts",
            "step_w",
            "most_a",
            "step_wh",
            "least_w",
            "base_w",
            "shows",
            "fast_inrush",
            "logs",
            "note",
        ]

    main: ClassVar = ("name", "kind", "limit", "counts", "step_w", "most_a")

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.show_shares()

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        self.store_shares(cleaned)
        name = (cleaned.get("name") or "").strip()
        others = Meter.objects.visible_to(self.instance.owner).exclude(pk=self.instance.pk)
        key = cleaned.get("client_key")
        for other in others.exclude(client_key=key) if key else others:
            if name == other.name:
                self.add_error("name", f"You have a meter called “{name}” already.")
            elif name in other.formerly:
                self.add_error(
                    "name", f"“{other}” was called “{name}”, and readings know it by that name."
                )
        return cleaned


class ComparisonForm(OnceMixin, forms.Form):
    """Readings of a meter and another on the same constant load, one pair per line."""

    against = forms.ModelChoiceField(
        Meter.objects.none(), label="Beside", required=False, empty_label="a plug meter (±1 %)"
    )
    pairs = forms.CharField(
        label="What both show",
        max_length=4000,
        required=False,
        widget=forms.Textarea(attrs={"rows": 5, "placeholder": "102.1 100.4\n305.8 W, 300.2 W"}),
        help_text="In watts, this one first; a line for each load or moment. Empty forgets it.",
    )

    def __init__(self, *args: Any, meter: Meter, **kwargs: Any) -> None:
        self.meter = meter
        lines = [" ".join(f"{watts:g}" for watts in pair) for pair in meter.pairs]
        kwargs["initial"] = {"against": meter.against, "pairs": "\n".join(lines)}
        super().__init__(*args, **kwargs)
        others = Meter.objects.visible_to(meter.owner).exclude(pk=meter.pk)
        self.fields["against"].queryset = others  # type: ignore[attr-defined]
        self.add_guards(meter.version)

    def clean_against(self) -> Meter | None:
        against: Meter | None = self.cleaned_data["against"]
        other = against
        seen = set()
        while other is not None and other not in seen:
            if other == self.meter:
                raise forms.ValidationError(f"“{against}” was compared with this one itself.")
            seen.add(other)
            other = other.against
        return against

    def clean_pairs(self) -> list[list[float]]:
        lines = [line for line in self.cleaned_data["pairs"].splitlines() if line.strip()]
        return [_pair(number, line) for number, line in enumerate(lines, 1)]

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean() or {}
        self.check_version(cleaned)
        if not self.errors and cleaned["pairs"]:
            try:
                plug = INSTRUMENTS["plug"]
                calibrate([(own, other) for own, other in cleaned["pairs"]], plug, plug)
            except DocumentError as error:
                self.add_core_error(error)
        return cleaned


def _pair(number: int, line: str) -> list[float]:
    """Both figures of a line, W."""
    parts = line.replace(";", " ").replace("\t", " ").replace(", ", " ").split(" ")
    texts = [part for part in parts if part and part.casefold() != "w"]
    if len(texts) != 2:
        raise forms.ValidationError(
            f"Line {number}, “{line[:40]}”: write two figures, such as “102.1 100.4”."
        )
    try:
        pair = [parse(text, "W").value for text in texts]
    except QuantityError as error:
        raise forms.ValidationError(f"Line {number}: {error}") from None
    if min(pair) <= 0 or max(pair) > MOST_W:
        raise forms.ValidationError(f"Line {number}: both must be above 0 W and at most 100 kW.")
    return pair
