"""Whether ranges said in advance were honest: how far ends lay from them, over several runs."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from scipy.special import chdtr, chdtrc

from needle.estimate import Z90

#: Fewest runs that say anything of ranges, and how rarely honest ranges may look dishonest.
FEWEST, BY_CHANCE = 6, 0.1
#: Runs that are taken to have been as promised, before any was made.
PRIOR_RUNS = 3
#: Farthest that one run counts, sd: a single surprise is no rule.
FARTHEST = 3.0
#: Least and most that ranges are scaled by.
LEAST_FACTOR, MOST_FACTOR = 0.6, 3.0


@dataclass(frozen=True)
class Foretold:
    """A run that was made, and the range of hours that was said before it.

    Attributes
    ----------
    low_h, mid_h, high_h : float
        10th, 50th and 90th percentile.
    hours : float
        How long it lasted.
    factor : float
        By which that range had been scaled.
    """

    low_h: float
    mid_h: float
    high_h: float
    hours: float
    factor: float = 1.0

    @property
    def held(self) -> bool:
        return self.low_h <= self.hours <= self.high_h

    @property
    def off(self) -> float:
        """How far it ended from the middle, in sd of the range as it was before scaling."""
        sd = math.log(self.high_h / self.low_h) / (2 * Z90)
        off = math.log(self.hours / self.mid_h) / max(sd, 1e-6) * self.factor
        return max(-FARTHEST, min(FARTHEST, off))


@dataclass(frozen=True)
class Honesty:
    """How ranges held: runs, those within their range, and by what ranges are to be scaled."""

    runs: int
    held: int
    factor: float

    @property
    def is_enough(self) -> bool:
        """Whether there are enough runs to say anything of ranges."""
        return self.runs >= FEWEST


def honesty(runs: Sequence[Foretold]) -> Honesty:
    """Return how ranges held, and the factor that would have made them honest.

    The factor is 1 until enough runs say otherwise: the sum of squared deviations of honest ranges
    has a chi-squared distribution with as many degrees of freedom as there are runs.
    """
    count, squares = len(runs), sum(run.off**2 for run in runs)
    factor = 1.0
    if count >= FEWEST:
        too_far, too_near = chdtrc(count, squares), chdtr(count, squares)
        if 2 * min(too_far, too_near) < BY_CHANCE:
            factor = math.sqrt((squares + PRIOR_RUNS) / (count + PRIOR_RUNS))
    factor = min(MOST_FACTOR, max(LEAST_FACTOR, factor))
    return Honesty(count, sum(run.held for run in runs), factor)
