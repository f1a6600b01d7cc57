"""Model validation by the core's parsers, for forms and imports alike."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from difflib import get_close_matches
from zoneinfo import available_timezones

from django.core.exceptions import ValidationError
from django.core.validators import MaxValueValidator, MinValueValidator

from needle.document import DocumentError
from needle.moments import FIRST_YEAR, LAST_YEAR

#: Bounds of figures that several models have: a share, °C of a room and of what is heated.
SHARE = [MinValueValidator(0.0), MaxValueValidator(1.0)]
ROOM_C = [MinValueValidator(-60.0), MaxValueValidator(80.0)]
CONTENTS_C = [MinValueValidator(-100.0), MaxValueValidator(400.0)]


def in_our_time(moment: datetime) -> None:
    """Refuse moments too near to the calendar's ends."""
    if not FIRST_YEAR <= moment.year <= LAST_YEAR:
        raise ValidationError(f"Give a date between {FIRST_YEAR} and {LAST_YEAR}.")


def known_zone(name: str) -> None:
    """Refuse unknown time zones."""
    names = available_timezones()
    if name not in names:
        near = get_close_matches(name, names, 1, 0.5)
        hint = f"did you mean {near[0]}?" if near else "try Europe/London."
        raise ValidationError(f"“{name[:40]}” is not a time zone: {hint}")


class CoreValidationError(ValidationError):
    """Raised by a model that the core refuses; a form puts it beside the field it names."""

    def __init__(self, error: DocumentError) -> None:
        super().__init__(str(error))
        self.core_error = error


@contextmanager
def refused_by_core() -> Iterator[None]:
    """Turn an error of the core into a validation error of the model."""
    try:
        yield
    except DocumentError as error:
        raise CoreValidationError(error) from None
