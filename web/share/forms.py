"""Forms of links, and the list that a client fills."""

from __future__ import annotations

from typing import Any, ClassVar

from django import forms

from web.common.fields import WholeNumberField
from web.jobs.models import Job
from web.loads.photos import Picture
from web.loads.reading_forms import PhotoField
from web.loads.walk_forms import LABEL, METER
from web.share.actions import USUAL_DAYS
from web.share.models import SHOWS, ShareLink

#: Days that a link may last, and rows of a client's list.
MOST_DAYS, MOST_ROWS, FIRST_ROWS = 365, 60, 4


class LinkForm(forms.ModelForm):
    """A new link: what it shows, for whom, how long, and under which conditions."""

    days = WholeNumberField(
        label="Days it lasts", min_value=1, max_value=MOST_DAYS, initial=USUAL_DAYS
    )
    follows = forms.ChoiceField(
        label="The sheet is shown",
        choices=[("live", "always up to date"), ("now", "as of now, no photos")],
        required=False,
    )
    secret = forms.CharField(
        label="A word to say",
        max_length=60,
        required=False,
        help_text="Tell it apart from the link. Empty: none is asked for.",
    )

    class Meta:
        model = ShareLink
        fields: ClassVar = ["shows", "name", "plan", "photos", "card"]

    field_order = ("shows", "name", "plan", "follows", "photos", "card", "days", "secret")

    def __init__(self, *args: Any, job: Job, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.instance.job = job
        self.fields["shows"].choices = list(SHOWS.items())  # type: ignore[attr-defined]
        self.fields["plan"].queryset = job.plans.live()  # type: ignore[attr-defined]
        self.fields["plan"].empty_label = "the current one"  # type: ignore[attr-defined]
        self.fields["plan"].help_text = "Of a sheet. The card is the current plan's."


class ClientRowForm(forms.Form):
    """A row of a client's list, taken as it is written: the job's owner checks it."""

    name = forms.CharField(label="What is it?", max_length=80, required=False)
    watts = forms.CharField(label="Watts on its label", max_length=60, required=False)
    read_from = forms.ChoiceField(
        label="Read from",
        required=False,
        choices=[(LABEL, "its label"), (METER, "a meter, while it runs")],
        initial=LABEL,
    )
    often = forms.CharField(
        label="How often, how long?",
        max_length=120,
        required=False,
        widget=forms.TextInput(attrs={"placeholder": "5 hours a day"}),
    )
    note = forms.CharField(label="Anything else", max_length=300, required=False)
    photo = PhotoField(required=False)

    def has_changed(self) -> bool:
        return bool({"name", "watts", "often", "note", "photo"} & set(self.changed_data))

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean() or self.cleaned_data
        if not cleaned.get("name") and not cleaned.get("photo"):
            self.add_error("name", "Say what it is, or add a photo.")
        return cleaned

    def values(self) -> tuple[dict[str, Any], Picture | None]:
        """What was written, and the photo."""
        cleaned = dict(self.cleaned_data)
        picture = cleaned.pop("photo", None)
        return cleaned, picture


ClientFormSet: Any = forms.formset_factory(
    ClientRowForm, extra=FIRST_ROWS, max_num=MOST_ROWS, absolute_max=MOST_ROWS
)


class WordForm(forms.Form):
    """The word that a link asks for."""

    word = forms.CharField(label="The word that you were told", max_length=60)
