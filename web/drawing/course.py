"""A figure over the years: each dated reading with its range."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from django.utils.safestring import SafeString

from needle.quantity import with_unit
from web.drawing.scale import nice_ceiling
from web.drawing.svg import Svg

WIDTH, HEIGHT, _LEFT, _RIGHT, _TOP, _BOTTOM = 560, 170, 58, 20, 12, 30


@dataclass(frozen=True)
class CourseMark:
    """A dated value with its range; ``counts`` if it is still used."""

    at: datetime
    low: float
    value: float
    high: float
    counts: bool = True


def course(marks: Sequence[CourseMark], unit: str, title: str) -> SafeString:
    """Draw the values, oldest first; at least two, at different times."""
    most = nice_ceiling(max(mark.high for mark in marks))
    first, last = marks[0].at, marks[-1].at
    span = max(1.0, (last - first).total_seconds())
    words = "; ".join(f"{mark.at:%B %Y} {with_unit(mark.value, unit)}" for mark in marks)
    svg = Svg(WIDTH, HEIGHT, title, words, "course")
    wide, tall = WIDTH - _LEFT - _RIGHT - 40, HEIGHT - _TOP - _BOTTOM

    def x(at: datetime) -> float:
        return _LEFT + 20 + wide * (at - first).total_seconds() / span

    def y(value: float) -> float:
        return _TOP + tall * (1 - value / most)

    for part in range(3):
        value = most * part / 2
        svg.line(_LEFT, y(value), WIDTH - _RIGHT, y(value), "grid")
        svg.words(_LEFT - 6, y(value) + 4, with_unit(value, unit), "tick-label", "end")
    for mark in (marks[0], marks[-1]):
        svg.words(x(mark.at), HEIGHT - 10, f"{mark.at:%b %Y}", "tick-label", "middle")
    for mark in marks:
        kind = "course-counts" if mark.counts else "course-past"
        svg.line(x(mark.at), y(mark.low), x(mark.at), y(mark.high), kind)
        svg.add("circle", cx=x(mark.at), cy=y(mark.value), r=4, css=kind)
    return svg.render()
