"""Scales: positions of values, and round numbers for ticks."""

from __future__ import annotations

import math


def nice_ceiling(value: float) -> float:
    """The next round number that is divisible by three: 3, 6, 9, 12, 15, 18, 24, 36…"""
    if value <= 0 or not math.isfinite(value):
        return 3.0
    size = 10.0 ** math.floor(math.log10(value / 3))
    for step in (1, 1.5, 2, 2.5, 3, 4, 5, 6, 8, 10):
        if 3 * step * size >= value - 1e-9:
            return 3 * step * size
    return 30 * size


def hour_step(hours: float, most_marks: int = 9) -> int:
    """Hours between ticks, for a maximum number of ticks."""
    for step in (1, 2, 3, 4, 6, 12, 24, 48):
        if hours / step <= most_marks:
            return step
    return 72


#: Steps between moments that read well, s.
_STEPS_S = (
    1,
    2,
    5,
    10,
    15,
    30,
    60,
    120,
    300,
    600,
    900,
    1800,
    3600,
    7200,
    10_800,
    14_400,
    21_600,
    43_200,
    86_400,
    172_800,
    604_800,
)


def round_moments(first_s: float, last_s: float, zero_s: float = 0.0, most: int = 6) -> list[float]:
    """Ticks between two times at round times after ``zero_s``, at most ``most``; all in s."""
    span = last_s - first_s
    step = next((step for step in _STEPS_S if span / step <= most), _STEPS_S[-1])
    begin = math.ceil((first_s - zero_s) / step)
    end = math.floor((last_s - zero_s) / step)
    return [zero_s + step * number for number in range(begin, min(end, begin + most) + 1)]


def log_place(value: float, low: float, high: float) -> float:
    """Position of a value on a logarithmic scale, 0…1."""
    inside = min(high, max(low, value))
    return math.log(inside / low) / math.log(high / low)
