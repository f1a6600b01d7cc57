"""The state ladder: resting, running, other states and the start on one logarithmic scale."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

from django.utils.safestring import SafeString

from web.drawing.scale import log_place
from web.drawing.svg import Svg

LOW_W, HIGH_W = 0.5, 12_000.0
MARKS = ((1.0, "1"), (10.0, "10"), (100.0, "100"), (1000.0, "1 k"), (10_000.0, "10 k"))
WIDTH, HEIGHT, _PAD = 172, 26, 8


@dataclass(frozen=True)
class Rungs:
    """Values of a ladder, in W, the start in VA. None if unknown."""

    resting: float | None
    running: float
    running_low: float
    running_high: float
    others: tuple[float, ...]
    start: float
    start_low: float
    start_high: float


def _x(value: float) -> float:
    return _PAD + (WIDTH - 2 * _PAD) * log_place(value, LOW_W, HIGH_W)


@lru_cache(maxsize=1)
def _grid() -> str:
    """All lines of the scale as one path, the same in every ladder."""
    return " ".join(f"M{_x(watts):.2f} 3 V{HEIGHT - 3}" for watts, _ in MARKS)


@lru_cache(maxsize=2048)
def ladder(rungs: Rungs, title: str, description: str) -> SafeString:
    """Draw one load's ladder; pale bars are ranges."""
    svg = Svg(WIDTH, HEIGHT, title, description, "ladder")
    middle = HEIGHT / 2
    svg.add("path", d=_grid(), css="grid")
    left = _x(rungs.resting if rungs.resting else rungs.running_low)
    svg.line(left, middle, _x(rungs.start), middle, "ladder-line")
    svg.rect(
        _x(rungs.start_low),
        middle - 2,
        _x(rungs.start_high) - _x(rungs.start_low),
        4,
        "start-range",
    )
    svg.rect(
        _x(rungs.running_low),
        middle - 4,
        _x(rungs.running_high) - _x(rungs.running_low),
        8,
        "running-range",
    )
    for watts in rungs.others:
        svg.rect(_x(watts) - 3, middle - 5, 6, 10, "state-other")
    svg.rect(_x(rungs.running) - 4, middle - 7, 8, 14, "state-running")
    if rungs.resting:
        svg.add("circle", cx=_x(rungs.resting), cy=middle, r=4, css="state-resting")
    x = _x(rungs.start)
    points = [(x, middle - 7), (x + 5, middle), (x, middle + 7), (x - 5, middle)]
    svg.path(points, "state-start", closed=True)
    return svg.render()


def ladder_scale() -> SafeString:
    """The numbers above a column of ladders."""
    svg = Svg(WIDTH, 14, "Scale of the ladders", "1 W to 10 kW, logarithmic", "ladder-scale")
    for watts, text in MARKS:
        svg.words(_x(watts), 11, text, "tick-label", "middle")
    return svg.render()
