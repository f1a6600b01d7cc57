"""Forms of each type of reading."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any, ClassVar

from django import forms

from needle.document import DocumentError
from needle.household import plain_quantity
from needle.measure.instruments import INSTRUMENTS, Instrument
from needle.measure.meters import beyond
from needle.measure.readings import FEELS, MOST_A, MOST_H, MOST_V, MOST_W, MOST_WH, parse
from needle.measure.readings import Reading as CoreReading
from needle.measure.tally import parse_moments, written
from needle.package import MOST_PICTURES
from needle.profile.kinds import Kind
from needle.profile.profile import needs_volts
from needle.quantity import MOST_DC_V, volts_amps
from web.common.fields import (
    COUNTER_UNITS,
    NumberField,
    QuantityField,
    WholeNumberField,
    moment_field,
    share_field,
    with_own_unit,
)
from web.common.forms import OnceMixin, client_key
from web.common.plausible import PlausibleMixin
from web.loads.forms import at_the_shaft, usual_label_w
from web.loads.models import Load, Photo, Reading
from web.loads.photos import NoPicture, Picture, drawn_anew

HOURS_PER_YEAR = 24 * 366
#: Photos that a job holds: fewer than a package may, since some that were removed may come back.
MOST_PHOTOS = MOST_PICTURES - 100


class PhotoField(forms.FileField):
    """A picture from the camera or a file, cleaned to a re-encoded one."""

    #: A phone opens its camera at once.
    widget = forms.FileInput(
        attrs={
            "accept": "image/jpeg,image/png,image/webp",
            "capture": "environment",
            "data-chosen": "",
        }
    )

    def clean(self, data: Any, initial: Any = None) -> Picture | None:
        file = super().clean(data, initial)
        if not file:
            return None
        try:
            return drawn_anew(file)
        except NoPicture as error:
            raise forms.ValidationError(str(error)) from None


class ReadingForm(PlausibleMixin, OnceMixin, forms.Form):
    """Base of the reading forms: fields named as the document's keys, validated by the core."""

    type: ClassVar[str]
    renamed: ClassVar[dict[str, str]] = {}
    #: Fields that people write in percent, stored as 0…1.
    shares: ClassVar[tuple[str, ...]] = ()
    settable: ClassVar[bool] = True
    caution: ClassVar[str] = ""
    #: The caution for a load on DC, where that is another one.
    dc_caution: ClassVar[str] = ""
    #: What stands under "more": a form shows at most six fields before it.
    aside: ClassVar[tuple[str, ...]] = (
        "setting",
        "read_at",
        "note",
        "photo",
        "va",
        "hz",
        "room_c",
        "step_wh",
        "step",
        "breaker_a",
        "proven",
        "efficiency",
        "counted",
        "pieces",
    )

    def __init__(
        self, *args: Any, load: Load | None = None, reading: Reading | None = None, **kwargs: Any
    ) -> None:
        self.reading = reading
        self.load = load or (reading.load if reading else None)
        if reading is not None:
            kwargs["initial"] = {
                **self.initial_from(reading.data),
                "read_at": reading.read_at,
                "note": reading.note,
            }
        super().__init__(*args, **kwargs)
        if self.settable:
            self.fields["setting"] = forms.CharField(
                max_length=60, required=False, help_text="Such as “low” or “humidifier on”."
            )
        for name in self.not_of(self.load) if self.load else ():
            self.fields.pop(name, None)
        if self.load is not None and self.load.dc:
            self._begin_with_a_dc_meter()
        self._offer_own_meters()
        self.fields["read_at"] = moment_field(label="Read at", required=False)
        self.fields["note"] = forms.CharField(max_length=400, required=False)
        self.fields["photo"] = PhotoField(
            required=False, help_text="Of the display, the label or the place."
        )
        self.add_guards(reading.version if reading is not None else None)
        self._show_number_keys()
        if reading is None and self.load is not None:
            self._show_last(self.load)
        self._read_in_counter_unit()
        self.take_answers()

    def _show_number_keys(self) -> None:
        """Ask for the number keys of a phone where a meter shows a bare number."""
        for name in METER_FIGURES if self.type != "label" else ():
            if name in self.fields:
                self.fields[name].widget.attrs["inputmode"] = "decimal"

    def _show_last(self, load: Load) -> None:
        """Show the figures of the newest reading of this type as hints."""
        same = [reading for reading in load.known_readings() if reading.type == self.type]
        last = self.initial_from(same[-1].data) if same else {}
        for name in METER_FIGURES:
            value = last.get(name)
            if name in self.fields and isinstance(value, int | float):
                self.fields[name].widget.attrs.setdefault("placeholder", f"last {value:g}")

    def _read_in_counter_unit(self) -> None:
        """Interpret numbers without a unit in the unit that the counter shows."""
        if "counter_unit" not in self.fields:
            return
        unit = self.data.get(self.add_prefix("counter_unit")) if self.is_bound else None
        data = self.data.copy() if unit in COUNTER_UNITS else None  # type: ignore[attr-defined]
        for name in ("wh", "before"):
            field = self.fields.get(name)
            if field is None:
                continue
            field.widget.unit_field = "counter_unit"
            if data is not None:
                typed = data.get(self.add_prefix(name)) or ""
                data[self.add_prefix(name)] = with_own_unit(typed, str(unit))
        self.data = self.data if data is None else data

    def usual(self, cleaned: dict[str, Any]) -> dict[str, tuple[float, float]]:
        return {} if self.load is None else self.usual_of(self.load.core_kind, cleaned)

    @staticmethod
    def usual_of(kind: Kind, cleaned: Mapping[str, Any]) -> dict[str, tuple[float, float]]:
        """Usual values of fields for a kind of load, as in :meth:`usual`."""
        return {}

    @property
    def said_caution(self) -> str:
        """The caution for its load."""
        on_dc = self.load is not None and self.load.dc
        return (self.dc_caution if on_dc else "") or self.caution

    def _begin_with_a_dc_meter(self) -> None:
        """For a DC load, preselect an instrument that fits."""
        field = self.fields.get("instrument")
        if isinstance(field, forms.ChoiceField):
            keys = [key for key, _ in field.choices]  # type: ignore[union-attr, misc]
            field.initial = next((key for key in ("shunt", "usb") if key in keys), field.initial)

    def _offer_own_meters(self) -> None:
        """Offer a person's own meters before the classes, and what the reading names."""
        field = self.fields.get("instrument")
        if self.load is None or not isinstance(field, forms.ChoiceField):
            return
        classes: list[Any] = list(field.choices)  # type: ignore[arg-type]
        chosen = self.initial.get("instrument") or ""
        if chosen in INSTRUMENTS and chosen not in dict(classes):
            classes.append((chosen, INSTRUMENTS[chosen].name))
            field.choices = classes
        own = self._own_meters(self.load.job.meters(), {key for key, _ in classes})
        if own:
            field.choices = [("My meters", own), ("Any", classes)]
        if own and "instrument" not in self.initial:
            first = field.initial
            same = [value for value, name in own if self.load.job.meters()[name].key == first]
            field.initial = (same or [first])[0]

    def _own_meters(
        self, meters: Mapping[str, Instrument], fitting: set[str]
    ) -> list[tuple[str, str]]:
        """Choices of a person's meters of fitting classes, and of the one that the reading names.

        That may be the owner's no longer, or have come with a file.
        """
        stored: str = self._stored().get("meter") or ""
        named = meters[stored].name if stored in meters else stored
        own = [
            (f"{OWN}{meter.name}", meter.name)
            for name, meter in meters.items()
            if meter.name == name and (meter.key in fitting or name == named)
        ]
        if named:
            self.initial["instrument"] = f"{OWN}{named}"
        if named and named not in meters:
            own.append((f"{OWN}{named}", f"{named} (no longer among the meters)"))
        return own

    def _stored(self) -> dict[str, Any]:
        """The data of the reading that is edited; empty for a new one."""
        return self.reading.data if self.reading is not None else {}

    def _volts_beside(self, load: Load) -> bool:
        """Whether another reading of a load says at how many volts it runs."""
        mine = self.reading.pk if self.reading is not None else None
        return any(
            0 < (reading.data.get("volts") or 0.0) <= MOST_DC_V
            for reading in load.known_readings()
            if reading.pk != mine
        )

    def clean_photo(self) -> Picture | None:
        picture: Picture | None = self.cleaned_data["photo"]
        if picture is not None and self.load is not None:
            of_job = Photo.objects.live().filter(reading__load__job=self.load.job)
            if of_job.count() >= MOST_PHOTOS:
                raise forms.ValidationError(f"This job has {MOST_PHOTOS} photos: remove some.")
        return picture

    @staticmethod
    def not_of(load: Load) -> tuple[str, ...]:
        """Fields that do not apply to a load of this kind."""
        return ("pf", "va", "hz", "horsepower") if load.dc else ()

    def initial_from(self, data: Mapping[str, Any]) -> dict[str, Any]:
        """Stored document keys as the fields show them."""
        back = {key: name for name, key in self.renamed.items()}
        named = {back.get(key, key): value for key, value in data.items()}
        if meter := named.pop("meter", ""):
            named["instrument"] = f"{OWN}{meter}"
        return {
            name: value * 100 if name in self.shares else value for name, value in named.items()
        }

    def document(self, cleaned: Mapping[str, Any]) -> dict[str, Any]:
        """Cleaned fields as the document's keys."""
        own = {name: value for name, value in cleaned.items() if name not in _NOT_DATA}
        self._split_products(own)
        self._name_meter(own)
        own |= {name: own[name] / 100 for name in self.shares if own.get(name) is not None}
        given = {
            self.renamed.get(name, name): value
            for name, value in own.items()
            if value not in (None, "")
        }
        return {**self._unshown(), **given}

    def _unshown(self) -> dict[str, Any]:
        """What the stored reading says, by an import, that this form does not show."""
        shown = {self.renamed.get(name, name) for name in self.fields if name not in _NOT_DATA}
        if "instrument" in shown:
            shown.add("meter")
        return {key: value for key, value in self._stored().items() if key not in shown}

    def _split_products(self, own: dict[str, Any]) -> None:
        """Store volts times amps that were written into a field as volts and amps.

        A form without those keeps their product. Refused if volts or amps are given too.
        """
        if "volts" not in self.fields:
            return
        for name in ("watts", "va"):
            text = self.data.get(self.add_prefix(name)) or ""
            pair = volts_amps(plain_quantity(text, "W")) if name in self.fields else None
            if pair is None:
                continue
            if pair[0] <= MOST_DC_V:
                self._keep_dc_volts(own, pair[0])
                continue
            if own.get("volts") is not None or own.get("amps") is not None:
                raise DocumentError(name, "holds volts and amps, and so do their own fields")
            own |= {name: None, "volts": pair[0], "amps": pair[1]}

    def _keep_dc_volts(self, own: dict[str, Any], volts: float) -> None:
        """Store the volts of a product whose watts a DC load's field has taken."""
        if self.load is not None and self.load.dc and own.get("volts") is None:
            own["volts"] = volts

    def _name_meter(self, own: dict[str, Any]) -> None:
        """Store a person's own meter by name and class, with its counter's resolution."""
        chosen = own.get("instrument") or ""
        if self.load is None or not chosen.startswith(OWN):
            return
        name = chosen.removeprefix(OWN)
        meter = self.load.job.meters().get(name)
        if meter is None:
            # Offered since the reading names it: its class stays as it was stored.
            own |= {"instrument": self._stored().get("instrument"), "meter": name}
            return
        own |= {"instrument": meter.key, "meter": meter.name}
        if "step_wh" in own and own["step_wh"] is None:
            own["step_wh"] = meter.steps.get("wh")

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean() or {}
        self.check_version(cleaned)
        self.ask(cleaned)
        if not self.errors:
            try:
                self.data_to_store = self.document(cleaned)
                if self.load is not None:
                    reading = parse({"type": self.type, **self.data_to_store})
                    self._check_of_load(reading, self.load)
            except DocumentError as error:
                self.add_core_error(error, {key: name for name, key in self.renamed.items()})
        return cleaned

    def _check_of_load(self, reading: CoreReading, load: Load) -> None:
        meter = load.job.meters().get(reading.context.meter_name)
        if meter and (words := beyond(reading, meter)):
            raise DocumentError("instrument", words)
        if load.dc and needs_volts(reading) and not self._volts_beside(load):
            raise DocumentError("volts", "are needed too: on DC amps alone are no watts")

    def as_reading(self, made_at: datetime | None = None) -> dict[str, Any]:
        """Arguments of :func:`web.loads.actions.add_reading` from a valid form.

        ``made_at`` is when it was typed, if that was not just now.
        """
        cleaned = self.cleaned_data
        return {
            "data": self.data_to_store,
            "read_at": cleaned["read_at"] or made_at,
            "note": cleaned["note"],
            "client_key": client_key(self),
            "picture": cleaned["photo"],
        }

    def main_fields(self) -> list[forms.BoundField]:
        return [field for field in self.visible_fields() if field.name not in self.aside]

    def more_fields(self) -> list[forms.BoundField]:
        """Fields in the fold; the photo stands by the button that saves."""
        aside = (field for field in self.visible_fields() if field.name in self.aside)
        return [field for field in aside if field.name != "photo"]


