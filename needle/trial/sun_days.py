"""Whole days of sun that a trial counted: evidence on the panels, beside the run itself."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta

import numpy as np

from needle.plan.sources.sun import Sun
from needle.trial.trial import Trial

#: Most of a day's clear-sky energy that may lie outside the two counts about it.
MOST_OUTSIDE = 0.03
#: From this charge on a battery may refuse what the sun gives.
NEARLY_FULL = 0.97
DAY_MIN = 1440


@dataclass(frozen=True)
class SunDay:
    """A day and the Wh that the sun gave on it."""

    day: date
    wh: float


def sun_days(trial: Trial) -> list[SunDay]:
    """Return the days whose sun a trial counted from before it rose until after it set.

    Only where the sun is the plan's one source, so that all that went in was its own, and days on
    which the battery was not nearly full, when it refuses some of it.
    """
    plan = trial.plan
    if plan is None or len(plan.sources) != 1 or not isinstance(plan.sources[0], Sun):
        return []
    counts = [(0.0, 0.0)]
    counts += [(check.h, check.wh_in) for check in trial.check_ins if check.wh_in is not None]
    days = list(_daylight(plan.sources[0], plan.start, counts[-1][0]))
    found = []
    for (_, _, evening_h), (day, dawn_h, dusk_h), (_, morning_h, _) in zip(
        days, days[1:], days[2:], strict=False
    ):
        begin = _within(counts, evening_h, dawn_h)[-1:]
        end = _within(counts, dusk_h, morning_h)[:1]
        for (begin_h, begin_wh), (end_h, end_wh) in zip(begin, end, strict=False):
            if end_wh > begin_wh and not _nearly_full(trial, begin_h, end_h):
                found.append(SunDay(day, end_wh - begin_wh))
    return found


def _within(
    counts: Sequence[tuple[float, float]], first_h: float, last_h: float
) -> list[tuple[float, float]]:
    return [count for count in counts if first_h <= count[0] <= last_h]


def _daylight(sun: Sun, start: datetime, last_h: float) -> Iterator[tuple[date, float, float]]:
    """Each day about a trial, and between which of its hours nearly all of its sun shines."""
    midnight = start.replace(hour=0, minute=0, second=0, microsecond=0)
    before_h = (start - midnight).total_seconds() / 3600
    for number in range(-1, int((before_h + last_h) // 24) + 2):
        morning = midnight + timedelta(days=number)
        shone = np.cumsum(sun.clear_w(morning, DAY_MIN))
        if shone[-1] > 0:
            hours = number * 24 - before_h + np.arange(DAY_MIN) / 60
            least = MOST_OUTSIDE / 2 * shone[-1]
            dawn_h, dusk_h = hours[shone > least][0], hours[shone >= shone[-1] - least][0]
            yield morning.date(), float(dawn_h), float(dusk_h)


def _nearly_full(trial: Trial, begin_h: float, end_h: float) -> bool:
    shown = [
        check.shown for check in trial.check_ins if begin_h <= check.h <= end_h and check.shown
    ]
    return bool(shown) and max(shown) >= NEARLY_FULL
