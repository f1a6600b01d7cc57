"""How one day of a load differs from another, and what a span of measuring says of the others.

An estimate is of the long-run mean. Over a span of T hours its relative variance is the sum of

- the meter's, and its last digit's;
- the cycles': scatter of one over the root of their number, and what the ends of the span cut off;
- the days': day² / max(1, T/24);
- the time of day's: swing² · (part of the day that was not covered) / 2, the variance of a sine;
- what is rarer and was not seen: a defrost, in boxes watched for less than a day.

A plan adds the days' again, day² / max(1, H/24) over its H hours, and the time of day's in the
draws. The spreads by kind are general values of ours: priors, which captures of several days
replace (see :func:`day_spread`).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

from needle.estimate import Estimate
from needle.measure.cycles import CYCLE_SPREAD
from needle.profile.kinds import Kind

HOURS_A_DAY = 24.0
#: Days that the prior of the day-to-day spread is worth.
DAYS_WORTH = 4
#: What a defrost that was not seen adds to the mean: middle and spread of 5 to 18 % more in those
#: boxes that defrost, two of five; they do so every so many hours, evenly (general values).
UNSEEN_SHIFT, UNSEEN_SPREAD = 0.04, 0.06
_DEFROSTING, _EVERY_H = 0.4, (8.0, 24.0)
#: Spread of where in a cycle a span begins and ends: sd of the on-time that it cuts off, over
#: period · duty · (1 - duty), averaged over all lengths (by integration: 0.41).
_CUT_OFF = 0.41
#: How far what modulates wanders within the hour (relative sd), and how long it stays there, h:
#: with days and time of day that makes the ±30 % (10th to 90th percentile) of a single reading.
_WANDER, _WANDER_H = 0.20, 0.7


def day_spread(kind: Kind, seen: Sequence[tuple[int, float]] = ()) -> float:
    """Relative sd of a day's mean: the kind's, shrunk towards what captures of several days show.

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
    """What the days and the time of day leave open after so many hours, as a relative sd."""
    day = kind.day_spread if day is None else day
    uncovered = max(0.0, 1 - hours / HOURS_A_DAY)
    return math.sqrt(day**2 / max(1.0, hours / HOURS_A_DAY) + kind.day_swing**2 * uncovered / 2)


def cut_off_spread(kind: Kind, hours: float, cycle_min: float, duty: float) -> float:
    """What cycles, or a wander within the hour, leave open in a span, as a relative sd."""
    if kind.modulates:
        return wander_spread(hours)
    if not kind.cycles or hours <= 0:
        return 0.0
    cycles = max(0.25, hours * 60 / cycle_min)
    return math.hypot(CYCLE_SPREAD / math.sqrt(max(1.0, cycles)), _CUT_OFF * (1 - duty) / cycles)


def wander_spread(hours: float) -> float:
    """What the wander of a load that modulates leaves open of its mean after so many hours.

    Each stretch of it is about independent.
    """
    return _WANDER / math.sqrt(max(1.0, hours / _WANDER_H))


def unseen_share(hours: float) -> float:
    """Odds that a box defrosts though none was seen in so many hours, over those before, 0…1.

    By Bayes' rule: a box that defrosts every h hours, h even between two limits, keeps it from who
    watches T hours in max(0, 1 - T/h) of the cases.
    """
    low, high = _EVERY_H
    first = min(high, max(low, hours))
    kept = (high - first - hours * math.log(high / first)) / (high - low)
    return kept / (1 - _DEFROSTING * (1 - kept))


def with_unseen(mean: Estimate, kind: Kind, settled: bool, counted: bool, hours: float) -> Estimate:
    """A mean shifted and widened by a rarer state that may not have been seen yet.

    Parameters
    ----------
    settled : bool
        One was seen and counted, or it is known that there is none.
    counted : bool
        Whether it came from a counter, which takes in what nobody saw: its middle stays, and a
        short one may have taken in more than its share.
    hours : float
        How long it was watched, h.
    """
    if settled or not kind.rarer:
        return mean
    how = (*mean.how, "a defrost may not have been seen yet: up to a fifth more")
    share = 1.0 if counted else unseen_share(hours)
    shift = 0.0 if counted else UNSEEN_SHIFT * share
    return replace(
        mean,
        value=mean.value * (1 + shift),
        spread=math.hypot(mean.spread, UNSEEN_SPREAD * math.sqrt(share)),
        how=how,
    )
