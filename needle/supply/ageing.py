"""Ageing of a battery: capacity and idle draw over the years.

The logarithm of a battery's dated capacity tests is a straight line over time: a loss per year,
pooled with the general value for the chemistry (a normal prior of the yearly loss).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date

import numpy as np

from needle.estimate import Z90, Estimate
from needle.supply.chemistry import CHEMISTRIES

DAYS_A_YEAR = 365.25
#: A test so many days old or younger tells what is held today.
FRESH_DAYS = 90
#: Deviations beyond which nine of ten differences are real.
Z_REAL = 1.6448536269514722


@dataclass(frozen=True)
class Held:
    """Capacity of a test, as a share of the nominal one, and its date."""

    on: date
    share: Estimate


@dataclass(frozen=True)
class Ageing:
    """A battery's loss per year (logarithm): likely value, sd, and whether tests show one."""

    yearly: float
    spread: float
    real: bool

    def after(self, held: Estimate, years: float) -> Estimate:
        """Capacity after some years."""
        lost = self.yearly * years
        words = f"aged {years:.1f} years at {self.yearly * 100:.1f} % a year"
        return replace(
            held,
            value=held.value * math.exp(-lost),
            how=(*held.how, words),
            spread=math.hypot(held.spread, self.spread * years),
        )


def ageing_of(tests: Sequence[Held], chemistry: str) -> Ageing:
    """Return the yearly loss from dated tests, oldest first, pooled with the chemistry's.

    Parameters
    ----------
    tests : sequence of Held
        Tests of one battery; fewer than two give the general value.
    chemistry : str
    """
    usual, usual_sd = CHEMISTRIES[chemistry].yearly_loss
    if len(tests) < 2:
        return Ageing(usual, usual_sd, False)
    years = np.array([(test.on - tests[0].on).days / DAYS_A_YEAR for test in tests])
    logs = np.array([math.log(test.share.value) for test in tests])
    weights = np.array([1 / max(test.share.sigma_log, 0.005) ** 2 for test in tests])
    centre = float(weights @ years / weights.sum())
    lever = float(weights @ (years - centre) ** 2)
    if lever <= 0:
        return Ageing(usual, usual_sd, False)
    slope = -float(weights @ ((years - centre) * logs)) / lever
    seen_sd = 1 / math.sqrt(lever)
    precision = 1 / seen_sd**2 + 1 / usual_sd**2
    yearly = (slope / seen_sd**2 + usual / usual_sd**2) / precision
    return Ageing(yearly, 1 / math.sqrt(precision), abs(slope) > Z_REAL * seen_sd)


def course_words(tests: Sequence[Held], ageing: Ageing, in_years: float = 1.0) -> str:
    """Capacity so far and now, whether the change is significant, and what to expect."""
    if not tests:
        return ""
    newest = tests[-1]
    ahead = ageing.after(newest.share, in_years)
    reckon = (
        f"In a year reckon with {ahead.value * 100:.0f} % "
        f"({ahead.low * 100:.0f} to {ahead.high * 100:.0f} %)."
    )
    if len(tests) < 2:
        return f"{reckon} The loss is what is usual for its chemistry: test it again in a year."
    first = tests[0]
    span = f"{first.share.value * 100:.0f} % in {first.on:%B %Y}, {newest.share.value * 100:.0f} % "
    span += f"in {newest.on:%B %Y}"
    if not ageing.real:
        return f"{span}: no change that these tests could show. {reckon}"
    low, high = (100 * (ageing.yearly + side * Z90 * ageing.spread) for side in (-1, 1))
    loss = f"it loses {ageing.yearly * 100:.1f} % a year ({max(0.0, low):.1f} to {high:.1f} %)"
    return f"{span}: {loss}. {reckon}"
