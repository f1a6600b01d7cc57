"""A trial over its hours: check-ins, forecast, legs, and the display's promises."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from django.utils.safestring import SafeString

from web.drawing.scale import hour_step
from web.drawing.svg import Svg

WIDTH, HEIGHT = 872, 330
_LEFT, _RIGHT, _TOP, _BOTTOM = 54, 16, 18, 34
_FIFTH = 0.2


@dataclass(frozen=True)
class Point:
    """A check-in: h, charge (share), whether it was displayed or computed, and its text."""

    h: float
    charge: float
    shown: bool
    words: str


@dataclass(frozen=True)
class Run:
    """The data of the drawing. Charges are shares.

    ``fan`` has h with low, likely and high; ``legs`` h with text; ``promises`` go from h and charge
    to the h at which the display predicted it would be empty.
    """

    points: Sequence[Point]
    fan: Sequence[tuple[float, float, float, float]]
    legs: Sequence[tuple[float, str]]
    promises: Sequence[tuple[float, float, float]]
    stop_at: float
    start_charge: float
    planned_h: float | None
    ended: tuple[float, str] | None


def fan(run: Run, title: str, description: str) -> SafeString:
    """Draw a trial."""
    svg = Svg(WIDTH, HEIGHT, title, description, "fan")
    most = _hours(run)
    wide, tall = WIDTH - _LEFT - _RIGHT, HEIGHT - _TOP - _BOTTOM

    def x(hour: float) -> float:
        return _LEFT + wide * min(1.0, hour / most)

    def y(charge: float) -> float:
        return _TOP + tall * (1 - min(1.0, max(0.0, charge)))

    svg.rect(_LEFT, y(_FIFTH), wide, y(0) - y(_FIFTH), "last-fifth")
    for share in (0.0, 0.2, 0.5, 1.0):
        svg.line(_LEFT, y(share), WIDTH - _RIGHT, y(share), "grid")
        svg.words(_LEFT - 8, y(share) + 4, f"{share * 100:.0f} %", "tick-label", "end")
    step = hour_step(most, 9)
    for mark in range(0, int(most) + 1, step):
        svg.line(x(mark), _TOP, x(mark), y(0), "grid")
        svg.words(x(mark), HEIGHT - 12, f"{mark} h", "tick-label", "middle")
    svg.words(_LEFT + 6, y(0) - 6, "the last fifth often goes faster than it says", "fifth-label")
    for hour, words in run.legs:
        if hour > 0:
            svg.line(x(hour), _TOP, x(hour), y(0), "leg-line")
        svg.words(x(hour) + 3, _TOP - 5, words[:40], "leg-label")
    for hour, charge, empty in run.promises:
        share = min(1.0, (most - hour) / max(1e-9, empty - hour))
        svg.line(
            x(hour), y(charge), x(hour + share * (empty - hour)), y(charge * (1 - share)), "promise"
        )
    _band(svg, run, x, y)
    line = [(x(0), y(run.start_charge)), *((x(point.h), y(point.charge)) for point in run.points)]
    svg.path(line, "likely")
    for point in run.points:
        with svg.inside("g"):
            svg.add("title", point.words)
            svg.add(
                "circle",
                cx=x(point.h),
                cy=y(point.charge),
                r=5,
                css="seen" if point.shown else "seen counted",
            )
    svg.line(_LEFT, y(run.stop_at), WIDTH - _RIGHT, y(run.stop_at), "floor")
    svg.words(_LEFT + 6, y(run.stop_at) - 5, f"stop at {run.stop_at * 100:.0f} %", "limit-label")
    if run.planned_h is not None and run.planned_h <= most:
        at = x(run.planned_h)
        svg.line(at, y(run.stop_at) - 12, at, y(run.stop_at) + 12, "planned")
        svg.words(at, y(run.stop_at) - 17, "plan said", "mark-label halo", "middle")
    if run.ended is not None:
        hour, words = run.ended
        svg.line(x(hour), y(run.stop_at) - 10, x(hour), y(0), "stop")
        svg.words(x(hour) - 6, y(0) - 6, words, "stop-label", "end")
    return svg.render()


def _hours(run: Run) -> float:
    ends = [point.h for point in run.points] + [row[0] for row in run.fan]
    if run.planned_h is not None:
        ends.append(run.planned_h)
    if run.ended is not None:
        ends.append(run.ended[0])
    return max([1.0, *ends]) * 1.06


def _band(svg: Svg, run: Run, x: Callable[[float], float], y: Callable[[float], float]) -> None:
    if not run.fan:
        return
    upper = [(x(hour), y(high)) for hour, _, _, high in run.fan]
    lower = [(x(hour), y(low)) for hour, low, _, _ in run.fan]
    svg.path(upper + lower[::-1], "band", closed=True)
    svg.path([(x(hour), y(mid)) for hour, _, mid, _ in run.fan], "foretold")
