"""How well a few cycles represent the duty of many."""

from __future__ import annotations

from collections.abc import Sequence

from needle.estimate import spread_of_few

#: Scatter of one cycle's duty about the mean before any was timed (relative sd, general value), and
#: the number of cycles that this prior is worth.
CYCLE_SPREAD, CYCLE_WORTH = 0.10, 4


def cycle_spread(deviations: Sequence[float]) -> float:
    """Relative sd of the mean of cycles, from their relative deviations."""
    return spread_of_few(deviations, CYCLE_SPREAD, CYCLE_WORTH)
