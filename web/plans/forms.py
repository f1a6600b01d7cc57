"""Forms of a plan, of how it uses one load, and of its sources."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

from django import forms

from needle.document import DocumentError
from needle.plan.load import AC
from needle.plan.plan import MOST_HOURS
from needle.profile.cost import named_settings
from needle.profile.kinds import Kind
from needle.supply.chemistry import CHEMISTRIES
from needle.usage.schedule import (
    spans_from_text,
    steps_from_text,
    text_of_steps,
    text_of_use,
    use_from_text,
)
from needle.usage.usual_use import usual_use_from_text
from needle.words.figures import fahrenheit
from web.common.fields import QuantityField, WholeNumberField, moment_field, share_field
from web.common.forms import OnceMixin, PercentMixin, RecordForm
from web.common.units import celsius, temperature, units
from web.jobs.models import Job
from web.plans.draft import Draft
from web.plans.models import Plan, PlanEntry
from web.plans.used import UsedLoad

_HOURS = {"placeholder": "such as 23:00–06:00"}


def floor_of(plan: Plan) -> float | None:
    """The floor of a plan; None if neither it nor a supply has one."""
    if plan.floor is not None or plan.supply is None:
        return plan.floor
    usual = CHEMISTRIES[plan.supply.chemistry].floor
    return usual if plan.supply.floor is None else plan.supply.floor


class PlanForm(PercentMixin, RecordForm):
    needed_hours = QuantityField("h", label="Hours needed", least=0.1, most=MOST_HOURS)
    start = moment_field(label="Begins")
    room_c = QuantityField(
        "°C",
        label="Room",
        least=-60,
        most=80,
        required=False,
        help_text="Mean over the day: moves cold and warm boxes whose set point is known.",
    )
    room_swing_c = QuantityField(
        "°C",
        label="Room swings by",
        most=40,
        required=False,
        difference=True,
        help_text="Up at 15:00 and down at night by so much.",
    )
    start_charge = share_field(label="Charge at start", above=True)
    floor = share_field(
        label="Floor", most=95, required=False, help_text="Empty: as the supply has it."
    )
    odds = share_field(
        label="How sure do you want to be?",
        above=True,
        most=99,
        required=False,
        help_text="How sure it must be that it lasts; empty: 90 %.",
    )
    rests = forms.CharField(
        label="Inverter rests",
        required=False,
        max_length=200,
        widget=forms.TextInput(attrs=_HOURS),
        help_text="Nothing on AC runs then.",
    )

    shares: ClassVar = ("start_charge", "floor", "odds")
    main: ClassVar = ("name", "supply", "needed_hours", "start", "room_c", "start_charge")

    class Meta:
        model = Plan
        fields = [
            "name",
            "supply",
            "needed_hours",
            "start",
            "room_c",
            "room_swing_c",
            "start_charge",
            "floor",
            "odds",
            "note",
        ]

    def __init__(self, *args: Any, job: Job, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["supply"].queryset = job.supplies.live()  # type: ignore[attr-defined]
        self.fields["supply"].empty_label = "the first one"  # type: ignore[attr-defined]
        self.initial["rests"] = text_of_use({"between": self.instance.inverter_off})
        self.show_shares()

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        self.store_shares(cleaned)
        if cleaned.get("odds") is None:
            cleaned["odds"] = Plan._meta.get_field("odds").default
        try:
            self.instance.inverter_off = spans_from_text(cleaned.get("rests") or "", "rests")
        except DocumentError as error:
            self.add_core_error(error)
        check_charge(self, Plan(supply=cleaned.get("supply"), floor=cleaned.get("floor")))
        return cleaned


def check_charge(form: forms.BaseForm, plan: Plan) -> None:
    """Refuse a start charge at or below the floor."""
    charge, floor = form.cleaned_data.get("start_charge"), floor_of(plan)
    if charge is not None and floor is not None and charge <= floor:
        form.add_error(
            "start_charge",
            f"At {charge * 100:.3g} % it is already at its floor of {floor * 100:.3g} %.",
        )


class WhatIfForm(PercentMixin, OnceMixin, forms.Form):
    """Conditions of a plan that can be tried without storing them."""

    room_c = forms.FloatField(label="Room", min_value=-76, max_value=176, required=False)
    clouds = forms.FloatField(label="Clouds", min_value=0, max_value=100, required=False)
    start_charge = forms.FloatField(label="Charge at start", min_value=1, max_value=100)
    floor = forms.FloatField(label="Floor", min_value=0, max_value=95)
    needed_hours = forms.FloatField(label="Hours needed", min_value=0.1, max_value=MOST_HOURS)
    odds = forms.FloatField(label="How sure?", min_value=1, max_value=99)

    shares: ClassVar = ("clouds", "start_charge", "floor", "odds")
    #: Slider: least, most, step, unit.
    sliders: ClassVar = {
        "room_c": (-10, 45, 1, "°C"),
        "clouds": (0, 100, 5, "%"),
        "start_charge": (5, 100, 1, "%"),
        "floor": (0, 90, 1, "%"),
        "needed_hours": (1, 96, 1, "h"),
        "odds": (50, 99, 1, "%"),
    }

    def __init__(self, *args: Any, draft: Draft, **kwargs: Any) -> None:
        self.draft, plan = draft, draft.plan
        suns = [source.data.get("clouds", 0.5) for source in draft.sources if source.kind == "sun"]
        floor = floor_of(Plan(supply=draft.supply, floor=plan.floor))
        kwargs["initial"] = {
            "room_c": plan.room_c,
            "clouds": suns[0] if suns else None,
            "start_charge": plan.start_charge,
            "floor": floor,
            "needed_hours": plan.needed_hours,
            "odds": plan.odds,
        }
        super().__init__(*args, **kwargs)
        self.show_shares()
        for name, (least, most, step, unit) in self._shown_sliders().items():
            far = max(most, min(MOST_HOURS, 2 * plan.needed_hours)) if unit == "h" else most
            self.fields[name].widget = forms.NumberInput(
                attrs={"type": "range", "min": least, "max": far, "step": step, "data-unit": unit}
            )
        if not suns:
            del self.fields["clouds"]
        if plan.room_c is None:
            del self.fields["room_c"]

    def _shown_sliders(self) -> Mapping[str, tuple[float, float, float, str]]:
        """Sliders in the person's own units."""
        if not units().fahrenheit:
            return self.sliders
        least, most, step, _ = self.sliders["room_c"]
        if self.initial["room_c"] is not None:
            self.initial["room_c"] = round(fahrenheit(self.initial["room_c"]), 1)
        return {**self.sliders, "room_c": (fahrenheit(least), fahrenheit(most), step, "°F")}

    def clean_room_c(self) -> float | None:
        room: float | None = self.cleaned_data["room_c"]
        if room is None:
            return None
        room = celsius(room) if units().fahrenheit else room
        if not -60 <= room <= 80:
            raise forms.ValidationError(
                f"A room is between {temperature(-60)} and {temperature(80)}."
            )
        return room

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean() or self.cleaned_data
        self.store_shares(cleaned)
        check_charge(self, Plan(supply=self.draft.supply, floor=cleaned.get("floor")))
        return cleaned

    def apply(self) -> Draft:
        """The draft under these conditions, in memory."""
        plan = self.draft.plan
        for name in ("room_c", "start_charge", "floor", "needed_hours", "odds"):
            if name in self.changed_data:
                setattr(plan, name, self.cleaned_data[name])
        for source in self.draft.sources:
            if source.kind == "sun" and "clouds" in self.changed_data:
                source.data = {**source.data, "clouds": self.cleaned_data["clouds"]}
        return self.draft


