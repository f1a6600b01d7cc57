"""What a learner does, and answers."""

from __future__ import annotations

from typing import Any

from django import forms

from needle.drill.answer import DrillAnswer
from needle.drill.drill import Drill
from needle.drill.session import COUNTER, RESET, SPOT, START
from web.common.fields import QuantityField

#: Largest file of a drill, bytes.
MOST_BYTES = 200_000
#: What is done to chosen loads.
ON_A_LOAD = (SPOT, COUNTER, RESET, START)


class DoingForm(forms.Form):
    """One thing to do; which loads, how long."""

    do = forms.CharField(max_length=12)
    loads = forms.MultipleChoiceField(required=False)
    hours = QuantityField("h", label="Hours", most=168, required=False)
    when = forms.ChoiceField(choices=[("running", "running"), ("resting", "resting")],
                             required=False)  # fmt: skip
    whole_cable = forms.BooleanField(required=False)

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
        """As a session has it."""
        cleaned = self.cleaned_data
        doing: dict[str, Any] = {"do": cleaned["do"]}
        if cleaned["do"] in ON_A_LOAD:
            doing["loads"] = cleaned["loads"]
        if cleaned["hours"] is not None:
            doing["hours"] = cleaned["hours"]
        if cleaned["do"] == SPOT:
            doing["when"] = cleaned["when"] or "running"
        if cleaned["whole_cable"]:
            doing["whole_cable"] = True
        return doing


class AnswerForm(forms.Form):
    """A range, and yes or no."""

    low = forms.FloatField(min_value=-1e9, max_value=1e9)
    high = forms.FloatField(min_value=-1e9, max_value=1e9)
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
