"""Forms of a plan's charging sources."""

from __future__ import annotations

import re
from typing import Any, ClassVar

from django import forms
from django.utils import timezone

from needle.document import DocumentError
from needle.fields import Field, Fields, Flag, Number, Rows, Text
from needle.plan.documents.places import TOWNS
from needle.plan.sources.registry import KINDS, parse_sources
from needle.quantity import QuantityError, parse
from needle.usage.schedule import spans_from_text, text_of_use
from web.common.fields import NumberField, QuantityField, share_field
from web.common.forms import OnceMixin, PercentMixin
from web.plans.draft import Draft
from web.plans.models import PlanSource
from web.plans.panels import shown_sun, sun_data


class SourceForm(PercentMixin, OnceMixin, forms.Form):
    """Base of the source forms: fields named as the document's keys, validated by the core."""

    kind: ClassVar[str]
    #: What its folded part holds.
    more: ClassVar[str] = "More"
    #: Keys of the document that it writes beside those that its fields are named as.
    writes: ClassVar[tuple[str, ...]] = ()
    name = forms.CharField(max_length=60)
    input = forms.ChoiceField(required=False, help_text="Of the supply: it limits what comes in.")
    taken_in = forms.BooleanField(required=False, initial=True, label="Counted in this plan")

    def __init__(self, *args: Any, source: PlanSource, draft: Draft, **kwargs: Any) -> None:
        self.source, self.draft = source, draft
        if source.pk:
            kwargs["initial"] = {"name": source.name, "taken_in": source.taken_in, **source.data}
        super().__init__(*args, **kwargs)
        inputs = draft.supply.known_inputs() if draft.supply else []
        self.fields["input"].choices = [("", "the one that fits")] + [  # type: ignore[attr-defined]
            (charge_input.name, charge_input.name) for charge_input in inputs
        ]
        self.add_guards(source.version if source.pk else None)
        self.show_shares()

    def to_data(self, cleaned: dict[str, Any]) -> dict[str, Any]:
        """The document's keys from the cleaned fields."""
        own = ("name", "taken_in", "client_key", "version")
        return {
            key: value
            for key, value in cleaned.items()
            if key not in own and value not in (None, "")
        }

    def _unshown(self) -> dict[str, Any]:
        """What its source says that the form does not show, from an import: an edit keeps it."""
        shown = (*self.fields, *self.writes)
        return {key: value for key, value in self.source.data.items() if key not in shown}

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean() or self.cleaned_data
        self.check_version(cleaned)
        self.store_shares(cleaned)
        if self.errors or self.draft.supply is None:
            return cleaned
        try:
            data = {**self._unshown(), **self.to_data(cleaned)}
            document = {"kind": self.kind, "name": cleaned["name"], **data}
            zone = timezone.get_current_timezone()
            parse_sources([document], zone, self.draft.supply.to_core())
        except DocumentError as error:
            self.add_core_error(error)
        else:
            self.source.kind, self.source.name = self.kind, cleaned["name"]
            self.source.taken_in, self.source.data = cleaned["taken_in"], data
        return cleaned


class SunForm(SourceForm):
    kind = "sun"
    writes = ("latitude", "longitude")
    shares: ClassVar = ("yield", "clouds")
    main: ClassVar = ("name", "rated_w", "place", "tilt", "azimuth", "clouds")
    more = "Strings, shade, what was measured"
    rated_w = QuantityField(
        "W", label="Rated", above=True, help_text="All panels of one aim, as printed on them."
    )
    place = forms.CharField(
        max_length=60,
        label="Near",
        widget=forms.TextInput(attrs={"list": "towns", "autocomplete": "off"}),
        help_text="A town, or degrees: 38.7, −9.1 (north, east).",
    )
    tilt = forms.CharField(max_length=20, initial="30", help_text="flat, roof, wall, or degrees.")
    azimuth = forms.CharField(
        max_length=20,
        initial="south",
        label="Faces",
        help_text="south, SE, or degrees: 90 is east.",
    )
    clouds = share_field(label="Clouds", initial=50, help_text="Share of the sky.")
    strings = forms.CharField(
        max_length=600,
        required=False,
        label="More strings",
        widget=forms.Textarea(attrs={"rows": 2, "placeholder": "400 W, flat, east"}),
        help_text="A line each: rated watts, tilt, which way it faces.",
    )
    connected = forms.CharField(
        max_length=200,
        required=False,
        label="Connected only",
        widget=forms.TextInput(attrs={"placeholder": "09:00–15:00"}),
    )
    shade = forms.CharField(
        max_length=200,
        required=False,
        label="In shade",
        widget=forms.TextInput(attrs={"placeholder": "15:00–18:00"}),
        help_text="A fifth is left of it then.",
    )
    measured = forms.CharField(
        max_length=8000,
        required=False,
        label="Measured",
        widget=forms.Textarea(
            attrs={"rows": 3, "placeholder": "2026-11-20 2.1 kWh\n2026-11-21 12:30 410 W"}
        ),
        help_text="Wh of whole days, or W in full sun with the time: they come before the sky.",
    )

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["yield"] = share_field(
            label="Real yield",
            initial=72,
            above=True,
            help_text="Of rated at best sun: heat, dirt and wires take the rest.",
        )
        if self.source.pk:
            self.initial = {**self.initial, **shown_sun(self.source.data)}

    @property
    def towns(self) -> list[str]:
        return list(TOWNS)

    def to_data(self, cleaned: dict[str, Any]) -> dict[str, Any]:
        return sun_data(super().to_data(cleaned))


