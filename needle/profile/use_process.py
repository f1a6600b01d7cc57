"""Loads that run when somebody or something asks for it: a process of uses.

A kettle, a float pump, a hot-water tank run a number of times a day, each time for some energy.
Both are uncertain, and few uses seen is little known. The rate λ (uses a day) and the energy e of
one (Wh) have prior distributions; evidence multiplies them by its likelihood on a grid:

- a counter: the energy of a compound process over T days, with mean λ·e·T and variance
  D·λ·e²·T, where D is the dispersion; nothing counted has the probability of no use at all;
- a capture or a tally: the number of uses, negative binomial, and their energies;
- a task or a short use: the energy of one; and what people say of how often.

Days differ, and hours too: both widen what a short count says of the long run. (D. R. Cox,
"Renewal Theory", 1962, section 8.4: cumulative processes; for the negative binomial of a rate that
itself varies, M. Greenwood and G. U. Yule, J. R. Stat. Soc. 83, 255, 1920.)
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from needle.estimate import Z90, Estimate

DAY_H = 24.0
#: Variance of the energy of a number of uses over that of a Poisson number of equal ones: n uses
#: leave 1.2/√n of it (general value).
DISPERSION = 1.44
#: How one use's energy differs from another's (relative sd), as the dispersion has it.
USE_SPREAD = math.sqrt(DISPERSION - 1)
#: How well people know how often something is used (relative sd, general value).
STATED_TIMES_SPREAD = 0.35
#: How one day's number of uses differs from another's (relative sd, general value).
USE_DAY_SPREAD = 0.30
#: Points of the grid: energies of one use, and steps of the logarithm of the daily energy.
_ENERGIES, _STEP = 49, 0.04
_LOG_RANGE = (math.log(0.05), math.log(200_000.0))


@dataclass(frozen=True)
class UsePrior:
    """How something is usually used: low, typical and high values, 10th to 90th percentile.

    Attributes
    ----------
    per_day : (low, typical, high)
        Uses a day.
    minutes : (low, typical, high)
        Length of one, min.
    hours : str
        Key of :data:`HOURS`: when in the day.
    day_spread : float
        Relative sd of one day's number about the long-run mean.
    """

    per_day: tuple[float, float, float]
    minutes: tuple[float, float, float]
    hours: str
    day_spread: float = USE_DAY_SPREAD

    @property
    def duty(self) -> float:
        """Typical share of the day that it runs."""
        return self.per_day[1] * self.minutes[1] / (60 * DAY_H)


#: How likely a use is by the hour of the day, relative to its mean (general values): water runs
#: morning and evening, a kitchen by day.
HOURS = {
    "water": (
        *(0.35, 0.25, 0.25, 0.25, 0.35, 0.8, 1.7, 1.9, 1.5, 1.2, 1.0, 1.0),
        *(1.1, 1.0, 0.9, 0.9, 1.0, 1.3, 1.7, 1.7, 1.4, 1.2, 0.8, 0.45),
    ),
    "kitchen": (
        *(0.15, 0.1, 0.1, 0.1, 0.15, 0.6, 1.6, 1.9, 1.5, 1.1, 1.2, 1.3),
        *(1.5, 1.2, 1.0, 1.1, 1.2, 1.6, 1.9, 1.6, 1.2, 0.9, 0.6, 0.4),
    ),
}


#: Which hours of the day, by who decides when a load runs; all alike for others.
HOURS_OF = {"water": "water", "person": "kitchen"}


@dataclass(frozen=True)
class Counted:
    """A counter over some hours: its Wh lie between two bounds.

    ``spread`` is the relative sd of meter, clock and of what was subtracted.
    """

    low_wh: float
    high_wh: float
    hours: float
    spread: float


@dataclass(frozen=True)
class Seen:
    """Uses that were seen in some hours, with the energy of one of them (Wh) if it was read."""

    uses: int
    hours: float
    use_wh: float | None = None


@dataclass(frozen=True)
class UseProcess:
    """What is known of how a load is used.

    Attributes
    ----------
    per_day : Estimate
        Uses a day.
    use_wh : Estimate
        Energy of one, Wh.
    day_wh : Estimate
        Energy of a day in the long run, Wh.
    seen : int
        Uses that were seen or counted.
    hours_seen : float
        Hours over which it was watched or counted.
    """

    per_day: Estimate
    use_wh: Estimate
    day_wh: Estimate
    seen: int
    hours_seen: float


@lru_cache(maxsize=64)
def hours_spread(hours: str, length_h: float) -> float:
    """Relative sd of what a span of some hours, begun at any time, shows of a whole day."""
    weights = np.asarray(HOURS[hours])
    weights = weights / weights.mean()
    whole, part = divmod(round(length_h * 2), 48)
    if part == 0:
        return 0.0
    fine = np.repeat(weights, 2)
    sums = np.array([np.roll(fine, -first)[:part].sum() for first in range(48)])
    return float(sums.std() / (whole * 48 + part))


def _span_spread(prior: UsePrior, length_h: float) -> float:
    """Relative sd of the rate in a span about the long-run rate, from days and hours."""
    days = prior.day_spread / math.sqrt(max(1.0, length_h / DAY_H))
    return math.hypot(days, hours_spread(prior.hours, round(length_h * 2) / 2))


def use_process(
    prior: UsePrior,
    use_wh: Estimate,
    counted: Sequence[Counted],
    seen: Sequence[Seen],
    stated_per_day: Estimate | None = None,
    stated_day_wh: Sequence[Estimate] = (),
) -> UseProcess:
    """Return what all evidence says of a load's uses.

    Parameters
    ----------
    prior : UsePrior
    use_wh : Estimate
        Energy of one use before it is seen or counted here: from its power and its usual length,
        or from tasks that were measured.
    counted : sequence of Counted
    seen : sequence of Seen
    stated_per_day : Estimate or None
        How often a day, as people say: it takes the place of what is usual.
    stated_day_wh : sequence of Estimate
        Other estimates of the mean energy of a day, Wh, such as an energy label's.
    """
    normal = np.linspace(-2.6, 2.6, _ENERGIES)
    log_e = math.log(max(use_wh.value, 1e-6)) + use_wh.sigma_log * normal
    log_m = np.arange(*_LOG_RANGE, _STEP)
    rate = np.exp(log_m[None, :] - log_e[:, None])
    likelihood = np.repeat(-(normal[:, None] ** 2) / 2, len(log_m), axis=1)
    if stated_per_day is None:
        likelihood += _log_of_range(np.log(rate), prior.per_day)
    else:
        likelihood += _log_normal(np.log(rate), stated_per_day)
    for estimate in stated_day_wh:
        likelihood += _log_normal(log_m[None, :], estimate)
    for count in counted:
        likelihood += _log_counted(count, prior, np.exp(log_m)[None, :], np.exp(log_e)[:, None])
    for sight in seen:
        likelihood += _log_seen(sight, prior, rate, log_e[:, None])
    weights = np.exp(likelihood - likelihood.max())
    weights /= weights.sum()
    day = _summary(log_m, weights.sum(axis=0))
    found_wh = _summary(log_e, weights.sum(axis=1))
    uses = sum(sight.uses for sight in seen)
    uses += sum(round(max(0.0, count.low_wh) / found_wh.value) for count in counted)
    return UseProcess(
        per_day=_joint_summary(np.log(rate), weights),
        use_wh=found_wh,
        day_wh=day,
        seen=uses,
        hours_seen=sum(count.hours for count in counted) + sum(sight.hours for sight in seen),
    )


def _log_of_range(logs: np.ndarray, usual: tuple[float, float, float]) -> np.ndarray:
    """Log-density of a range with two halves about its typical value."""
    low, typical, high = (math.log(value) for value in usual)
    sigma = np.where(logs < typical, (typical - low) / Z90, (high - typical) / Z90)
    return -(((logs - typical) / sigma) ** 2) / 2


def _log_normal(logs: np.ndarray, estimate: Estimate) -> np.ndarray:
    sigma = max(estimate.sigma_log, 0.02)
    return -(((logs - math.log(max(estimate.value, 1e-6))) / sigma) ** 2) / 2


def _log_counted(
    count: Counted, prior: UsePrior, day_wh: np.ndarray, use_wh: np.ndarray
) -> np.ndarray:
    """Log-likelihood of a counter: no use at all, or a gamma distribution of the energy."""
    from scipy.special import gammainc

    days = count.hours / DAY_H
    wide = math.hypot(_span_spread(prior, count.hours), count.spread)
    total = day_wh * days
    none = _none_seen(total / use_wh, wide)
    # Mean and variance of its energy, given that it was used at all.
    mean = total / np.maximum(1 - none, 1e-9)
    square = DISPERSION * total * use_wh + total**2 * (1 + wide**2)
    variance = np.maximum(square / np.maximum(1 - none, 1e-9) - mean**2, (0.05 * mean) ** 2)
    shape, scale = mean**2 / variance, variance / mean
    below = gammainc(shape, count.high_wh / scale)
    if count.low_wh <= 0:
        return np.asarray(np.log(none + (1 - none) * below + 1e-300))
    above = gammainc(shape, count.low_wh / scale)
    return np.asarray(np.log((1 - none) * np.maximum(below - above, 0.0) + 1e-300))


def _none_seen(uses: np.ndarray, wide: float) -> np.ndarray:
    """Probability of no use, for an expected number of uses whose rate itself varies."""
    square = max(wide**2, 1e-6)
    return np.asarray((1 + square * uses) ** (-1 / square))


def _log_seen(sight: Seen, prior: UsePrior, rate: np.ndarray, log_e: np.ndarray) -> np.ndarray:
    """Log-likelihood of a number of uses, and of the energy of one of them."""
    expected = rate * sight.hours / DAY_H
    # A negative binomial: Poisson's, of a rate that days and hours vary.
    size = 1 / max(_span_spread(prior, sight.hours) ** 2, 1e-6)
    found = sight.uses * np.log(expected / (size + expected)) - size * np.log1p(expected / size)
    if sight.use_wh is None or sight.uses < 1:
        return np.asarray(found)
    sigma = math.hypot(USE_SPREAD / math.sqrt(sight.uses), 0.03)
    return np.asarray(found - ((math.log(max(sight.use_wh, 1e-6)) - log_e) / sigma) ** 2 / 2)


def _summary(logs: np.ndarray, weights: np.ndarray) -> Estimate:
    """Median and spread of a distribution of logarithms.

    The spread is that of its upper half: high energies shorten a run, and a use that was never
    seen leaves an upper bound and hardly a lower one.
    """
    total = np.cumsum(weights)
    low, middle, high = (float(np.interp(share, total, logs)) for share in (0.1, 0.5, 0.9))
    sigma = max((high - middle) / Z90, (middle - low) / (2 * Z90), 0.01)
    return Estimate(math.exp(middle), math.sqrt(math.expm1(sigma**2)))


def _joint_summary(logs: np.ndarray, weights: np.ndarray) -> Estimate:
    order = np.argsort(logs, axis=None)
    return _summary(logs.ravel()[order], weights.ravel()[order])
