"""Forms of loads."""

from __future__ import annotations

from typing import Any, ClassVar, cast

from django import forms
from django.urls import reverse

from needle.document import DocumentError
from needle.measure.readings import MOST_A, MOST_W
from needle.profile.appliances import APPLIANCES, Appliance
from needle.profile.kinds import KINDS, Kind
from needle.profile.states import HP_W
from needle.quantity import MOST_DC_V, is_horsepower, volts_amps
from needle.usage.usual_use import text_of_usual_use, usual_use_from_text
from web.common.fields import QuantityField
from web.common.forms import RecordForm
from web.common.plausible import PlausibleMixin
from web.loads.models import CARES, Load


def fields_not_of(kind: Kind) -> list[str]:
    """Fields of a load that do not apply to a kind."""
    cold = kind.keeps_contents
    fits = {
        "never_rarer": kind.rarer,
        "set_c": bool(kind.set_point),
        "litres": cold,
        "hours_per_day": not kind.set_point,
        "can_dc": kind.electronic,
    }
    return [name for name, fitting in fits.items() if not fitting]


#: Of the household names: none fits, and the kind is chosen in the trade's words.
OTHER = "other"


class LoadForm(PlausibleMixin, RecordForm):
    """A load; a new one with its label."""

    label_watts = QuantityField(
        "W",
        label="Label watts",
        most=MOST_W,
        above=True,
        required=False,
        help_text="As printed on it; 1/2 hp is taken as shaft power. Enough for a wide answer.",
    )
    label_amps = QuantityField("A", label="Label amps", most=MOST_A, above=True, required=False)
    label_kwh_per_year = QuantityField(
        "kWh/yr",
        label="Energy label",
        most=100_000,
        above=True,
        required=False,
        help_text="kWh a year.",
    )
    appliance = forms.ChoiceField(
        label="What is it?",
        required=False,
        choices=[
            ("", "choose…"),
            *((item.key, item.name) for item in APPLIANCES.values()),
            (OTHER, "Something else: choose its kind below"),
        ],
    )
    often = forms.CharField(
        label="How often, how long?",
        required=False,
        max_length=120,
        widget=forms.TextInput(
            attrs={
                "placeholder": "such as twice a day, 3 minutes",
                "list": "often",
                "autocomplete": "off",
            }
        ),
    )
    hours_per_day = QuantityField(
        "h",
        label="Hours in use a day",
        most=24,
        required=False,
        help_text="Where somebody counted them; else what stands above is used.",
    )
    set_c = QuantityField(
        "°C",
        label="Temperature setting",
        least=-80,
        most=400,
        required=False,
        help_text="Used to adjust for a warmer or colder room.",
    )

    litres = QuantityField(
        "L", above=True, required=False, help_text="Of a box: compared per litre."
    )

    class Meta:
        model = Load
        fields = [
            "name",
            "kind",
            "priority",
            "cares",
            "wired",
            "setting",
            "hours_per_day",
            "runs_by",
            "set_c",
            "never_rarer",
            "litres",
            "dc",
            "can_dc",
            "legs",
            "note",
        ]

    main: ClassVar[tuple[str, ...]] = ("appliance", "name", "label_watts", "often", "legs")

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.initial.setdefault("often", text_of_usual_use(self.instance.usual_use))
        self.initial["wired"] = self.initial.get("wired") or self.instance.is_wired
        cast(forms.ChoiceField, self.fields["cares"]).choices = list(CARES.items())
        self.fields["name"].label = "What do you call it?"
        self.fields["runs_by"].label = "What makes it run?"
        self.fields[
            "runs_by"
        ].help_text = (
            "Water and people make days differ: the range allows for it until uses were counted."
        )
        if self.instance.pk:
            for name in ("appliance", "label_watts", "label_amps", "label_kwh_per_year"):
                del self.fields[name]
            self.main = ("name", "kind", "often", "legs")  # type: ignore[misc]
        else:
            self.fields["name"].required = self.fields["kind"].required = False
            self.fields["name"].help_text = "Such as “Kitchen fridge”; may stay empty."
            self.fields["kind"].help_text = "Only where the list above does not have it."
            self.fields["appliance"].widget.attrs |= {
                "hx-get": reverse("loads:add", args=[self.instance.job_id]),
                "hx-include": "closest form",
                # A load's other fields depend on its kind: a freezer is no air conditioner.
                "hx-params": "not csrfmiddlewaretoken,cares",
                # Only what lies in the fold: what is typed meanwhile stays.
                "hx-target": "#load-fields .more > .fields",
                "hx-select": "#load-fields .more > .fields",
                "hx-swap": "outerHTML",
            }
        if not self.instance.job.split:
            del self.fields["legs"]
        self.take_answers()
        chosen = APPLIANCES.get(self.initial.get("appliance", ""))
        if chosen is not None and not self.initial.get("cares"):
            self.initial["cares"] = chosen.safety
        kind = self.initial.get("kind") or self.instance.kind or (chosen.kind if chosen else "")
        if not self.is_bound and kind in KINDS:
            for name in fields_not_of(KINDS[kind]):
                if not self.initial.get(name):
                    del self.fields[name]

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        job = self.instance.job
        if not self.instance.pk:
            self._name_by_appliance(cleaned)
        try:
            self.instance.usual_use = usual_use_from_text(cleaned.get("often") or "")
        except DocumentError as error:
            self.add_error("often", f"{error.message[:1].upper()}{error.message[1:]}.")
        if self.instance.usual_use and cleaned.get("hours_per_day") is not None:
            self.add_error("hours_per_day", "How long it is used stands above: give it once.")
        self._check_dc_label(cleaned)
        self.ask(cleaned)
        name = cleaned.get("name")
        if name and job.loads.live().filter(name=name).exclude(pk=self.instance.pk).exists():
            key = cleaned.get("client_key")
            if not key or not job.loads.filter(name=name, client_key=key).exists():
                self.add_error("name", f"This job already has a load called “{name}”.")
        return cleaned

    def _check_dc_label(self, cleaned: dict[str, Any]) -> None:
        amps_alone = cleaned.get("label_amps") is not None and not cleaned.get("label_watts")
        if cleaned.get("dc") and amps_alone:
            words = "On DC the volts are needed too: write “12 V x 5 A” as its label watts."
            self.add_error("label_amps", words)

    def usual(self, cleaned: dict[str, Any]) -> dict[str, tuple[float, float]]:
        kind = KINDS.get(cleaned.get("kind") or self.instance.kind)
        return {} if kind is None else {"label_watts": usual_label_w(kind)}

    def _name_by_appliance(self, cleaned: dict[str, Any]) -> None:
        """Fill in kind, name and safety from the chosen appliance, if left open."""
        appliance = APPLIANCES.get(cleaned.get("appliance") or "")
        if not cleaned.get("kind"):
            self._kind_by_appliance(appliance, cleaned)
        if not cleaned.get("name") and appliance is not None:
            cleaned["name"] = self._free_name(appliance.short)
        elif not cleaned.get("name") and "name" not in self.errors:
            self.add_error("name", "Give it a name.")

    def _kind_by_appliance(self, appliance: Appliance | None, cleaned: dict[str, Any]) -> None:
        if appliance is not None:
            cleaned["kind"] = appliance.kind
            cleaned["cares"] = cleaned.get("cares") or appliance.safety
            return
        field = "kind" if cleaned.get("appliance") == OTHER else "appliance"
        self.add_error(field, "Choose what it is.")

    def _free_name(self, short: str) -> str:
        """An appliance's name, with a number if the job already has one."""
        taken = set(self.instance.job.loads.live().values_list("name", flat=True))
        names = (short, *(f"{short} {number}" for number in range(2, 1000)))
        return next(name for name in names if name not in taken)

    def label(self) -> dict[str, Any]:
        """The label reading of a new load; empty if there is none."""
        label_data = {
            "watts": self.cleaned_data.get("label_watts"),
            "amps": self.cleaned_data.get("label_amps"),
            "kwh_per_year": self.cleaned_data.get("label_kwh_per_year"),
        }
        given = {key: value for key, value in label_data.items() if value is not None}
        text = self["label_watts"].value()
        pair = volts_amps(text or "")
        if pair is not None and self.cleaned_data.get("dc"):
            given["volts"] = pair[0]
        elif "amps" not in given:
            given = with_mains_amps(given, text)
        return at_the_shaft(given, text)


class PutOffForm(forms.ModelForm):
    """Why a load's open measurements are postponed."""

    class Meta:
        model = Load
        fields: ClassVar = ["put_off"]


def with_mains_amps(given: dict[str, Any], text: Any) -> dict[str, Any]:
    """A reading's data with the volts and amps of the mains that were written as its watts.

    On AC they are volt-amperes, not watts.
    """
    pair = volts_amps(text or "")
    if pair is None or pair[0] <= MOST_DC_V:
        return given
    others = {key: value for key, value in given.items() if key != "watts"}
    return {**others, "volts": pair[0], "amps": pair[1]}


def usual_label_w(kind: Kind) -> tuple[float, float]:
    """Usual minimum and maximum W on labels of a kind."""
    least, most = kind.usual_w
    return least * kind.plate[0], most * kind.plate[2]


def at_the_shaft(label: dict[str, Any], watts_text: str | None) -> dict[str, Any]:
    """A label with watts written in horsepower, as horsepower."""
    if "watts" not in label or not is_horsepower(watts_text or ""):
        return label
    rest = {key: value for key, value in label.items() if key != "watts"}
    return {**rest, "horsepower": label["watts"] / HP_W}
