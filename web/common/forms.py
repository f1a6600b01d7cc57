"""Base classes of forms: a form sent twice acts once; outdated ones are refused, input is kept."""

from __future__ import annotations

import uuid
from typing import Any, ClassVar

from django import forms
from django.core.exceptions import NON_FIELD_ERRORS
from django.db.models.fields import BLANK_CHOICE_DASH
from django.http import HttpRequest

from needle.document import DocumentError
from web.common.validation import CoreValidationError

#: Django's words for no choice.
DASHES = BLANK_CHOICE_DASH[0][1]
STALE = (
    "This was changed in another window after you opened it. What you typed is kept here: "
    "check it against the newer values and save again."
)


class FoldedMixin(forms.BaseForm):
    """A form that shows its main fields and folds the others; all fields if none are named."""

    main: ClassVar[tuple[str, ...]] = ()

    def main_fields(self) -> list[forms.BoundField]:
        if not self.main:
            return self.visible_fields()
        shown = (self[name] for name in self.main if name in self.fields)
        return [field for field in shown if not field.is_hidden]

    def more_fields(self) -> list[forms.BoundField]:
        if not self.main:
            return []
        return [field for field in self.visible_fields() if field.name not in self.main]

    @property
    def fold_open(self) -> bool:
        """Whether a folded field has an error."""
        return any(field.errors for field in self.more_fields())


class OnceMixin(FoldedMixin):
    """Adds the hidden ``client_key`` (new records) and ``version`` (existing ones)."""

    def add_guards(self, version: int | None) -> None:
        if version is None:
            self.fields["client_key"] = forms.UUIDField(
                widget=forms.HiddenInput, initial=uuid.uuid4, required=False
            )
        else:
            self.fields["version"] = forms.IntegerField(widget=forms.HiddenInput, initial=version)
        self.current_version = version

    def check_version(self, cleaned: dict[str, Any]) -> None:
        if self.current_version is None or cleaned.get("version") == self.current_version:
            return
        self.add_error(None, STALE)
        # The next save is against what is stored now.
        self.data = {
            **self.data.dict(),  # type: ignore[attr-defined]
            self.add_prefix("version"): str(self.current_version),
        }

    def add_core_error(self, error: DocumentError, fields: dict[str, str] | None = None) -> None:
        """Add a core error to the field that it names."""
        key = error.path.rsplit(".", 1)[-1].split("[")[0]
        key = (fields or {}).get(key, key)
        self.add_error(key if key in self.fields else None, error.sentence)


def _name_empty_choice(field: forms.Field) -> None:
    """Replace the dashes of an empty choice by a name."""
    words = "choose…" if field.required else "not said"
    if isinstance(field, forms.ModelChoiceField):
        if field.empty_label == DASHES:
            field.empty_label = words
    elif isinstance(field, forms.ChoiceField):
        field.choices = [
            (key, words if label == DASHES else label)
            for key, label in list(field.choices)  # type: ignore[arg-type]
        ]


class RecordForm(OnceMixin, forms.ModelForm):
    """A model form of a :class:`~web.common.models.Record`.

    What the core refuses of the model is shown beside the field that the error names.
    """

    #: Fields of keys that the core names otherwise.
    core_fields: ClassVar[dict[str, str]] = {}

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.add_guards(self.instance.version if self.instance.pk else None)
        for field in self.fields.values():
            _name_empty_choice(field)

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean() or self.cleaned_data
        self.check_version(cleaned)
        return cleaned

    def _update_errors(self, errors: forms.ValidationError) -> None:
        refused = errors.error_dict.pop(NON_FIELD_ERRORS, [])
        core_errors = [error for error in refused if isinstance(error, CoreValidationError)]
        others = [error for error in refused if error not in core_errors]
        if others:
            errors.error_dict[NON_FIELD_ERRORS] = others
        incomplete = bool(self.errors)
        super()._update_errors(errors)  # type: ignore[misc]
        if not incomplete:
            for error in core_errors:
                self.add_core_error(error.core_error, self.core_fields)


class PercentMixin(forms.BaseForm):
    """Fields named in ``shares`` are written and shown in percent, stored as 0…1."""

    shares: ClassVar[tuple[str, ...]] = ()

    def show_shares(self) -> None:
        """Convert shares among the initial values to percent."""
        for name in self.shares:
            value = self.initial.get(name)
            if isinstance(value, int | float):
                self.initial[name] = value * 100

    def store_shares(self, cleaned: dict[str, Any]) -> None:
        """Convert cleaned percent to shares, in place."""
        for name in self.shares:
            if cleaned.get(name) is not None:
                cleaned[name] = cleaned[name] / 100


def posted_key(request: HttpRequest, name: str = "client_key") -> uuid.UUID | None:
    """The key that an entry was posted with; None if it has none, or it is none."""
    try:
        return uuid.UUID(request.POST.get(name, ""))
    except ValueError:
        return None


def client_key(form: forms.BaseForm) -> uuid.UUID:
    """The form's ``client_key``, or a new one if it is missing."""
    return form.cleaned_data.get("client_key") or uuid.uuid4()
