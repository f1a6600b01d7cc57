"""Uses of loads that run when somebody or something asks for it, drawn in every draw of a plan."""

from __future__ import annotations

import math

import numpy as np

from needle.moments import DAY_MIN
from needle.plan.draws.inputs import USE_ENERGIES, USES, Inputs
from needle.plan.load import PlanLoad
from needle.plan.plan import Plan
from needle.profile.use_process import HOURS, HOURS_OF, USE_SPREAD

#: Minutes over which a load's day, time of day and uses count as one; a day is a whole number of
#: them.
STRETCH = 180


def used_by_stretch(
    load: PlanLoad, plan: Plan, factors: np.ndarray, inputs: Inputs, number: int
) -> np.ndarray:
    """Energy of each stretch over its long-run mean, (draws, stretches).

    Parameters
    ----------
    load : PlanLoad
    plan : Plan
    factors : ndarray, (draws, stretches)
        Of days, on the rate.
    inputs : Inputs
    number : int
        Which of several identical loads.
    """
    assert load.use.uses_per_day is not None
    usual = load.use.uses_per_day * STRETCH / DAY_MIN
    shares = _share_of_hours(load, plan, factors.shape[1])
    uses = _poisson(inputs.stream(USES, load.name, number), usual * shares * factors)
    return np.asarray(uses * _energies(inputs, load, number, uses) / usual)


def daily_uses(load: PlanLoad, minutes: int, inputs: Inputs) -> np.ndarray | None:
    """Uses of each day over their usual number, by stretch, (draws, stretches).

    For tasks whose number a day is known better than their times; None for others.
    """
    if load.use.uses_per_day is None or inputs.draws == 1:
        return None
    count = math.ceil(minutes / STRETCH)
    day = np.arange(count) * STRETCH // DAY_MIN
    sigma = math.sqrt(math.log1p(load.spreads.day**2))
    stream = inputs.stream(USES, load.name)
    normal = stream.standard_normal((int(day[-1]) + 1, inputs.draws)).T
    rates = load.use.uses_per_day * np.exp(sigma * normal - sigma**2 / 2)
    uses = _poisson(inputs.stream(USES, load.name, 1), rates)
    return np.asarray((uses / load.use.uses_per_day)[:, day].astype(np.float32))


def _share_of_hours(load: PlanLoad, plan: Plan, count: int) -> np.ndarray:
    """How much each stretch of the plan is used, relative to the mean of the day."""
    hours = HOURS.get(HOURS_OF.get(load.use.runs_by, ""))
    if hours is None:
        return np.ones(count)
    weights = np.repeat(np.asarray(hours) / np.mean(hours), 60)
    begin = plan.start.hour * 60 + plan.start.minute
    of_day = np.roll(weights, -begin).reshape(-1, STRETCH).mean(axis=1)
    return np.asarray(np.resize(of_day, count))


def _poisson(stream: np.random.Generator, rates: np.ndarray) -> np.ndarray:
    """Poisson numbers by inversion: the same random rank gives about as many at a like rate."""
    ranks = stream.random(rates.shape[::-1]).T
    probability = np.exp(-rates)
    total, uses = probability.copy(), np.zeros(rates.shape)
    for number in range(1, int(rates.max() + 8 * math.sqrt(rates.max()) + 12)):
        more = ranks > total
        if not more.any():
            break
        uses += more
        probability = probability * rates / number
        total += probability
    return uses


def _energies(inputs: Inputs, load: PlanLoad, number: int, uses: np.ndarray) -> np.ndarray:
    """Mean energy of a number of uses over the usual one."""
    stream = inputs.stream(USE_ENERGIES, load.name, number)
    normal = stream.standard_normal(uses.shape[::-1]).T
    sigma = np.sqrt(np.log1p(USE_SPREAD**2 / np.maximum(uses, 1.0)))
    return np.asarray(np.exp(sigma * normal - sigma**2 / 2))
