"""Forms of jobs."""

from __future__ import annotations

from typing import Any

from django import forms

from web.common.forms import RecordForm
from web.jobs.models import Job


class JobForm(RecordForm):
    class Meta:
        model = Job
        fields = ["name", "mains", "currency", "tariff"]

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["currency"].required = False
        self.fields["tariff"].widget = forms.TextInput(attrs={"inputmode": "decimal"})

    def clean_currency(self) -> str:
        return self.cleaned_data["currency"] or "¤"
