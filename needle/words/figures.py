"""Figures within sentences: how each is written, in a person's units."""

from __future__ import annotations

import string
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from needle.moments import day_text
from needle.quantity import hours_text, with_unit


@dataclass(frozen=True)
class Units:
    """The units that a person wants to see: °F in place of °C, a 12-hour clock."""

    fahrenheit: bool = False
    clock_12: bool = False


USUAL = Units()

#: A sentence with the names of its figures in braces, or a function of them.
Sentence = str | Callable[..., str]


def fahrenheit(celsius: float, difference: bool = False) -> float:
    """°F from °C; or a temperature difference."""
    return celsius * 1.8 + (0.0 if difference else 32.0)


def temperature_text(celsius: float, units: Units, difference: bool = False) -> str:
    """Format a temperature, or a difference of two: ``4 °C``, ``39 °F``."""
    if not units.fahrenheit:
        return f"{_degrees(celsius)}\u00a0°C"
    return f"{_degrees(fahrenheit(celsius, difference))}\u00a0°F"


def degrees_text(celsius: float, units: Units) -> str:
    """Format a temperature without its unit, as the first of two."""
    return _degrees(fahrenheit(celsius) if units.fahrenheit else celsius)


def _degrees(value: float) -> str:
    shown = f"{value:.3g}" if abs(value) < 100 else f"{value:.0f}"
    return shown.replace("-", "−")


def clock_text(minute: int | datetime, units: Units) -> str:
    """Format a time of day: ``18:30``, ``6:30 pm``; a number is minutes after midnight."""
    at = minute.hour * 60 + minute.minute if isinstance(minute, datetime) else minute % 1440
    hour, rest = divmod(at, 60)
    if not units.clock_12:
        return f"{hour:02d}:{rest:02d}"
    return f"{(hour + 11) % 12 + 1}:{rest:02d}\u00a0{'am' if hour < 12 else 'pm'}"


def clock_span_text(first: str, last: str, units: Units) -> str:
    """Format two times of day, each ``HH:MM``: ``20:00 to 23:00``, ``8:00 pm to 11:00 pm``."""

    def shown(clock: str) -> str:
        hour, minute = clock.split(":")
        return clock_text(60 * int(hour) + int(minute), units)

    return f"{shown(first)} to {shown(last)}"


def moment_text(moment: datetime, begins: datetime, units: Units) -> str:
    """Format a moment with its weekday, and its date if the weekday is ambiguous."""
    near = abs(moment - begins) < timedelta(days=6)
    day = f"{moment:%a}" if near else f"{moment:%a} {moment.day} {moment:%b}"
    return f"{day} {clock_text(moment, units)}"


def plural(count: float, word: str) -> str:
    """Format a count with its noun: ``1 cycle``, ``2 cycles``; ``entry|entries`` if irregular."""
    one, _, many = word.partition("|")
    return f"{count:g} {one if count == 1 else many or one + 's'}"


def _listed(values: Sequence[Any]) -> str:
    return ", ".join(map(str, values))


#: Ways to write a figure, by the name after the colon in a sentence: ``{hours:h}``.
_WAYS: dict[str, Callable[[Any], str]] = {
    "h": hours_text,
    "h exact": lambda hours: hours_text(hours, exact=True),
    "whole %": lambda share: f"{share * 100:.0f} %",
    "%": lambda share: f"{share * 100:.3g} %",
    "bare %": lambda share: f"{share * 100:.3g}",
    "day": day_text,
    "list": _listed,
    "capital": str.capitalize,
}
_OF_UNITS: dict[str, Callable[[Any, Units], str]] = {
    "°C": temperature_text,
    "clock": clock_text,
}
_WITH_UNIT = ("W", "Wh", "VA", "V")


class FigureFormatter(string.Formatter):
    """Formats the figures of a sentence by the ways above.

    ``{wh:Wh}`` has three digits and its unit, ``{count:plural cycle}`` counts.
    """

    def __init__(self, units: Units) -> None:
        self.units = units

    def format_field(self, value: Any, format_spec: str) -> str:
        if format_spec in _OF_UNITS:
            return _OF_UNITS[format_spec](value, self.units)
        if format_spec in _WAYS:
            return _WAYS[format_spec](value)
        if format_spec in _WITH_UNIT:
            return with_unit(value, format_spec)
        way, _, what = format_spec.partition(" ")
        if way == "plural":
            return plural(value, what)
        return format(value, format_spec)