#: Figures that a meter shows at one moment.
METER_FIGURES = ("watts", "volts", "amps", "va", "pf", "hz")
#: Before the name of one's own meter among the choices of an instrument.
OWN = "own:"
_NOT_DATA = ("client_key", "version", "read_at", "note", "photo", "counter_unit")


def _instrument(*keys: str) -> forms.ChoiceField:
    return forms.ChoiceField(
        choices=[(key, INSTRUMENTS[key].name) for key in keys], initial=keys[0], required=False
    )


def _volts(**kwargs: Any) -> QuantityField:
    return QuantityField("V", label="Volts", most=MOST_V, above=True, required=False, **kwargs)


def _amps(**kwargs: Any) -> QuantityField:
    return QuantityField("A", label="Amps", most=MOST_A, required=False, **kwargs)


def _counter_unit() -> forms.ChoiceField:
    return forms.ChoiceField(
        label="Meter shows",
        required=False,
        choices=[(unit, unit) for unit in COUNTER_UNITS],
        widget=forms.Select(attrs={"data-counter-unit": ""}),
    )


def _room() -> QuantityField:
    return QuantityField("°C", label="Room", least=-60, most=80, required=False)


#: Share of its time that a load runs at the least: by itself, and of one used now and then.
LEAST_DUTY, LITTLE_USED = 0.1, 0.01


