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
from needle.message import Message, message
from needle.supply.chemistry import CHEMISTRIES

DAYS_A_YEAR = 365.25
#: Age up to which a test gives today's capacity, days.
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
        aged = message("aged", years=years, yearly=self.yearly)
        return replace(
            held,
            value=held.value * math.exp(-lost),
            how=(*held.how, aged),
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


def course_message(tests: Sequence[Held], ageing: Ageing, in_years: float = 1.0) -> Message | None:
    """Capacity so far and now, whether the change is significant, and what to expect."""
    if not tests:
        return None
    first, newest = tests[0], tests[-1]
    ahead = ageing.after(newest.share, in_years)
    expected = {"expected": ahead.value, "low": ahead.low, "high": ahead.high}
    if len(tests) < 2:
        return message("capacity-once", **expected)
    course = {
        "first": first.share.value,
        "first_on": first.on,
        "newest": newest.share.value,
        "newest_on": newest.on,
        **expected,
    }
    if not ageing.real:
        return message("capacity-unchanged", **course)
    ends = (ageing.yearly + side * Z90 * ageing.spread for side in (-1, 1))
    least, most = (max(0.0, yearly) for yearly in ends)
    return message("capacity-falls", yearly=ageing.yearly, least=least, most=most, **course)
