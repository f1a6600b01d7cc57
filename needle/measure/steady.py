"""Whether a display is stable enough to be read."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

#: Seconds over which a steady reading's spread is small…
WINDOW_S = 20.0
#: … stays inside this share or this many watts of its middle.
WITHIN_SHARE, WITHIN_W = 0.01, 1.0


@dataclass(frozen=True)
class Steady:
    """Seconds for which a reading has been stable (0 while it changes), its value, and its range.

    ``watts`` is the mid-range of the last 20 s, ``within_w`` half of their range.
    """

    seconds: float
    watts: float
    within_w: float


def steady_now(time_s: np.ndarray, watts: np.ndarray) -> Steady:
    """Return how stable the end of a series of readings is; in order of time.

    Stable: minimum and maximum of the last 20 s are within ±1 % or ±1 W of their middle. It has
    been stable since the earliest reading from which on all are within these limits.
    """
    recent = time_s >= time_s[-1] - WINDOW_S
    low, high = float(watts[recent].min()), float(watts[recent].max())
    middle, half = (low + high) / 2, (high - low) / 2
    allowed = max(WITHIN_SHARE * middle, WITHIN_W)
    if half > allowed or time_s[-1] - time_s[0] < WINDOW_S - 1e-9:
        return Steady(0.0, middle, half)
    off = np.flatnonzero(np.abs(watts - middle) > allowed)
    since = time_s[off[-1] + 1] if off.size else time_s[0]
    return Steady(float(time_s[-1] - since), middle, half)