class SpotForm(ReadingForm):
    type = "spot"
    caution = (
        "A plug meter needs no open panel. If this load is hard-wired, stop here and have a "
        "licensed electrician clamp one conductor."
    )
    dc_caution = (
        "A battery gives hundreds of amps into a short circuit. Use a clamp for DC around one wire "
        "of what must not stop; else take out the fuse of this line before a meter goes into it."
    )
    state = forms.CharField(
        max_length=40,
        initial="running",
        widget=forms.TextInput(attrs={"list": "states"}),
        help_text="running, resting, heating, defrost, boost…",
    )
    watts = QuantityField("W", label="Watts", most=MOST_W, required=False, read_on_meter=True)
    volts = _volts()
    amps = _amps()
    va = QuantityField("VA", label="VA", most=MOST_W, required=False)
    pf = QuantityField("share", label="Power factor", most=1.0, required=False)
    hz = QuantityField("Hz", label="Hertz", most=500, above=True, required=False)
    instrument = _instrument("plug", "clamp", "logger", "shunt", "display")

    @staticmethod
    def usual_of(kind: Kind, cleaned: Mapping[str, Any]) -> dict[str, tuple[float, float]]:
        least, most = kind.usual_w
        least = 0.0 if cleaned.get("state") != "running" else least
        return {"watts": (least, most), "va": (least, 2 * most)}


