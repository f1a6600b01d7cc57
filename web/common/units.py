"""Display units of a person: °C or °F, 24-hour or 12-hour clock.

Inside, and in every open format, temperatures are °C and times of day 24-hour. They are written in
a person's units where a figure is formatted, and read back where a field is read.
"""

from __future__ import annotations

import re
from contextvars import ContextVar
from datetime import datetime, time
from typing import Any

from needle.message import Message, unkept
from needle.words import USUAL, Units, text_of
from needle.words.figures import clock_text, moment_text, temperature_text

#: Of whoever asks for the page that is being made.
_UNITS: ContextVar[Units] = ContextVar("units", default=USUAL)


def units() -> Units:
    return _UNITS.get()


def said(message: Message | str | dict[str, Any] | None) -> str:
    """The sentence of a message, or of one as it is kept, in the units of whoever asks."""
    return text_of(unkept(message), units())


class shown_in:
    """Context in which pages are rendered with these units."""

    def __init__(self, wanted: Units) -> None:
        self.wanted = wanted

    def __enter__(self) -> None:
        self.token = _UNITS.set(self.wanted)

    def __exit__(self, *_: object) -> None:
        _UNITS.reset(self.token)


def celsius(degrees_f: float, difference: bool = False) -> float:
    """°C from °F, rounded to a thermometer's resolution."""
    return round((degrees_f - (0.0 if difference else 32.0)) / 1.8, 6)


def temperature(degrees_c: float, difference: bool = False) -> str:
    """A temperature as whoever asks writes it."""
    return temperature_text(degrees_c, units(), difference)


def clock(at: datetime | time | str) -> str:
    """A time of day as whoever asks writes it: ``18:30`` or ``6:30 pm``."""
    if isinstance(at, str):
        hour, minute = at.split(":")
        return clock_text(60 * int(hour) + int(minute), units())
    return clock_text(60 * at.hour + at.minute, units())


def day_clock(at: datetime) -> str:
    """A moment with its weekday."""
    return f"{at:%a} {clock(at)}"


def moment(at: datetime, begins: datetime) -> str:
    """A moment with its weekday, and with its date if the weekday is ambiguous."""
    return moment_text(at, begins, units())


def clocks(use: str) -> str:
    """The times of a use, such as ``18:00–22:30``, as whoever asks writes them."""
    return re.sub(r"\d\d:\d\d", lambda match: clock(match[0]), use)
