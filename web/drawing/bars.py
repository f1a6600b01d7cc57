"""Bars: one split by shares, and a staircase."""

from __future__ import annotations

from collections.abc import Sequence

from django.utils.safestring import SafeString

from needle.quantity import with_unit
from web.drawing.scale import nice_ceiling
from web.drawing.svg import Svg


def split_bar(
    parts: Sequence[tuple[str, float, str]], title: str, width: int = 332, height: int = 22
) -> SafeString:
    """A bar split by amounts; each part is (name, amount, class)."""
    total = sum(amount for _, amount, _ in parts) or 1.0
    description = ", ".join(f"{name} {100 * amount / total:.0f} %" for name, amount, _ in parts)
    svg = Svg(width, height, title, description, "split-bar")
    x = 0.0
    for _, amount, css in parts:
        wide = width * amount / total
        svg.rect(x, 0, wide, height, css)
        x += wide
    return svg.render()


def share_bar(share: float, title: str, width: int = 84, height: int = 9) -> SafeString:
    """One share of a whole."""
    svg = Svg(width, height, title, "", "share-bar")
    svg.rect(0, 0, width, height, "bar-rest")
    svg.rect(0, 0, width * min(1.0, share), height, "bar-part")
    return svg.render()


def staircase(steps: Sequence[tuple[str, float, float, float, str]], title: str) -> SafeString:
    """Falling bars; each step is (name, low, value, high, text), in one unit.

    The pale end of a bar is its range, the outline the height of the previous step.
    """
    width, height, top, bottom = 840, 190, 6, 46
    most = max(high for _, _, _, high, _ in steps) or 1.0
    tall, gap = height - top - bottom, 18
    wide = (width - gap * (len(steps) - 1)) / len(steps)
    description = "; ".join(f"{name} {text}" for name, _, _, _, text in steps)
    svg = Svg(width, height, title, description, "staircase")
    before = None
    for index, (name, low, value, high, text) in enumerate(steps):
        x = index * (wide + gap)

        def y(amount: float) -> float:
            return top + tall * (1 - amount / most)

        if before is not None:
            svg.rect(x, y(before), wide, y(value) - y(before), "lost")
            svg.line(x - gap, y(before), x, y(before), "grid")
        svg.rect(x, y(value), wide, top + tall - y(value), "stair")
        if high > low:
            svg.rect(x, y(high), wide, y(low) - y(high), "stair-range")
        svg.words(x + wide / 2, height - 27, text, "stair-value", "middle")
        svg.words(x + wide / 2, height - 8, name, "stair-name", "middle")
        before = value
    svg.line(0, top + tall, width, top + tall, "axis")
    return svg.render()


#: Size of a day's bars, and its edges.
_DAY_WIDTH, _DAY_HEIGHT, _DAY_LEFT, _DAY_TOP, _DAY_BOTTOM = 840, 190, 64, 8, 26


def day_bars(half_hours_w: Sequence[float], base_w: float | None, title: str) -> SafeString:
    """Mean power by the half hour of a day, W, with a line at the base load."""
    width, height, left = _DAY_WIDTH, _DAY_HEIGHT, _DAY_LEFT
    top, bottom = _DAY_TOP, _DAY_BOTTOM
    most = nice_ceiling(max(half_hours_w, default=0.0))
    tall, wide = height - top - bottom, (width - left) / max(1, len(half_hours_w))

    def y(watts: float) -> float:
        return top + tall * (1 - watts / most)

    description = ", ".join(
        f"{hour}:00 {with_unit(half_hours_w[2 * hour], 'W')}"
        for hour in range(0, len(half_hours_w) // 2, 3)
    )
    svg = Svg(width, height, title, description, "day-bars")
    for share in (0.0, 1 / 3, 2 / 3, 1.0):
        svg.line(left, y(most * share), width, y(most * share), "grid")
        svg.words(left - 8, y(most * share) + 4, with_unit(most * share, "W"), "tick-label", "end")
    for index, watts in enumerate(half_hours_w):
        svg.rect(left + index * wide + 0.5, y(watts), wide - 1, top + tall - y(watts), "bar-part")
    for hour in range(0, 25, 6):
        anchor = "start" if hour == 0 else "end" if hour == 24 else "middle"
        x = left + 2 * hour * wide
        svg.words(x, height - 8, f"{hour:02d}:00", "tick-label", anchor)
    if base_w is not None:
        svg.line(left, y(base_w), width, y(base_w), "base-line")
    return svg.render()