class StartForm(ReadingForm):
    type = "start"
    caution = "Clamp one insulated conductor only; around a whole cable the currents cancel."
    amps = _amps(help_text="The highest seen just after switching on.")
    volts = _volts()
    va = QuantityField("VA", label="VA", most=MOST_W * 10, above=True, required=False)
    watts = QuantityField(
        "W", label="Watts", most=MOST_W * 10, above=True, required=False, read_on_meter=True
    )
    seconds = QuantityField("s", label="How long", most=60, above=True, required=False)
    instrument = _instrument("clamp", "plug", "logger", "display")


class EnergyForm(ReadingForm):
    type = "energy"
    caution = "Was the counter reset when the time began? Give the span, not the time of day."
    wh = QuantityField("Wh", label="Counter shows", most=MOST_WH, help_text="Since the reset.")
    counter_unit = _counter_unit()
    hours = QuantityField(
        "h", label="Elapsed", most=HOURS_PER_YEAR * 5, above=True, help_text="Such as 21 h 30."
    )
    step_wh = QuantityField(
        "Wh",
        label="Last digit",
        most=10_000,
        required=False,
        help_text="What one step of the counter is; 10 Wh where it shows 0.01 kWh.",
    )
    room_c = _room()
    instrument = _instrument("plug", "logger", "usb", "shunt", "display")
    counted = forms.ChoiceField(
        label="Counted at",
        required=False,
        choices=[("", "where that meter sits"), ("ac", "the plug"), ("dc", "a USB or DC output")],
    )

    @staticmethod
    def usual_of(kind: Kind, cleaned: Mapping[str, Any]) -> dict[str, tuple[float, float]]:
        hours = cleaned.get("hours")
        if not hours:
            return {}
        least, most = kind.usual_w
        # What is used now and then may have run for minutes of many hours.
        share = LITTLE_USED if kind.by_use else LEAST_DUTY
        return {"wh": (share * least * hours, most * hours)}

    @staticmethod
    def not_of(load: Load) -> tuple[str, ...]:
        fed_by_adapter = load.core_kind.adapter and not load.dc
        return () if fed_by_adapter else ("counted",)


