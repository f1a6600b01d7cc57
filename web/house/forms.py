"""An interval file, as it is uploaded."""

from __future__ import annotations

from typing import Any

from django import forms

#: Bytes of a file: years of quarter hours.
MOST_BYTES = 20_000_000


class IntervalFileForm(forms.Form):
    file = forms.FileField(
        label="Interval file (ESPI, XML)",
        widget=forms.ClearableFileInput(attrs={"accept": ".xml,text/xml,application/xml"}),
    )
    client_key = forms.UUIDField(widget=forms.HiddenInput, required=False)

    def clean_file(self) -> Any:
        file = self.cleaned_data["file"]
        if file.size > MOST_BYTES:
            raise forms.ValidationError(f"Larger than {MOST_BYTES // 1_000_000} MB.")
        return file