class WindowForm(SourceForm):
    kind = "window"
    writes = ("between",)
    main: ClassVar = ("name", "watts", "measured_w", "hours", "litres_per_kwh")
    watts = QuantityField("W", label="Charger", above=True, help_text="As stated on it.")
    measured_w = QuantityField(
        "W",
        label="Measured",
        above=True,
        required=False,
        help_text="What really went into the battery: comes before what is stated.",
    )
    hours = forms.CharField(
        max_length=300, label="Runs", widget=forms.TextInput(attrs={"placeholder": "18:30–20:30"})
    )
    litres_per_kwh = NumberField(
        required=False,
        min_value=0,
        max_value=5,
        label="Fuel",
        help_text="Litres a kWh, of a generator. Outdoors, far from openings.",
    )

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.initial["hours"] = text_of_use({"between": self.source.data.get("between", [])})

    def to_data(self, cleaned: dict[str, Any]) -> dict[str, Any]:
        data = super().to_data(cleaned)
        data["between"] = spans_from_text(data.pop("hours"), "hours")
        if not data["between"]:
            raise DocumentError("hours", "say when it runs, such as 18:30–20:30")
        return data


class DeclaredSourceForm(SourceForm):
    """The form of a source from its declared fields that have a label."""

    fields_of: ClassVar[Fields]

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        for key, field in self.fields_of.items():
            if field.label:
                self.fields[key] = _form_field(field)
                if self.source.pk and isinstance(field, Rows):
                    self.initial[key] = _text_of_rows(self.source.data.get(key, []))

    def to_data(self, cleaned: dict[str, Any]) -> dict[str, Any]:
        data = super().to_data(cleaned)
        for key, field in self.fields_of.items():
            if isinstance(field, Rows) and key in data:
                data[key] = _rows_from_text(data[key], key, field)
        return data


def _form_field(field: Field) -> forms.Field:
    """The form's field for a declared one."""
    meaning = field.meaning.replace("`", "")
    help_text = f"{meaning[:1].upper()}{meaning[1:]}."
    if isinstance(field, Number) and field.unit == "share":
        usual = None if field.default is None else 100 * field.default
        return share_field(label=field.label, initial=usual, required=False, help_text=help_text)
    if isinstance(field, Number):
        return QuantityField(
            field.unit,
            label=field.label,
            least=field.least,
            most=field.most,
            above=field.above,
            required=field.needed,
            help_text=help_text,
        )
    if isinstance(field, Flag):
        return forms.BooleanField(label=field.label, required=False, help_text=help_text)
    if isinstance(field, Text):
        return forms.CharField(
            max_length=field.most, label=field.label, required=field.needed, help_text=help_text
        )
    if isinstance(field, Rows):
        units = ", ".join(column.unit for column in field.columns.values())
        return forms.CharField(
            max_length=4000,
            label=field.label,
            required=False,
            widget=forms.Textarea(attrs={"rows": 3}),
            help_text=f"{help_text[:-1]}; a line each: {units}.",
        )
    raise TypeError(type(field).__name__)


def _rows_from_text(text: str, key: str, field: Rows) -> list[list[float]]:
    """Rows of figures, a line each, with or without their units.

    Raises
    ------
    DocumentError
        A line has another number of figures than there are columns, or one that cannot be read.
    """
    rows = []
    for number, line in enumerate(text.strip().splitlines(), 1):
        figures = re.findall(r"[-−+]?\d+(?:[.,]\d+)*\s*[^\d\s;,.+−-]*", line)
        if len(figures) != len(field.columns):
            meanings = ", ".join(column.meaning for column in field.columns.values())
            raise DocumentError(key, f"line {number}, “{line[:30]}”, is not {meanings}")
        units = (column.unit for column in field.columns.values())
        try:
            read = [parse(each, unit).value for each, unit in zip(figures, units, strict=True)]
        except QuantityError as error:
            raise DocumentError(key, f"line {number}: {error}") from None
        rows.append(read)
    return rows


def _text_of_rows(rows: list[list[float]]) -> str:
    return "\n".join("  ".join(f"{figure:.10g}" for figure in row) for row in rows)


_OWN_FORMS = {form.kind: form for form in (SunForm, WindowForm)}


def _declared_form(kind: str) -> type[SourceForm]:
    fields = KINDS[kind].FIELDS
    labelled = [key for key, field in fields.items() if field.label]
    shares = tuple(key for key in labelled if getattr(fields[key], "unit", "") == "share")
    main = ("name", *labelled)
    of_kind = {"kind": kind, "fields_of": fields, "main": main, "shares": shares}
    return type(f"{KINDS[kind].__name__}Form", (DeclaredSourceForm,), of_kind)


#: The form of each kind of source: its own, or made from its declared fields.
SOURCE_FORMS: dict[str, type[SourceForm]] = {
    kind: _OWN_FORMS.get(kind) or _declared_form(kind) for kind in KINDS
}