class TallyForm(ReadingForm):
    type = "tally"
    caution = "Begin and end on the same kind of moment: cut-off cycles at the ends bias the duty."
    edges = forms.CharField(
        label="On and off moments",
        max_length=20_000,
        widget=forms.Textarea(attrs={"rows": 5, "placeholder": "on 0:00\noff 6:50\non 21:30"}),
        help_text="One a line, minutes:seconds since you began, or clock times with seconds.",
    )
    room_c = _room()

    def initial_from(self, data: Mapping[str, Any]) -> dict[str, Any]:
        pairs = tuple((str(name), float(at)) for name, at in data.get("edges", []))
        return {**data, "edges": written(pairs)}

    def document(self, cleaned: Mapping[str, Any]) -> dict[str, Any]:
        moments = [list(moment) for moment in parse_moments(cleaned["edges"])]
        return {**super().document(cleaned), "edges": moments}


class DutyForm(ReadingForm):
    type = "duty"
    shares: ClassVar = ("low", "high")
    caution = "A guess, grade D: it shows what follows from it, until a tally or a counter knows."
    feel = forms.ChoiceField(
        label="It is on",
        required=False,
        choices=[
            ("", "as given beside"),
            *(
                (feel, f"{feel} ({low * 100:.0f} to {high * 100:.0f} % of the time)")
                for feel, (low, high) in FEELS.items()
            ),
        ],
    )
    low = share_field(
        label="Or: on for at least",
        above=True,
        required=False,
        help_text="Of the time, in percent.",
    )
    high = share_field(label="On for at most", above=True, required=False)


class ShortRunForm(ReadingForm):
    type = "short-run"
    caution = "For what is over within minutes: kettle, microwave, pump, printer."
    watts = QuantityField("W", label="Watts while on", most=MOST_W, above=True, read_on_meter=True)
    seconds = QuantityField(
        "s", label="On for", most=MOST_H * 3600, above=True, help_text="Such as 90 s or 3 min."
    )
    times_per_day = NumberField(
        label="Times a day",
        min_value=0.001,
        max_value=1e5,
        required=False,
        help_text="0.5 is every other day.",
    )
    instrument = _instrument("plug", "clamp", "logger", "shunt", "display")

    @staticmethod
    def usual_of(kind: Kind, cleaned: Mapping[str, Any]) -> dict[str, tuple[float, float]]:
        return {"watts": kind.usual_w}


