"""Display units of a person: °C or °F, 24-hour or 12-hour clock.

Inside, and in every open format, temperatures are °C and times of day 24-hour. They are turned once
in the text of a finished page, and back where a field is read; nothing in between knows of them.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from contextvars import ContextVar
from dataclasses import dataclass


@dataclass(frozen=True)
class Units:
    """The units that a person wants to see."""

    fahrenheit: bool = False
    clock_12: bool = False


USUAL = Units()
#: Of whoever asks for the page that is being made.
_UNITS: ContextVar[Units] = ContextVar("units", default=USUAL)


def units() -> Units:
    return _UNITS.get()


class shown_in:
    """Context in which pages are rendered with these units."""

    def __init__(self, wanted: Units) -> None:
        self.wanted = wanted

    def __enter__(self) -> None:
        self.token = _UNITS.set(self.wanted)

    def __exit__(self, *_: object) -> None:
        _UNITS.reset(self.token)


def fahrenheit(celsius: float, difference: bool = False) -> float:
    """°F from °C; or a temperature difference."""
    return celsius * 1.8 + (0.0 if difference else 32.0)


def celsius(degrees_f: float, difference: bool = False) -> float:
    """°C from °F, rounded to a thermometer's resolution."""
    return round((degrees_f - (0.0 if difference else 32.0)) / 1.8, 6)


_GAP = r"[ \u00a0]?"
_NUMBER = r"(?<![\w.])[−-]?\d+(?:\.\d+)?"
#: "4 °C", "from 4 to 6 °C", "12–15 °C"; "by 3 °C" and "±3 °C" are differences.
_TEMPERATURE = re.compile(
    rf"(?P<apart>\bby |±)?(?P<first>{_NUMBER})(?P<to> to |–)?(?P<second>\d+(?:\.\d+)?)?{_GAP}°C\b"
)
_CLOCK = re.compile(
    r"(?<![\d:.,])(?P<hour>[01]?\d|2[0-3]):(?P<minute>[0-5]\d)(?![\d:])(?! ?(?:h|min)\b)"
)
#: Parts of a page whose text is somebody's own, or no text.
_TAG = re.compile(r"(<!--.*?-->|<(script|style|textarea|code|pre)\b.*?</\2>|<[^>]*>)", re.DOTALL)
#: Words of a page that stand within a tag.
_SPOKEN = re.compile(r'(\b(?:aria-label|alt|title)=")([^"]*)(")')


def in_own_units(text: str, wanted: Units | None = None) -> str:
    """A sentence with its temperatures and times of day in a person's units."""
    wanted = wanted or units()
    if wanted.fahrenheit and "°C" in text:
        text = _TEMPERATURE.sub(_as_fahrenheit, text)
    if wanted.clock_12 and ":" in text:
        text = _CLOCK.sub(_as_twelve, text)
    return text


def page_in_own_units(page: str, wanted: Units) -> str:
    """An HTML or SVG page with its texts, and those read aloud, in a person's units."""
    if wanted == USUAL:
        return page
    parts = _TAG.split(page)
    pieces = []
    # Each match leaves the text before it, the tag, and the name of a skipped element or None.
    for place in range(0, len(parts), 3):
        pieces.append(in_own_units(parts[place], wanted))
        if place + 1 < len(parts):
            pieces.append(_SPOKEN.sub(_turned_within(wanted), parts[place + 1]))
    return "".join(pieces)


def _turned_within(wanted: Units) -> Callable[[re.Match[str]], str]:
    return lambda match: match[1] + in_own_units(match[2], wanted) + match[3]


def _as_fahrenheit(match: re.Match[str]) -> str:
    apart = bool(match["apart"])
    first, second = (
        None if text is None else _degrees(text, apart)
        for text in (match["first"], match["second"])
    )
    if match["to"] and second is None:
        return match[0]
    if second is None or not match["to"]:
        # Without a word between them two numbers are one.
        whole = match["first"] + (match["second"] or "")
        return f"{match['apart'] or ''}{_degrees(whole, apart)}\u00a0°F"
    return f"{match['apart'] or ''}{first}{match['to']}{second}\u00a0°F"


def _degrees(text: str, apart: bool) -> str:
    value = fahrenheit(float(text.replace("−", "-")), apart)
    shown = f"{value:.3g}" if abs(value) < 100 else f"{value:.0f}"
    return shown.replace("-", "−")


def _as_twelve(match: re.Match[str]) -> str:
    hour, minute = int(match["hour"]), match["minute"]
    half = "am" if hour < 12 else "pm"
    return f"{(hour + 11) % 12 + 1}:{minute}\u00a0{half}"