class EntryForm(RecordForm):
    """How a plan uses one load; times are text."""

    use = forms.CharField(
        required=False,
        max_length=400,
        widget=forms.TextInput(attrs={"placeholder": "always, or 18:00–22:30, or at 20:15"}),
    )

    class Meta:
        model = PlanEntry
        fields = ["taken_in", "count"]
        field_classes: ClassVar = {"count": WholeNumberField}

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        always = "always" if self.instance.always else ""
        self.fields["use"].initial = text_of_use(self.instance.use) or always

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        try:
            self._read_use(cleaned.get("use") or "")
        except DocumentError as error:
            self.add_core_error(error)
        return cleaned

    def _read_use(self, text: str) -> None:
        """Store a use from text; a duration becomes a step at running W.

        Raises
        ------
        DocumentError
        """
        entry, spoken = self.instance, dict[str, Any]()
        try:
            use = use_from_text(text)
        except DocumentError:
            use = spoken = usual_use_from_text(text)
        if "hours" in spoken:
            raise DocumentError("use", "say from when to when, such as 18:00–23:00")
        if "times" in spoken:
            words = "say when in this plan: 19:00 for every day, or once with its date before it"
            raise DocumentError("use", words)
        entry.use = use
        entry.always = bool(text.strip()) and not entry.use
        profile = entry.load.profile(entry.setting)
        if "minutes" in spoken and profile is not None:
            watts = profile.running_w.value
            entry.steps = [{"watts": watts, "minutes": spoken["minutes"], "duty": 1.0}]


