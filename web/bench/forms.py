"""Forms of captures and sessions."""

from __future__ import annotations

import json
from typing import Any, ClassVar
from zoneinfo import available_timezones

from django import forms
from django.conf import settings

from needle.measure.capture import COLUMNS
from needle.measure.instruments import INSTRUMENTS
from needle.measure.readings import MOST_V, MOST_W
from needle.quantity import QuantityError, parse
from needle.standin.appliances import appliance_like
from web.bench.models import INSTRUMENT_NAMES, SPEEDS, Capture, Logger, Session
from web.common.fields import QuantityField, WholeNumberField
from web.common.forms import RecordForm
from web.jobs.models import Job
from web.loads.models import Load
from web.loads.reading_forms import OWN, SpotForm

#: Largest file taken, bytes.
MOST_BYTES = 120_000_000
MOST_BOUNDS = 12


class UploadForm(forms.Form):
    file = forms.FileField(
        label="CSV file",
        widget=forms.ClearableFileInput(attrs={"accept": ".csv,.tsv,.txt,text/csv"}),
    )
    client_key = forms.UUIDField(widget=forms.HiddenInput, required=False)

    def clean_file(self) -> Any:
        file = self.cleaned_data["file"]
        if file.size > MOST_BYTES:
            raise forms.ValidationError(
                f"{file.size / 1e6:.0f} MB is too large: at most {MOST_BYTES // 1_000_000} MB. "
                "Split it, or log less often."
            )
        return file


class CaptureForm(RecordForm):
    """Corrections of a capture under preview: meaning of columns, zone, volts, conditions."""

    volts = QuantityField(
        "V",
        label="Volts",
        most=MOST_V,
        above=True,
        required=False,
        help_text="Stands in where only amps were logged.",
    )
    room_c = QuantityField("°C", label="Room", least=-60, most=80, required=False)
    zone = forms.CharField(
        label="Time zone",
        required=False,
        max_length=60,
        widget=forms.TextInput(attrs={"placeholder": "Europe/London"}),
        help_text="Of times without an offset.",
    )
    instrument = forms.ChoiceField(choices=INSTRUMENT_NAMES)

    class Meta:
        model = Capture
        fields = ["name", "instrument", "setting", "room_c", "volts", "zone", "note"]

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        if self.instance.kept:
            for name in ("volts", "zone"):
                del self.fields[name]
            return
        choices = [
            ("", "leave aside"),
            ("time", "time"),
            ("date", "date"),
            *((column, column) for column in COLUMNS),
        ]
        for index, written in enumerate(self.instance.header[:30]):
            self.fields[f"column{index}"] = forms.ChoiceField(
                label=f"“{written[:30]}” is",
                choices=[("?", "as understood"), *choices],
                required=False,
                initial=self.instance.meanings.get(written, "?"),
            )

    def clean_zone(self) -> str:
        zone: str = self.cleaned_data["zone"].strip()
        if zone and zone not in available_timezones():
            raise forms.ValidationError(f"“{zone[:40]}” is not a time zone: try Europe/London.")
        return zone

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        if not self.instance.kept:
            self.instance.meanings = {
                written: cleaned[f"column{index}"]
                for index, written in enumerate(self.instance.header[:30])
                if cleaned.get(f"column{index}", "?") not in ("?", None)
            }
        return cleaned

    def main_fields(self) -> list[forms.BoundField]:
        return [field for field in self.visible_fields() if not field.name.startswith("column")]

    def more_fields(self) -> list[forms.BoundField]:
        return [field for field in self.visible_fields() if field.name.startswith("column")]


