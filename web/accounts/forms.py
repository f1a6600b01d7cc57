"""Signing up, what is known of a user, and the password once more."""

from __future__ import annotations

from typing import Any, ClassVar

from django import forms
from django.contrib.auth import get_user_model
from django.contrib.auth.forms import UserCreationForm

from web.accounts.models import Preferences

_MAIL_HELP = "For a forgotten password only; leave it empty if you like."


class SignUpForm(UserCreationForm):
    class Meta(UserCreationForm.Meta):
        model = get_user_model()
        fields = ("username", "email")
        help_texts: ClassVar = {"email": _MAIL_HELP}


class MailForm(forms.ModelForm):
    class Meta:
        model = get_user_model()
        fields: ClassVar = ["email"]
        help_texts: ClassVar = {"email": _MAIL_HELP}


class PasswordForm(forms.Form):
    """The password again, before something is deleted permanently."""

    password = forms.CharField(widget=forms.PasswordInput, label="Your password, to be sure")

    def __init__(self, *args: Any, user: Any, **kwargs: Any) -> None:
        self.user = user
        super().__init__(*args, **kwargs)
        if not user.has_usable_password():
            del self.fields["password"]

    def clean_password(self) -> str:
        typed: str = self.cleaned_data["password"]
        if not self.user.check_password(typed):
            raise forms.ValidationError("That is not your password.")
        return typed


class CodeForm(forms.Form):
    """A code of the second step: six digits of an app, or a spare one."""

    code = forms.CharField(
        max_length=20,
        widget=forms.TextInput(attrs={"autocomplete": "one-time-code", "inputmode": "numeric"}),
    )

    def clean_code(self) -> str:
        return "".join(str(self.cleaned_data["code"]).split())


class UnitsForm(forms.ModelForm):
    """Units that a person wants to see; open formats keep °C and 24 hours."""

    class Meta:
        model = Preferences
        fields = ["fahrenheit", "clock_12"]
        widgets: ClassVar = {"fahrenheit": forms.Select, "clock_12": forms.Select}
