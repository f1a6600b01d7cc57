"""Ranges below one another on one scale."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from django.utils.safestring import SafeString

from needle.quantity import hours_text, with_unit
from web.drawing.scale import nice_ceiling
from web.drawing.svg import Svg

WIDTH, _LEFT, _RIGHT, _ROW, _TOP, _BOTTOM = 872, 190, 60, 34, 8, 28


@dataclass(frozen=True)
class Span:
    """A name with low, likely and high."""

    name: str
    low: float
    value: float
    high: float


def spans(rows: Sequence[Span], unit: str, title: str) -> SafeString:
    """Draw the ranges as bars, with a mark at the median."""
    most = nice_ceiling(max(row.high for row in rows))
    height = _TOP + _ROW * len(rows) + _BOTTOM
    description = "; ".join(f"{row.name} {_text(row.value, unit)}" for row in rows)
    svg = Svg(WIDTH, height, title, description, "spans")
    wide = WIDTH - _LEFT - _RIGHT

    def x(amount: float) -> float:
        return _LEFT + wide * amount / most

    for third in range(4):
        amount = most * third / 3
        svg.line(x(amount), _TOP, x(amount), height - _BOTTOM, "grid")
        svg.words(x(amount), height - 9, _text(amount, unit), "tick-label", "middle")
    for number, row in enumerate(rows):
        top = _TOP + number * _ROW
        name = row.name if len(row.name) <= 26 else f"{row.name[:25].rstrip()}…"
        svg.words(_LEFT - 10, top + 21, name, "span-name", "end")
        svg.rect(x(row.low), top + 10, max(2.0, x(row.high) - x(row.low)), _ROW - 20, "span-range")
        svg.line(x(row.value), top + 5, x(row.value), top + _ROW - 5, "span-mark")
    return svg.render()


def _text(amount: float, unit: str) -> str:
    """An amount; hours as they are said elsewhere."""
    return hours_text(amount) if unit == "h" and amount > 0 else with_unit(amount, unit)
