"""Power over time, reduced so that no spike is lost, with levels, starts and gaps."""

from __future__ import annotations

import textwrap
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from django.utils.safestring import SafeString

from web.drawing.scale import nice_ceiling, round_moments
from web.drawing.svg import Svg

#: Of a level's name that have room in a line.
_LETTERS = 15


@dataclass(frozen=True)
class Envelope:
    """Minimum and maximum in each slot of time; NaN in empty slots."""

    time_s: np.ndarray
    low: np.ndarray
    high: np.ndarray


def thin(time_s: np.ndarray, values: np.ndarray, slots: int) -> Envelope:
    """Reduce a series to minimum and maximum per slot."""
    usable = np.isfinite(values)
    time_s, values = time_s[usable], values[usable]
    if not len(time_s):
        return Envelope(np.zeros(0), np.zeros(0), np.zeros(0))
    if len(time_s) <= 2 * slots:
        return Envelope(time_s, values, values)
    edges = np.linspace(time_s[0], time_s[-1], slots + 1)
    first = np.searchsorted(time_s, edges[:-1])
    full = np.flatnonzero(np.diff(np.append(first, len(time_s))) > 0)
    places = first[full]
    return Envelope(
        (edges[full] + edges[full + 1]) / 2,
        np.minimum.reduceat(values, places),
        np.maximum.reduceat(values, places),
    )


@dataclass(frozen=True)
class Marks:
    """Marks on a strip: levels (W, text), starts (s), gaps (from, to in s)."""

    levels: Sequence[tuple[float, str]] = ()
    starts: Sequence[float] = ()
    gaps: Sequence[tuple[float, float]] = ()


@dataclass(frozen=True)
class TimeAxis:
    """Time axis of a strip: first and last time, formatting, and where round times begin.

    Times are in seconds of the envelope's clock.
    """

    first_s: float
    last_s: float
    label: Callable[[float], str]
    zero_s: float = 0.0


def minutes_before(now_s: float, first_s: float) -> TimeAxis:
    """Axis of the last minutes up to now, at least one minute."""
    return TimeAxis(
        first_s,
        max(now_s, first_s + 60),
        lambda at: f"−{(now_s - at) / 60:.3g} min" if now_s - at > 1 else "now",
        now_s,
    )


def strip(
    envelope: Envelope,
    axis: TimeAxis,
    marks: Marks,
    title: str,
    description: str,
    height: int = 250,
) -> SafeString:
    """Draw a strip over a span of time."""
    width, left, right, top, bottom = 872, 52, 96, 14, 28
    svg = Svg(width, height, title, description, "strip")
    wide, tall = width - left - right, height - top - bottom
    first, last = axis.first_s, axis.last_s
    most = nice_ceiling(float(envelope.high.max()) * 1.05) if len(envelope.high) else 3.0

    def x(moment: float) -> float:
        return left + wide * min(1.0, max(0.0, (moment - first) / max(last - first, 1e-9)))

    def y(watts: float) -> float:
        return top + tall * (1 - min(1.0, max(0.0, watts / most)))

    for begin, end in marks.gaps:
        svg.rect(x(begin), top, max(1.0, x(end) - x(begin)), tall, "gap")
    for third in range(4):
        value = most * third / 3
        svg.line(left, y(value), width - right, y(value), "grid")
        svg.words(left - 6, y(value) + 4, f"{value:.4g} W", "tick-label", "end")
    for moment in round_moments(first, last, axis.zero_s):
        svg.line(x(moment), top, x(moment), top + tall, "grid")
        svg.words(x(moment), height - 8, axis.label(moment), "tick-label", "middle")
    for moment in marks.starts:
        if first <= moment <= last:
            svg.line(x(moment), top, x(moment), top + 8, "start-mark")
    if len(envelope.time_s):
        svg.path(_outline(envelope, x, y), "power", closed=True)
    placed = 1e9
    for watts, words in sorted(marks.levels, reverse=True):
        svg.line(left, y(watts), width - right, y(watts), "level-line")
        at = y(watts) + 4
        at = at if abs(placed - at) > 14 else placed + 14
        for line in textwrap.wrap(words, _LETTERS):
            svg.words(width - right + 6, at, line, "level-label")
            placed, at = at, at + 13
    return svg.render()


def _outline(
    envelope: Envelope, x: Callable[[float], float], y: Callable[[float], float]
) -> list[tuple[float, float]]:
    """Outline of the power between minimum and maximum, at least a line thick."""
    xs = [x(float(second)) for second in envelope.time_s]
    upper = [(a, y(float(b))) for a, b in zip(xs, envelope.high, strict=True)]
    lower = [(a, y(float(b)) + 0.8) for a, b in zip(xs, envelope.low, strict=True)]
    return upper + lower[::-1]
