"""Variation of a load between days, and how well a measuring period represents other days.

An estimate is of the long-run mean. Over a period of T hours its relative variance is the sum of

- the meter's accuracy, and its last digit;
- cycles: their scatter over the root of their number, and incomplete cycles at the ends;
- days: day² / max(1, T/24);
- time of day: swing² · (part of the day that was not covered) / 2, the variance of a sine;
- rare states that were not recorded: a defrost, in boxes measured for less than a day.

A plan adds the days' variance again, day² / max(1, H/24) over its H hours, and the time of day's in
its draws. The spreads of each kind are general values of ours: priors, which captures of several
days replace (see :func:`day_spread`).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

from needle.estimate import Estimate
from needle.measure.cycles import CYCLE_SPREAD
from needle.message import message
from needle.profile.kinds import Kind

HOURS_A_DAY = 24.0
#: Days that the prior of the day-to-day spread is worth.
DAYS_WORTH = 4
#: What a defrost that was not seen adds to the mean: middle and spread of 5 to 18 % more in those
#: boxes that defrost, two of five; at intervals spread evenly between two limits (general values).
UNSEEN_SHIFT, UNSEEN_SPREAD = 0.04, 0.06
_DEFROSTING, _EVERY_H = 0.4, (8.0, 24.0)
#: Spread of where in a cycle a span begins and ends: sd of the on-time that it cuts off, over
#: period · duty · (1 - duty), averaged over all lengths (by integration: 0.41).
_CUT_OFF = 0.41
#: How far what modulates wanders within the hour (relative sd), and how long it stays there, h:
#: with days and time of day that makes the ±30 % (10th to 90th percentile) of a single reading.
WANDER, WANDER_H = 0.20, 0.7


def day_spread(kind: Kind, seen: Sequence[tuple[int, float]] = ()) -> float:
    """Relative sd of a day's mean: the kind's, shrunk towards captures of several days.

    Parameters
    ----------
    seen : sequence of (days, sd)
        Whole days of each capture, and the relative sd of their means.
    """
    squares, weight = DAYS_WORTH * kind.day_spread**2, float(DAYS_WORTH)
    for days, spread in seen:
        if days < 2:  # one day, or less, does not show how days differ
            continue
        squares += (days - 1) * spread**2
        weight += days - 1
    return math.sqrt(squares / weight)


def span_spread(kind: Kind, hours: float, day: float | None = None) -> float:
    """Relative sd from day-to-day and time-of-day variation after some hours."""
    day = kind.day_spread if day is None else day
    uncovered = max(0.0, 1 - hours / HOURS_A_DAY)
    return math.sqrt(day**2 / max(1.0, hours / HOURS_A_DAY) + kind.day_swing**2 * uncovered / 2)


def cut_off_spread(kind: Kind, hours: float, cycle_min: float, duty: float) -> float:
    """Relative sd from incomplete cycles, or from continuous variation, in a measuring period."""
    if kind.wander > 0:
        return wander_spread(hours, kind.wander)
    if not kind.cycles or hours <= 0:
        return 0.0
    cycles = max(0.25, hours * 60 / cycle_min)
    return math.hypot(CYCLE_SPREAD / math.sqrt(max(1.0, cycles)), _CUT_OFF * (1 - duty) / cycles)


def wander_spread(hours: float, wander: float = WANDER) -> float:
    """Relative sd of the mean of a continuously varying load after some hours.

    Consecutive stretches are about independent.
    """
    return wander / math.sqrt(max(1.0, hours / WANDER_H))


def unseen_share(hours: float) -> float:
    """Probability, relative to the prior, that a box defrosts though no defrost was recorded, 0…1.

    By Bayes' rule: a box that defrosts every h hours, with h uniform between two limits, shows no
    defrost in T hours with probability max(0, 1 - T/h).
    """
    low, high = _EVERY_H
    first = min(high, max(low, hours))
    kept = (high - first - hours * math.log(high / first)) / (high - low)
    return kept / (1 - _DEFROSTING * (1 - kept))


def with_unseen(mean: Estimate, kind: Kind, settled: bool, counted: bool, hours: float) -> Estimate:
    """A mean shifted and widened by a rare state that may not have been recorded yet.

    Parameters
    ----------
    settled : bool
        Whether one was recorded, or is known not to exist.
    counted : bool
        Whether the mean is from a counter, which includes rare states: the median stays, and a
        short run may include more than their share.
    hours : float
        Duration of the measurement, h.
    """
    if settled or not kind.rarer:
        return mean
    how = (*mean.how, message("defrost-unseen"))
    share = 1.0 if counted else unseen_share(hours)
    shift = 0.0 if counted else UNSEEN_SHIFT * share
    return replace(
        mean,
        value=mean.value * (1 + shift),
        spread=math.hypot(mean.spread, UNSEEN_SPREAD * math.sqrt(share)),
        how=how,
    )
