"""Bars that grow step by step, with a peak above each, and limits."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from django.utils.safestring import SafeString

from web.drawing.scale import nice_ceiling
from web.drawing.svg import Svg

WIDTH, HEIGHT = 872, 292
_LEFT, _RIGHT, _TOP, _BOTTOM = 62, 12, 22, 64
#: Limits whose words would stand closer than this share one row less each.
_ROW = 16.0
#: Letters that fit under a bar, for each pixel of its width.
_LETTERS = 0.155


@dataclass(frozen=True)
class DrawnRung:
    """A bar: running sum before and after, and its peak."""

    name: str
    before: float
    after: float
    peak: float


@dataclass(frozen=True)
class Limit:
    """A horizontal line with its label."""

    at: float
    words: str


def rungs(
    steps: Sequence[DrawnRung],
    limits: Sequence[Limit],
    label: Callable[[float], str],
    title: str,
    description: str,
) -> SafeString:
    """Draw the bars; limits far above the highest peak are named at the top edge."""
    svg = Svg(WIDTH, HEIGHT, title, description, "rungs")
    peak = max(step.peak for step in steps)
    shown = [limit for limit in limits if limit.at <= peak * 2.5]
    most = nice_ceiling(max([peak, *(rung.at for rung in shown)]) * 1.06)
    wide, tall = WIDTH - _LEFT - _RIGHT, HEIGHT - _TOP - _BOTTOM

    def y(amount: float) -> float:
        return _TOP + tall * (1 - amount / most)

    for third in range(4):
        amount = most * third / 3
        svg.line(_LEFT, y(amount), WIDTH - _RIGHT, y(amount), "grid")
        svg.words(_LEFT - 8, y(amount) + 4, label(amount), "tick-label", "end")
    slot = wide / len(steps)
    bar = min(56.0, slot * 0.62)
    for number, step in enumerate(steps, 1):
        middle = _LEFT + slot * (number - 0.5)
        svg.rect(middle - bar / 2, y(step.before), bar, y(0) - y(step.before), "rung-before")
        svg.rect(middle - bar / 2, y(step.after), bar, y(step.before) - y(step.after), "rung-own")
        svg.line(middle, y(step.after), middle, y(step.peak), "rung-start")
        at = y(step.peak)
        points = [(middle, at - 6), (middle + 5, at), (middle, at + 6), (middle - 5, at)]
        svg.path(points, "state-start", closed=True)
        svg.words(middle, HEIGHT - 46, str(number), "rung-number", "middle")
        for row, line in enumerate(_lines(step.name, max(6, int(slot * _LETTERS)))):
            svg.words(middle, HEIGHT - 31 + 13 * row, line, "rung-name", "middle")
    for limit in shown:
        svg.line(_LEFT, y(limit.at), WIDTH - _RIGHT, y(limit.at), "rung-limit")
    placed = float("inf")
    for limit in sorted(shown, key=lambda each: each.at):
        placed = min(y(limit.at) - 4, placed - _ROW)
        svg.words(WIDTH - _RIGHT, placed, limit.words, "limit-label halo", "end")
    above = [limit.words for limit in limits if limit not in shown]
    if above:
        svg.words(_LEFT, 12, f"far above: {', '.join(above)}", "limit-label")
    svg.line(_LEFT, y(0), WIDTH - _RIGHT, y(0), "axis")
    return svg.render()


def _lines(name: str, letters: int) -> list[str]:
    """A name on at most two lines, truncated if longer."""
    first, _, rest = name.partition(" ")
    if len(name) <= letters:
        return [name]
    return [
        line if len(line) <= letters + 1 else f"{line[: letters - 1]}…"
        for line in (first, rest)
        if line
    ]
