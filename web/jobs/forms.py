"""Forms of jobs."""

from __future__ import annotations

from typing import Any, ClassVar
from zoneinfo import available_timezones

from django import forms

from needle.document import DocumentError
from needle.profile.cost import tariff_hours_from_text, text_of_tariff_hours
from web.common.fields import NumberField
from web.common.forms import RecordForm
from web.jobs.models import Invitation, Job, Member


class JobForm(RecordForm):
    other_prices = forms.CharField(
        label="Other prices by hours",
        required=False,
        max_length=300,
        widget=forms.TextInput(attrs={"placeholder": "23:00–07:00 0.18; 17–20 0.40"}),
    )

    main: ClassVar = ("name", "mains", "zone")

    class Meta:
        model = Job
        fields = ["name", "mains", "currency", "tariff", "zone"]
        field_classes: ClassVar = {"tariff": NumberField}

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["currency"].required = False
        self.initial["other_prices"] = text_of_tariff_hours(self.instance.tariff_hours)
        # A new job takes the browser's.
        self.fields["zone"].widget = (
            forms.TextInput(attrs={"list": "zones", "autocomplete": "off"})
            if self.instance.pk
            else forms.HiddenInput(attrs={"data-zone": "", "autocomplete": "off"})
        )

    @property
    def zones(self) -> list[str]:
        """Time zones by region, to choose from."""
        return sorted(name for name in available_timezones() if "/" in name and "Etc" not in name)

    def clean_zone(self) -> str:
        zone: str = self.cleaned_data["zone"]
        if not self.instance.pk and zone not in available_timezones():
            # A browser's odd one is nothing that a person could mend here.
            return ""
        return zone

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        try:
            hours = tariff_hours_from_text(cleaned.get("other_prices") or "")
        except DocumentError as error:
            self.add_core_error(error, {"hours": "other_prices"})
        else:
            self.instance.tariff_hours = hours
            if hours and cleaned.get("tariff") is None and "tariff" not in self.errors:
                self.add_error("tariff", "Give the price at all other hours too.")
        return cleaned

    def clean_currency(self) -> str:
        return self.cleaned_data["currency"] or "¤"


class InviteForm(forms.ModelForm):
    """Whom to invite, as what, and how they learn of it."""

    how = forms.ChoiceField(
        label="How",
        initial="link",
        choices=[
            ("link", "by a link"),
            ("name", "by name"),
        ],
    )

    class Meta:
        model = Invitation
        fields: ClassVar = ["name", "role", "how"]
        labels: ClassVar = {"name": "For whom", "role": "As"}
        help_texts: ClassVar = {
            "name": "By name: the one they sign in with; they see it on their list of jobs."
        }

    def clean_name(self) -> str:
        name: str = self.cleaned_data["name"].strip()
        owner = self.instance.job.owner.get_username()
        if self.data.get("how") == "name" and name.casefold() == owner.casefold():
            raise forms.ValidationError("You own this job already.")
        return name

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean() or self.cleaned_data
        self.instance.by_link = cleaned.get("how") == "link"
        return cleaned


class RoleForm(forms.ModelForm):
    class Meta:
        model = Member
        fields: ClassVar = ["role"]

    def __init__(self, *args: Any, who: str, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["role"].widget.attrs["aria-label"] = f"Role of {who}"


class NameForm(forms.Form):
    """A name typed again, before something is deleted permanently."""

    typed = forms.CharField(label="Its name, to be sure", max_length=150)

    def __init__(self, *args: Any, name: str, **kwargs: Any) -> None:
        self.name = name
        super().__init__(*args, **kwargs)

    def clean_typed(self) -> str:
        typed: str = self.cleaned_data["typed"]
        if typed.strip() != self.name:
            raise forms.ValidationError(f"That is not “{self.name}”.")
        return typed
