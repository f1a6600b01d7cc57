"""A new token of a program."""

from __future__ import annotations

from typing import ClassVar

from django import forms

from web.api.models import ApiToken


class TokenForm(forms.ModelForm):
    class Meta:
        model = ApiToken
        fields: ClassVar = ["name", "adds"]
