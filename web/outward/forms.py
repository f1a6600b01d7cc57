"""What goes out of a job."""

from __future__ import annotations

from typing import Any, ClassVar
from urllib.parse import urlsplit

from django import forms

from web.common.fields import QuantityField
from web.outward.models import EVENTS, Hook, Publishing


class PublishingForm(forms.ModelForm):
    class Meta:
        model = Publishing
        fields: ClassVar = ["on"]


class HookForm(forms.ModelForm):
    events = forms.MultipleChoiceField(
        label="Tell it when",
        choices=list(EVENTS.items()),
        widget=forms.CheckboxSelectMultiple,
    )
    hours = QuantityField("h", label="Hours before a stop", least=0.25, most=72.0, initial=4.0)

    class Meta:
        model = Hook
        fields: ClassVar = ["url", "events", "hours"]

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.initial["events"] = self.instance.events or list(EVENTS)
        self.fields["url"].widget = forms.TextInput(attrs={"placeholder": "https://"})

    def clean_url(self) -> str:
        url: str = self.cleaned_data["url"]
        if urlsplit(url).scheme not in ("http", "https"):
            raise forms.ValidationError("Begin with https://.")
        return url