class TaskForm(ReadingForm):
    type = "task"
    caution = "Energy of a task is the counter after less the counter before."
    before = QuantityField(
        "Wh", label="Counter before", most=MOST_WH, required=False, help_text="0 after a reset."
    )
    wh = QuantityField("Wh", label="Counter after", most=MOST_WH, above=True)
    counter_unit = _counter_unit()
    minutes = QuantityField("min", label="Took", most=60 * 24 * 30, above=True, required=False)
    pieces = NumberField(
        min_value=0.001, max_value=1e6, required=False, help_text="Packs, cups, prints…"
    )
    runs = WholeNumberField(
        label="Tasks counted", min_value=1, max_value=10_000, required=False, initial=1
    )
    instrument = _instrument("plug", "logger", "shunt", "display")

    def document(self, cleaned: Mapping[str, Any]) -> dict[str, Any]:
        document = super().document(cleaned)
        before = document.pop("before", 0.0)
        if before >= document["wh"]:
            raise DocumentError("wh", "the counter after is not above the counter before")
        return {**document, "wh": round(document["wh"] - before, 6)}


class ChargeDropForm(ReadingForm):
    type = "charge-drop"
    renamed: ClassVar = {"charge_from": "from", "charge_to": "to"}
    shares: ClassVar = ("charge_from", "charge_to", "efficiency", "step")
    caution = "Only this load may hang on the supply meanwhile."
    supply_wh = QuantityField(
        "Wh",
        label="Supply holds",
        most=MOST_WH,
        above=True,
        help_text="Such as 1,02 kWh or 100 Ah @ 12.8 V.",
    )
    proven = forms.BooleanField(
        label="Measured, not from its label",
        required=False,
        help_text="A capacity test or a trial told what it holds.",
    )
    charge_from = share_field(label="Charge before", help_text="In percent.")
    charge_to = share_field(label="Charge after")
    hours = QuantityField("h", label="Elapsed", most=HOURS_PER_YEAR * 5, above=True)
    idle_w = QuantityField(
        "W",
        label="Supply's own idle",
        most=10_000,
        required=False,
        help_text="What it draws with nothing plugged in; empty where it is not known.",
    )
    efficiency = share_field(
        label="Conversion",
        above=True,
        required=False,
        help_text="The inverter's on an AC route, 100 % on a DC one; empty where it is not known.",
    )
    step = share_field(label="Display step", above=True, most=50.0, required=False)

    def document(self, cleaned: Mapping[str, Any]) -> dict[str, Any]:
        return super().document({**cleaned, "proven": cleaned["proven"] or None})


class LabelForm(ReadingForm):
    type = "label"
    settable = False
    caution = "Labels give bounds, not answers: often 1.2 to 4 times the running mean."
    watts = QuantityField(
        "W", label="Watts", most=MOST_W, above=True, required=False, help_text="Or 1/2 hp."
    )
    va = QuantityField("VA", label="VA", most=MOST_W, above=True, required=False)
    amps = QuantityField("A", label="Amps", most=MOST_A, above=True, required=False)
    volts = _volts()
    kwh_per_year = QuantityField(
        "kWh/yr", label="Energy label", most=100_000, above=True, required=False
    )
    horsepower = QuantityField(
        "hp", label="Horsepower", most=100, above=True, required=False, help_text="At the shaft."
    )
    breaker_a = QuantityField("A", label="Breaker", most=MOST_A, above=True, required=False)

    @staticmethod
    def usual_of(kind: Kind, cleaned: Mapping[str, Any]) -> dict[str, tuple[float, float]]:
        return {"watts": usual_label_w(kind)}

    def document(self, cleaned: Mapping[str, Any]) -> dict[str, Any]:
        return at_the_shaft(super().document(cleaned), self["watts"].value())


FORMS: dict[str, type[ReadingForm]] = {
    form.type: form
    for form in (
        SpotForm,
        StartForm,
        EnergyForm,
        TallyForm,
        DutyForm,
        TaskForm,
        ShortRunForm,
        ChargeDropForm,
        LabelForm,
    )
}
