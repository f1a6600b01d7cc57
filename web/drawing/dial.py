"""The dial: a scale, an arc for the range, a needle, and a mark for the wanted value."""

from __future__ import annotations

import math
from collections.abc import Callable

from django.utils.safestring import SafeString

from web.drawing.scale import nice_ceiling
from web.drawing.svg import Svg

WIDTH, HEIGHT = 176, 92
_CX, _CY, _R = 88.0, 76.0, 52.0


def _at(share: float, radius: float) -> tuple[float, float]:
    angle = math.pi * (1 - min(1.0, max(0.0, share)))
    return _CX + radius * math.cos(angle), _CY - radius * math.sin(angle)


def _arc(low: float, high: float, inner: float, outer: float) -> list[tuple[float, float]]:
    steps = max(2, round(60 * (high - low)))
    along = [low + (high - low) * i / steps for i in range(steps + 1)]
    return [_at(s, outer) for s in along] + [_at(s, inner) for s in reversed(along)]


def dial(
    span: tuple[float, float, float],
    wanted: float | None,
    label: Callable[[float], str],
    title: str,
    description: str,
    css: str = "dial",
    least: float = 0.0,
) -> SafeString:
    """Draw a dial.

    Parameters
    ----------
    span : (low, value, high)
        Range and median, in one unit, from 0.
    wanted : float or None
        Position of a dashed mark.
    label : callable
        A tick's text from its value.
    title, description, css : str
    least : float
        Minimum of the scale's end.
    """
    low, value, high = span
    most = nice_ceiling(max(high, wanted or 0.0, value, least) * 1.08)
    svg = Svg(WIDTH, HEIGHT, title, description, css)
    svg.path(_arc(0, 1, _R - 5, _R), "dial-scale", closed=True)
    for index in range(31):
        share, major = index / 30, index % 10 == 0
        (x1, y1), (x2, y2) = _at(share, _R + 1), _at(share, _R + (9 if major else 5))
        svg.line(x1, y1, x2, y2, "tick-major" if major else "tick")
    for third in range(4):
        x, y = _at(third / 3, _R + 17)
        anchor = ("end", "middle", "middle", "start")[third]
        shift = (8.0, 0.0, 0.0, -8.0)[third]
        svg.words(x + shift, y + 4, label(most * third / 3), "tick-label", anchor)
    svg.path(_arc(low / most, high / most, _R - 16, _R), "dial-range", closed=True)
    if wanted is not None:
        (x1, y1), (x2, y2) = _at(wanted / most, _R - 16), _at(wanted / most, _R + 9)
        svg.line(x1, y1, x2, y2, "dial-wanted")
    degrees = 180 * min(1.0, value / most)
    svg.add(
        "line",
        x1=_CX + 8,
        y1=_CY,
        x2=_CX - _R - 4,
        y2=_CY,
        css="needle",
        transform=f"rotate({degrees:.2f} {_CX:g} {_CY:g})",
        data_degrees=round(degrees, 2),
    )
    svg.add("circle", cx=_CX, cy=_CY, r=5, css="hub")
    return svg.render()


def empty_dial(title: str) -> SafeString:
    """A dial without a value: no needle, no arc."""
    svg = Svg(WIDTH, HEIGHT, title, "", "dial")
    svg.path(_arc(0, 1, _R - 5, _R), "dial-scale", closed=True)
    for index in range(31):
        share, major = index / 30, index % 10 == 0
        (x1, y1), (x2, y2) = _at(share, _R + 1), _at(share, _R + (9 if major else 5))
        svg.line(x1, y1, x2, y2, "tick-major" if major else "tick")
    svg.add("circle", cx=_CX, cy=_CY, r=5, css="hub")
    return svg.render()
