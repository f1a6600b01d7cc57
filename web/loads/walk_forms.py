"""The walk round: a list of loads that is filled standing in a room."""

from __future__ import annotations

from typing import Any

from django import forms

from needle.document import DocumentError
from needle.measure.readings import MOST_W
from needle.profile.appliances import APPLIANCES
from needle.profile.kinds import KINDS
from needle.profile.load_table import TableRow, appliance_named
from needle.quantity import with_unit
from needle.usage.usual_use import usual_use_from_text
from web.common.fields import QuantityField
from web.common.plausible import FAR
from web.jobs.models import Job
from web.loads.actions import WalkedLoad
from web.loads.forms import at_the_shaft, usual_label_w, with_mains_amps
from web.loads.models import Load
from web.loads.reading_forms import PhotoField

#: Loads of one walk, and empty rows that a page begins with.
MOST_ROWS, FIRST_ROWS = 60, 2
#: Where the watts of a row are from: the type of the reading that they make.
LABEL, METER = "label", "spot"


class WalkRowForm(forms.Form):
    """One load of the walk; a row in which nothing was entered is no load."""

    appliance = forms.ChoiceField(
        label="What is it?",
        required=False,
        choices=[("", "by its name"), *((item.key, item.name) for item in APPLIANCES.values())],
    )
    name = forms.CharField(label="Name", max_length=80, required=False)
    watts = QuantityField("W", label="Watts", most=MOST_W, above=True, required=False)
    read_from = forms.ChoiceField(
        label="Watts are from",
        required=False,
        choices=[(LABEL, "its label"), (METER, "the meter, running")],
        initial=LABEL,
    )
    often = forms.CharField(
        label="How often, how long?",
        max_length=120,
        required=False,
        widget=forms.TextInput(attrs={"placeholder": "5 hours a day", "list": "often"}),
    )
    note = forms.CharField(max_length=400, required=False, widget=forms.HiddenInput)
    sure = forms.BooleanField(label="The watts are right", required=False)
    photo = PhotoField(required=False)

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        for name in ("name", "often", "watts"):
            self.fields[name].widget.attrs["autocomplete"] = "off"
        self.asks_if_sure = False

    def has_changed(self) -> bool:
        """Whether a load was entered: where watts are from alone says nothing."""
        return bool({"name", "appliance", "watts", "often", "photo"} & set(self.changed_data))

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean() or self.cleaned_data
        self._choose_appliance(cleaned)
        self._check_watts(cleaned)
        try:
            cleaned["usual_use"] = usual_use_from_text(cleaned.get("often") or "")
        except DocumentError as error:
            self.add_error("often", error.sentence)
        if cleaned.get("photo") and cleaned.get("watts") is None and "watts" not in self.errors:
            self.add_error("watts", "Give the watts that the photo shows.")
        return cleaned

    def _choose_appliance(self, cleaned: dict[str, Any]) -> None:
        """Take the appliance that a name suggests where none was chosen."""
        name = cleaned.get("name") or ""
        cleaned["appliance"] = cleaned.get("appliance") or appliance_named(name)
        if not cleaned["appliance"] and "appliance" not in self.errors:
            self.add_error("appliance", f"Choose what “{name}” is." if name else "Choose one.")

    def _check_watts(self, cleaned: dict[str, Any]) -> None:
        """Ask about watts that are far from usual, unless they were said to be right."""
        watts, key = cleaned.get("watts"), cleaned.get("appliance")
        if watts is None or cleaned.get("sure") or key not in APPLIANCES:
            return
        least, most = usual_label_w(KINDS[APPLIANCES[key].kind])
        if not least / FAR <= watts <= most * FAR:
            self.asks_if_sure = True
            usual = f"{with_unit(least, 'W')} to {with_unit(most, 'W')}"
            self.add_error("watts", f"Usual is {usual}. Correct it, or say that it is right.")

    def walked(self, job: Job, name: str) -> WalkedLoad:
        """The load of a valid row, under a name that is free in the job."""
        cleaned = self.cleaned_data
        appliance = APPLIANCES[cleaned["appliance"]]
        load = Load(
            job=job,
            name=name,
            kind=appliance.kind,
            cares=appliance.safety,
            usual_use=cleaned["usual_use"],
            note=cleaned.get("note") or "",
        )
        if cleaned.get("watts") is None:
            return WalkedLoad(load)
        text = self["watts"].value()
        kind = cleaned.get("read_from") or LABEL
        data = with_mains_amps({"watts": cleaned["watts"]}, text)
        if kind == METER:
            data |= {"state": "running", "instrument": "plug"}
        else:
            data = at_the_shaft(data, text)
        return WalkedLoad(load, kind, data, cleaned.get("photo"))


class _BaseWalkFormSet(forms.BaseFormSet):  # type: ignore[type-arg]
    """Rows of a walk; names are free in the job, and each other's."""

    def __init__(self, *args: Any, job: Job, **kwargs: Any) -> None:
        self.job = job
        super().__init__(*args, **kwargs)

    def rows(self) -> list[WalkRowForm]:
        """Rows in which something was entered."""
        return [form for form in self.forms if form.has_changed()]

    def clean(self) -> None:
        if not any(self.errors) and not self.rows():
            raise forms.ValidationError("Nothing is entered yet.")
        taken = set(self.job.loads.live().values_list("name", flat=True))
        for form in self.rows():
            name = form.cleaned_data.get("name") or "" if hasattr(form, "cleaned_data") else ""
            if name and name in taken:
                form.add_error("name", f"There is a load called “{name}” already.")
            taken.add(name)

    def walked(self) -> list[WalkedLoad]:
        """The loads of a valid list."""
        taken = set(self.job.loads.live().values_list("name", flat=True))
        taken |= {form.cleaned_data.get("name") or "" for form in self.rows()}
        found = []
        for form in self.rows():
            name = form.cleaned_data.get("name") or ""
            if not name:
                short = APPLIANCES[form.cleaned_data["appliance"]].short
                names = (short, *(f"{short} {number}" for number in range(2, 1000)))
                name = next(other for other in names if other not in taken)
                taken.add(name)
            found.append(form.walked(self.job, name))
        return found


WalkFormSet: Any = forms.formset_factory(
    WalkRowForm,
    formset=_BaseWalkFormSet,
    extra=FIRST_ROWS,
    max_num=MOST_ROWS,
    absolute_max=MOST_ROWS,
)
PREFIX = "row"


def form_of_row(row: TableRow, number: int) -> WalkRowForm:
    """A row of a spreadsheet as a row of the walk: checked, with what is odd marked."""
    prefix = f"{PREFIX}-{number}"
    values = {
        "appliance": row.appliance,
        "name": row.name[:80],
        "watts": row.watts[:60],
        "read_from": LABEL,
        "often": row.often[:120],
        "note": row.note[:400],
    }
    return WalkRowForm({f"{prefix}-{key}": value for key, value in values.items()}, prefix=prefix)
