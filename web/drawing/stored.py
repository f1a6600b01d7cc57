"""Stored charge over the hours, with its band, the floor, and what is needed."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.utils.safestring import SafeString

from web.drawing.scale import hour_step
from web.drawing.svg import Svg

WIDTH, HEIGHT = 872, 262
_LEFT, _RIGHT, _TOP, _BOTTOM = 52, 14, 30, 30


@dataclass(frozen=True)
class Curve:
    """Hours and shares of charge (low, likely, high), all of one length."""

    hours: Sequence[float]
    low: Sequence[float]
    likely: Sequence[float]
    high: Sequence[float]


@dataclass(frozen=True)
class Marks:
    """What stands on the curve: share of the floor, hours needed, hours of the likely stop."""

    floor: float
    needed_h: float
    stop_h: float | None
    stop_text: str


def stored(
    curve: Curve,
    marks: Marks,
    start: datetime,
    nights: Sequence[tuple[float, float]],
    title: str,
    description: str,
) -> SafeString:
    """Draw the curve; ``nights`` are spans of hours to shade."""
    svg = Svg(WIDTH, HEIGHT, title, description, "stored")
    span = curve.hours[-1] or 1.0
    wide, tall = WIDTH - _LEFT - _RIGHT, HEIGHT - _TOP - _BOTTOM

    def x(hour: float) -> float:
        return _LEFT + wide * min(1.0, hour / span)

    def y(share: float) -> float:
        return _TOP + tall * (1 - share)

    for first, last in nights:
        svg.rect(x(max(0.0, first)), _TOP, x(last) - x(max(0.0, first)), tall, "night")
    for share in (0.0, 0.5, 1.0):
        svg.line(_LEFT, y(share), WIDTH - _RIGHT, y(share), "grid")
        svg.words(_LEFT - 6, y(share) + 4, f"{share * 100:.0f} %", "tick-label", "end")
    _hour_marks(svg, start, span, x)
    upper = list(zip(map(x, curve.hours), map(y, curve.high), strict=True))
    lower = list(zip(map(x, curve.hours), map(y, curve.low), strict=True))
    svg.path(upper + lower[::-1], "band", closed=True)
    svg.line(_LEFT, y(marks.floor), WIDTH - _RIGHT, y(marks.floor), "floor")
    svg.path(list(zip(map(x, curve.hours), map(y, curve.likely), strict=True)), "likely")
    svg.words(_LEFT + 6, y(marks.floor) - 6, f"floor {marks.floor * 100:.0f} %", "limit-label")
    if marks.needed_h <= span:
        at = x(marks.needed_h)
        svg.line(at, _TOP - 10, at, HEIGHT - _BOTTOM, "needed")
        late = at > WIDTH - 130
        svg.words(
            at + (-6 if late else 6), _TOP + 6, "needed until here", "mark-label",
            "end" if late else "start",
        )  # fmt: skip
    if marks.stop_h is not None:
        at = x(marks.stop_h)
        svg.line(at, y(marks.floor) - 8, at, y(marks.floor) + 8, "stop")
        anchor = "end" if at > WIDTH - 120 else "start" if at < 120 else "middle"
        svg.words(at, y(marks.floor) - 26, marks.stop_text, "stop-label", anchor)
    return svg.render()


def _hour_marks(svg: Svg, start: datetime, span: float, x: Callable[[float], float]) -> None:
    """Marks at whole clock hours; the weekday at the first one and at each midnight."""
    step = hour_step(span)
    moment = start.replace(minute=0, second=0, microsecond=0)
    while moment < start or moment.hour % min(step, 24):
        moment += timedelta(hours=1)
    last_day = None
    while (hour := (moment - start).total_seconds() / 3600) <= span:
        svg.line(x(hour), _TOP, x(hour), HEIGHT - _BOTTOM, "grid")
        day = "" if moment.date() == last_day else moment.strftime("%a ")
        last_day = moment.date()
        if x(hour) < WIDTH - 30:
            svg.words(x(hour), HEIGHT - 12, f"{day}{moment:%H:%M}", "tick-label", "middle")
        moment += timedelta(hours=step)
