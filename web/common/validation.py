"""What the core refuses is refused by a model too, typed in a form or taken in from a file."""

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
    """Refuse a moment at a calendar's ends, which leaves no room for the hours after it."""
    if not FIRST_YEAR <= moment.year <= LAST_YEAR:
        raise ValidationError(f"Give a date between {FIRST_YEAR} and {LAST_YEAR}.")


def known_zone(name: str) -> None:
    """Refuse what is no time zone."""
    names = available_timezones()
    if name not in names:
        near = get_close_matches(name, names, 1, 0.5)
        hint = f"did you mean {near[0]}?" if near else "try Europe/London."
        raise ValidationError(f"“{name[:40]}” is not a time zone: {hint}")


@contextmanager
def refused_by_core() -> Iterator[None]:
    """Turn a refusal of the core's readers into one of the model as a whole.

    Not of a field: a form may show others than the model has.
    """
    try:
        yield
    except DocumentError as error:
        raise ValidationError(str(error)) from None
