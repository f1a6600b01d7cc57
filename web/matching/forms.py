"""Forms of start tests, cords and corrections."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any, ClassVar

from django import forms
from django.utils import timezone

from needle.decide.cord import conductor_mm2
from needle.decide.power_factor import sanity
from needle.document import DocumentError
from needle.measure.readings import MOST_W
from web.common.fields import (
    NumberField,
    QuantityField,
    TickedField,
    WholeNumberField,
    moment_field,
)
from web.common.forms import RecordForm
from web.jobs.models import Job
from web.loads.models import Load
from web.matching.models import Correction
from web.supplies.models import StartTest


def _moment() -> forms.DateTimeField:
    return moment_field(label="Tested at", initial=timezone.localtime)


class StartTestForm(RecordForm):
    """Result of switching a load on."""

    main: ClassVar = ("load", "supply", "result", "times", "ran")

    field_order = (
        "load",
        "supply",
        "result",
        "times",
        "setting",
        "ran_s",
        "order",
        "tested_at",
        "note",
        "ran",
    )
    ran = TickedField(
        Load.objects.none(),
        label="What else ran",
        required=False,
        widget=forms.CheckboxSelectMultiple,
        help_text="None: it was tried alone. The test settles starts with no more beside it.",
    )
    ran_s = QuantityField(
        "s",
        label="Ran on for",
        least=1,
        most=86_400,
        required=False,
        help_text="With all that ran beside it, such as 90 s: what an overload is carried for.",
    )
    tested_at = _moment()

    class Meta:
        model = StartTest
        fields = [
            "load",
            "supply",
            "result",
            "times",
            "setting",
            "ran_s",
            "order",
            "tested_at",
            "note",
        ]
        field_classes: ClassVar = {"times": WholeNumberField}
        labels = {"supply": "On which supply", "result": "What happened", "times": "Times tried"}
        help_texts = {"setting": "Where it has settings: which one was tried. Empty for any."}

    def __init__(self, job: Job, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        loads = job.loads.live().with_readings()
        self.fields["load"].queryset = job.loads.live()  # type: ignore[attr-defined]
        self.fields["ran"].queryset = loads  # type: ignore[attr-defined]
        self.fields["supply"].queryset = (  # type: ignore[attr-defined]
            job.supplies.live().filter(continuous_w__gt=0)
        )

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        ran = [load for load in cleaned.get("ran", ()) if load != cleaned.get("load")]
        profiles = [(load, load.profile()) for load in ran]
        unread = [load.name for load, profile in profiles if profile is None]
        if unread:
            self.add_error("ran", f"Nothing was read of {', '.join(unread)} yet: give its label.")
            return cleaned
        self.instance.beside = [load.name for load in ran]
        self.instance.beside_w = sum(profile.running_w.value for _, profile in profiles if profile)
        return cleaned


class CordForm(RecordForm):
    """The cord that feeds a load."""

    cord_m = QuantityField(
        "m",
        label="Length",
        most=1000,
        above=True,
        required=False,
        help_text="One way; 30 m or 100 ft. Empty for none.",
    )

    class Meta:
        model = Load
        fields = ["cord_m", "cord_size", "cord_material"]
        labels = {"cord_size": "Conductor", "cord_material": "Material"}
        help_texts = {"cord_size": "1.5 mm² or 14 AWG, as printed on it."}

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        size = cleaned.get("cord_size", "")
        if cleaned.get("cord_m") and not size:
            self.add_error("cord_size", "A length needs a conductor size too.")
        if size:
            try:
                conductor_mm2(size)
            except DocumentError as error:
                self.add_core_error(error, {"conductor": "cord_size"})
        return cleaned


class TargetForm(forms.Form):
    """The target power factor."""

    target = NumberField(
        label="Aim for",
        min_value=0.5,
        max_value=1.0,
        initial=0.95,
        required=False,
        help_text="0.95 is usual; never beyond 1.",
    )


#: Most values of a stock.
MOST_STOCK = 60


def stock_text(stock_uf: Sequence[float]) -> str:
    return ", ".join(f"{value:g}" for value in stock_uf)


class StockForm(forms.Form):
    """Capacitors in stock, µF."""

    stock = forms.CharField(
        label="In stock",
        max_length=400,
        required=False,
        help_text="µF, such as 4, 5, 8, 10, 12.5; empty: usual.",
    )

    def clean_stock(self) -> list[float]:
        values = []
        for part in re.split(r"[;\s]+|,\s*", self.cleaned_data["stock"]):
            text = part.strip().removesuffix("µF").removesuffix("uF").strip()
            if not text:
                continue
            try:
                value = float(text)
            except ValueError:
                raise forms.ValidationError(f"“{part[:20]}” is not a value in µF.") from None
            if not 0 < value <= 1000:
                raise forms.ValidationError(f"{part[:20]} is not between 0 and 1000 µF.")
            values.append(value)
        if len(values) > MOST_STOCK:
            raise forms.ValidationError(f"At most {MOST_STOCK} values.")
        return sorted(set(values))


class CorrectionForm(RecordForm):
    """Readings of a motor without and with a capacitor fitted."""

    main: ClassVar = ("fitted_uf", "watts_without", "va_without", "watts_with", "va_with")

    fitted_uf = QuantityField("µF", label="Fitted", most=1000, above=True)
    watts_without = QuantityField("W", label="Without: W", most=MOST_W, above=True)
    va_without = QuantityField("VA", label="Without: VA", most=MOST_W, above=True)
    battery_w_without = QuantityField(
        "W",
        label="Without: W at the battery",
        most=MOST_W,
        above=True,
        required=False,
        help_text="From a shunt or display.",
    )
    watts_with = QuantityField("W", label="With: W", most=MOST_W, above=True)
    va_with = QuantityField("VA", label="With: VA", most=MOST_W, above=True)
    battery_w_with = QuantityField(
        "W", label="With: W at the battery", most=MOST_W, above=True, required=False
    )
    tested_at = _moment()

    class Meta:
        model = Correction
        fields = [
            "fitted_uf",
            "watts_without",
            "va_without",
            "battery_w_without",
            "watts_with",
            "va_with",
            "battery_w_with",
            "tested_at",
            "note",
        ]

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        for side in ("without", "with"):
            watts, va = cleaned.get(f"watts_{side}"), cleaned.get(f"va_{side}")
            if watts and va and watts > va:
                self.add_error(
                    f"watts_{side}", f"{watts:g} W cannot exceed {va:g} VA: read them again."
                )
        if bool(cleaned.get("battery_w_without")) != bool(cleaned.get("battery_w_with")):
            side = "with" if cleaned.get("battery_w_without") else "without"
            self.add_error(f"battery_w_{side}", "The saving needs both battery readings.")
        if not self.errors:
            self._check_in_core(cleaned)
        return cleaned

    def _check_in_core(self, cleaned: dict[str, Any]) -> None:
        load = self.instance.load
        try:
            sanity(
                (cleaned["watts_without"], cleaned["va_without"]),
                (cleaned["watts_with"], cleaned["va_with"]),
                cleaned["fitted_uf"],
                load.volts() or load.mains_v,
                load.job.mains_hz,
            )
        except DocumentError as error:
            self.add_core_error(error)