class LevelsForm(RecordForm):
    """Boundaries between levels, and their names."""

    bounds = forms.CharField(
        label="Bounds between levels",
        required=False,
        max_length=200,
        help_text="Such as 10 W, 150 W. Empty: as found.",
    )
    names_text = forms.CharField(
        label="Names, lowest first",
        required=False,
        max_length=300,
        help_text="Such as resting, running, defrost. The profile speaks of “running”.",
    )

    class Meta:
        model = Capture
        fields: ClassVar[list[str]] = []

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        bounds = self.instance.bounds_w
        self.fields["bounds"].initial = ", ".join(f"{bound:g} W" for bound in bounds)
        self.fields["names_text"].initial = ", ".join(self.instance.names)

    def clean_bounds(self) -> list[float]:
        parts = [text.strip() for text in self.cleaned_data["bounds"].split(",") if text.strip()]
        if len(parts) > MOST_BOUNDS:
            raise forms.ValidationError(f"At most {MOST_BOUNDS} bounds.")
        bounds = []
        for part in parts:
            try:
                watts = parse(part, "W").value
            except QuantityError as error:
                raise forms.ValidationError(str(error)) from None
            if not 0 < watts <= MOST_W:
                raise forms.ValidationError(f"{part} is no bound: it lies between 0 and 100 kW.")
            bounds.append(watts)
        return sorted(set(bounds))

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        self.instance.bounds_w = cleaned.get("bounds") or []
        names = cleaned.get("names_text") or ""
        self.instance.names = [name.strip()[:40] for name in names.split(",")] if names else []
        return cleaned


class MeterReadingForm(SpotForm):
    """Figures that a real meter shows for a load."""

    #: VA stands beside watts: it is what a meter shows.
    aside: ClassVar = tuple(name for name in SpotForm.aside if name != "va")

    def __init__(self, *args: Any, load: Load, **kwargs: Any) -> None:
        super().__init__(*args, load=load, **kwargs)
        known = [
            reading.data.get("state", "running")
            for reading in load.known_readings()
            if reading.type == "spot"
        ]
        states = dict.fromkeys(["running", "resting", *known])
        self.fields["state"] = forms.ChoiceField(
            choices=[(state, state) for state in states], widget=forms.RadioSelect
        )
        self.initial.setdefault("state", "running")

    @property
    def accuracies(self) -> str:
        """Accuracy of each meter that can be chosen, as JSON for the page's own check."""
        own = self.load.job.meters() if self.load else {}
        meters = {**INSTRUMENTS, **{f"{OWN}{name}": meter for name, meter in own.items()}}
        return json.dumps(
            {
                key: {
                    "limit": meter.limit,
                    "counts": meter.counts,
                    "steps": meter.steps,
                    "spread": meter.gain_spread,
                }
                for key, meter in meters.items()
            }
        )


class SessionForm(RecordForm):
    """A simulated appliance and meter, and the conditions."""

    main: ClassVar = ("load", "meter", "speed")

    room_c = QuantityField("°C", label="Room", least=-60, most=80, required=False)
    speed = forms.TypedChoiceField(
        coerce=int, choices=[(speed, f"{speed}×") for speed in SPEEDS], initial=60
    )

    class Meta:
        model = Session
        fields = [
            "load",
            "standin",
            "meter",
            "speed",
            "seed",
            "setting",
            "room_c",
            "note",
            "whole_cable",
        ]
        field_classes: ClassVar = {"seed": WholeNumberField}
        labels = {"standin": "Simulated appliance", "note": "Contents, conditions"}
        help_texts = {
            "seed": "The same number gives the same appliance.",
        }

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["standin"].required = False
        choices = self.fields["standin"].choices  # type: ignore[attr-defined]
        choices[0] = ("", "what is like the load")

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        if cleaned.get("load") and not cleaned.get("standin") and "standin" not in self.errors:
            alike = appliance_like(cleaned["load"].kind)
            if alike is None:
                self.add_error("standin", "None is like this load: choose one.")
            else:
                cleaned["standin"] = alike.key
        return cleaned


def may_name_topics(user: Any) -> bool:
    """Whether a person may subscribe to topics of the broker, which has no separate jobs."""
    return bool(settings.MQTT_URL) and user.get_username() in settings.MQTT_USERS


class LoggerForm(forms.ModelForm):
    class Meta:
        model = Logger
        fields = ["load", "name", "instrument", "topic", "json_key", "time_key"]

    def __init__(self, *args: Any, job: Job, user: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["load"].queryset = job.loads.live()  # type: ignore[attr-defined]
        if not may_name_topics(user):
            for name in ("topic", "json_key", "time_key"):
                del self.fields[name]