class EntryDetailsForm(EntryForm):
    """All details of a load in a plan."""

    route = forms.ChoiceField(required=False, label="Fed by")
    setting = forms.ChoiceField(required=False, label="Setting")
    set_c = QuantityField(
        "°C",
        label="Set point in this plan",
        least=-80,
        most=400,
        required=False,
        help_text="Only within the range that the contents' maker states.",
    )
    steps = forms.CharField(
        required=False,
        max_length=600,
        label="Steps of a task",
        widget=forms.TextInput(attrs={"placeholder": "1480 W 12 min; 1480 W 20 min 40 %"}),
        help_text="Empty: as measured, its highest watts for the share that its energy asks for.",
    )
    movable = forms.CharField(
        required=False,
        max_length=200,
        label="Tasks may be moved between",
        widget=forms.TextInput(attrs={"placeholder": "such as 07:00–22:00"}),
    )
    pack_wh = QuantityField("Wh", label="Pack it fills", above=True, required=False)
    missing = share_field(label="Share to refill", required=False, above=True)
    charge_w = QuantityField("W", label="Charged at", above=True, required=False)
    warm_kg = QuantityField(
        "kg",
        label="Contents to bring to it",
        most=5000,
        required=False,
        help_text="Put in warm (or cold) at the start: a pull-down, once.",
    )
    warm_c = QuantityField("°C", label="Contents temperature", least=-60, most=200, required=False)
    pull_down_h = QuantityField(
        "h",
        label="Or at full for",
        most=200,
        required=False,
        help_text="How long a warm start ran without a pause when you watched one, such as 3 h.",
    )

    class Meta:
        model = PlanEntry
        fields = [
            "taken_in",
            "count",
            "route",
            "setting",
            "set_c",
            "alone",
            "warm_kg",
            "warm_c",
            "pull_down_h",
        ]
        field_classes: ClassVar = {"count": WholeNumberField}

    def __init__(self, *args: Any, used: UsedLoad, draft: Draft, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        outputs = draft.supply.known_outputs() if draft.supply else []
        usual, routes = "AC, by the inverter", [(output.name, output.name) for output in outputs]
        if used.load.dc:
            # It runs on DC: that is where it is counted unless somebody says otherwise.
            routes.append((AC, usual))
            usual = f"DC, by {used.route}" if used.route != AC else usual
        self.fields["route"].choices = [("", usual), *routes]  # type: ignore[attr-defined]
        names = named_settings(used.load.to_core())
        others = [(name, name) for name in names if name != used.load.setting]
        settings = [("", used.load.setting or "as measured"), *others]
        self.fields["setting"].choices = settings  # type: ignore[attr-defined]
        labels = {"use": "In use", "count": "How many", "taken_in": "Counted in this plan"}
        for name, words in labels.items():
            self.fields[name].label = words
        self.initial = {**self.initial, **self._initial_texts()}
        self._leave_out(used.load.core_kind)

    #: Words of each group, and its fields.
    grouped: ClassVar = (
        ("", ("use", "count", "route", "setting", "taken_in")),
        ("Tasks", ("steps", "movable", "alone")),
        ("Or a pack to fill, at each of those times", ("pack_wh", "missing", "charge_w")),
        ("Set point and contents", ("set_c", "warm_kg", "warm_c", "pull_down_h")),
    )

    def _initial_texts(self) -> dict[str, Any]:
        """Steps, movable hours and charge of the entry, as their fields show them."""
        charge = self.instance.charge or {}
        return {
            "steps": text_of_steps(self.instance.steps),
            "movable": text_of_use({"between": self.instance.flexible}),
            "pack_wh": charge.get("pack_wh"),
            "missing": 100 * charge["missing"] if charge else None,
            "charge_w": charge.get("watts"),
        }

    def _leave_out(self, kind: Kind) -> None:
        """Remove empty fields that do not apply to the kind of load."""
        cold = kind.set_point == "cools"
        fitting = (True, not cold, kind.charges, bool(kind.set_point))
        for (_, names), fits in zip(self.grouped, fitting, strict=True):
            if not fits and not any(self.initial.get(name) for name in names):
                for name in names:
                    del self.fields[name]
        if len(self.fields["setting"].choices) == 1:  # type: ignore[attr-defined]
            del self.fields["setting"]

    def groups(self) -> list[tuple[str, list[forms.BoundField]]]:
        return [
            (words, fields)
            for words, names in self.grouped
            if (fields := [self[name] for name in names if name in self.fields])
        ]

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        try:
            self._read_steps(cleaned)
        except DocumentError as error:
            self.add_core_error(error)
        self._read_charge(cleaned)
        if self.instance.charge and "use" in cleaned and not self.instance.moments:
            self.add_error("use", "Say when it is charged, such as at 19:00.")
        if (cleaned.get("warm_kg") is None) != (cleaned.get("warm_c") is None):
            self.add_error("warm_kg", "Give both: how much, and how warm it is.")
        if cleaned.get("warm_kg") is not None and cleaned.get("pull_down_h") is not None:
            self.add_error("pull_down_h", "Give the contents, or how long it took: not both.")
        return cleaned

    def _read_steps(self, cleaned: dict[str, Any]) -> None:
        """Store steps and movable hours from their texts.

        Raises
        ------
        DocumentError
        """
        if "steps" not in self.fields:
            return
        if steps := steps_from_text(cleaned.get("steps") or ""):
            self.instance.steps = steps
        elif "steps" in self.changed_data:
            self.instance.steps = []
        self.instance.flexible = spans_from_text(cleaned.get("movable") or "", "movable")

    def _read_charge(self, cleaned: dict[str, Any]) -> None:
        """Store the charge of a pack from its three fields."""
        given = [cleaned.get(name) for name in ("pack_wh", "missing", "charge_w")]
        pack, missing, watts = given
        if "pack_wh" in self.fields:
            self.instance.charge = None
        if pack and missing and watts:
            self.instance.charge = {"pack_wh": pack, "missing": missing / 100, "watts": watts}
        elif any(given):
            self.add_error("pack_wh", "A charge needs all three: the pack, the share, the watts.")
