"""Forms of a drill: actions, plan and answer."""

from __future__ import annotations

from typing import Any

from django import forms

from needle.drill.answer import DrillAnswer
from needle.drill.drill import Drill
from needle.drill.session import ALWAYS, COUNTER, MOST_TASKS, OUT, PLAN, RESET, SPOT, START, TASK
from web.common.fields import NumberField, QuantityField, WholeNumberField

#: Largest file of a drill, bytes.
MOST_BYTES = 200_000
#: What is done to chosen loads.
ON_A_LOAD = (SPOT, COUNTER, TASK, RESET, START)


#: When a load runs, as a plan has it.
BETWEEN = "between"
USES = [(ALWAYS, "all the time"), (BETWEEN, "from … to …"), (OUT, "not at all")]
ENDS = ("from", "to")


class OnceForm(forms.Form):
    """A form that acts once: it has the number of actions when it was rendered."""

    after = forms.IntegerField(required=False, widget=forms.HiddenInput)


class DoingForm(OnceForm):
    """An action: which loads, how long."""

    do = forms.CharField(max_length=12)
    loads = forms.MultipleChoiceField(required=False)
    hours = QuantityField("h", label="Hours", most=168, required=False)
    when = forms.ChoiceField(
        choices=[("running", "running"), ("resting", "resting")], required=False
    )
    whole_cable = forms.BooleanField(required=False)
    settle = forms.BooleanField(required=False)
    count = WholeNumberField(min_value=1, max_value=MOST_TASKS, required=False)

    def __init__(self, *args: Any, drill: Drill, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        names = [(load.name, load.name) for load in drill.loads]
        self.fields["loads"].choices = names  # type: ignore[attr-defined]

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean() or {}
        if cleaned.get("do") in ON_A_LOAD and not cleaned.get("loads") and not self.errors:
            self.add_error("loads", "Choose what is on the meter first.")
        return cleaned

    def doing(self) -> dict[str, Any]:
        """The action as in a session."""
        cleaned = self.cleaned_data
        doing: dict[str, Any] = {"do": cleaned["do"]}
        if cleaned["do"] in ON_A_LOAD:
            doing["loads"] = cleaned["loads"]
        if cleaned["hours"] is not None:
            doing["hours"] = cleaned["hours"]
        if cleaned["do"] == SPOT:
            doing["when"] = cleaned["when"] or "running"
        if cleaned["do"] == TASK:
            doing["count"] = cleaned["count"] or 1
        if cleaned["whole_cable"]:
            doing["whole_cable"] = True
        if cleaned["settle"]:
            doing["settle"] = True
        return doing


class PlanForm(OnceForm):
    """When each load runs on the supply, and the charge to keep; prefixes are loads."""

    floor = NumberField(unit="%", min_value=0, max_value=90, label="Stays in the pack, %")

    def __init__(self, *args: Any, drill: Drill, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.names = [load.name for load in drill.loads]
        for number in range(len(self.names)):
            self.fields[f"use-{number}"] = forms.ChoiceField(choices=USES)
            for end in ENDS:
                self.fields[f"{end}-{number}"] = forms.TimeField(required=False)

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean() or {}
        for number, name in enumerate(self.names):
            hours = [cleaned.get(f"{end}-{number}") for end in ENDS]
            if cleaned.get(f"use-{number}") == BETWEEN and None in hours and not self.errors:
                self.add_error(None, f"Give both hours between which {name} runs.")
        return cleaned

    def doing(self) -> dict[str, Any]:
        """The action as in a session."""
        uses: dict[str, Any] = {}
        for number, name in enumerate(self.names):
            use = self.cleaned_data[f"use-{number}"]
            if use == BETWEEN:
                first, last = (self.cleaned_data[f"{end}-{number}"] for end in ENDS)
                use = [[f"{first:%H:%M}", f"{last:%H:%M}"]]
            uses[name] = use
        return {"do": PLAN, "uses": uses, "floor": self.cleaned_data["floor"] / 100}


class AnswerForm(forms.Form):
    """A range, and yes or no."""

    low = NumberField(min_value=-1e9, max_value=1e9)
    high = NumberField(min_value=-1e9, max_value=1e9)
    yes = forms.ChoiceField(
        label="The client's question", choices=[("", "choose…"), ("yes", "yes"), ("no", "no")]
    )

    def __init__(self, *args: Any, unit: str, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["low"].label = f"At least, {unit}"
        self.fields["high"].label = f"At most, {unit}"

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean() or {}
        low, high = cleaned.get("low"), cleaned.get("high")
        if low is not None and high is not None and low > high:
            self.add_error("high", "It lies under the lower one.")
        return cleaned

    def given(self) -> DrillAnswer:
        cleaned = self.cleaned_data
        return DrillAnswer(cleaned["low"], cleaned["high"], cleaned["yes"] == "yes")


class DrillFileForm(forms.Form):
    """A teacher's drill."""

    file = forms.FileField(
        label="A drill from a teacher", widget=forms.ClearableFileInput(attrs={"accept": ".json"})
    )

    def clean_file(self) -> Any:
        file = self.cleaned_data["file"]
        if file.size > MOST_BYTES:
            raise forms.ValidationError("A drill's file has at most 200 kB.")
        return file
