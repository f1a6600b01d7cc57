"""Power of a load over the years: whether it changed, and when.

Readings that disagree across time are not averaged, as a worn seal, dust or age change an
appliance. For every gap between dated means, both sides are compared; if they differ by more than
their ranges allow in nine of ten cases, only the newer side counts. With several gaps the test is
stricter (Bonferroni; R. Miller, "Simultaneous Statistical Inference", 2nd ed., 1981, section 1.3).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from statistics import NormalDist
from typing import TypeGuard

from needle.estimate import Z90, Estimate
from needle.measure.readings import (
    AssumedDuty,
    ChargeDrop,
    EnergyRun,
    Reading,
    Recorded,
    Spot,
    Tally,
)
from needle.message import Message, message
from needle.profile import energy, recorded
from needle.profile.kinds import Kind
from needle.profile.temperature import scale_mean

#: Readings closer together than this are of one time.
LEAST_GAP = timedelta(days=14)
#: What another room, not noted, may have done between two readings of a box (relative sd).
SEASON_SPREAD = 0.12
#: Share of cases in which a difference must be real.
REAL = 0.9
#: Some boxes' days differ more than is usual: spreads are so much wider before a change counts.
CAUTIOUS = 4 / 3


@dataclass(frozen=True)
class CoursePoint:
    """A dated mean, W, adjusted to the newest mean's room temperature if rooms were noted."""

    at: datetime
    mean_w: Estimate


@dataclass(frozen=True)
class Change:
    """A significant change: the readings between which it happened, and its size.

    Attributes
    ----------
    last_before, first_after : datetime
    ratio, low, high : float
        Ratio of after to before: median, 10th and 90th percentile.
    """

    last_before: datetime
    first_after: datetime
    ratio: float
    low: float
    high: float

    @property
    def notice(self) -> Message:
        """The change as it is said."""
        return message(
            "draw-changed",
            ratio=self.ratio,
            low=self.low,
            high=self.high,
            last_before=self.last_before,
            first_after=self.first_after,
        )


def _counted_mean(reading: Reading, watched: energy.Watched, dc: bool) -> Estimate | None:
    """Mean W of a counter or a capture; None for other readings."""
    if isinstance(reading, EnergyRun):
        return energy.from_counter([reading], watched, dc)
    return recorded.mean_of([reading], watched) if isinstance(reading, Recorded) else None


def _is_running_spot(reading: Reading) -> TypeGuard[Spot]:
    return isinstance(reading, Spot) and bool(reading.watts) and reading.state == "running"


def points_of(
    readings: Sequence[Reading], kind: Kind, watched: energy.Watched, set_c: float | None, dc: bool
) -> list[CoursePoint]:
    """Return dated means in order of time: of counters and captures, or else of spot readings."""
    dated = [reading for reading in readings if reading.context.at is not None]
    means = ((reading, _counted_mean(reading, watched, dc)) for reading in dated)
    known = [(reading, mean) for reading, mean in means if mean is not None]
    if not known and not kind.varies:
        known = [(spot, _of_a_moment(spot, kind)) for spot in dated if _is_running_spot(spot)]
    if not known:
        return []
    known.sort(key=lambda pair: (_at(pair[0]), pair[1].value))
    newest_c = known[-1][0].context.room_c
    return [
        CoursePoint(_at(reading), _in_the_room(mean, reading.context.room_c, newest_c, kind, set_c))
        for reading, mean in known
    ]


def _of_a_moment(spot: Spot, kind: Kind) -> Estimate:
    watts = spot.watts or 0.0
    accuracy = spot.context.meter().relative_sd("watts", watts)
    return Estimate(watts, math.hypot(accuracy, kind.level_spread), "B")


def _at(reading: Reading) -> datetime:
    assert reading.context.at is not None
    return reading.context.at


def _in_the_room(
    mean: Estimate, room_c: float | None, newest_c: float | None, kind: Kind, set_c: float | None
) -> Estimate:
    """A mean adjusted to the newest mean's room; with a wider range if rooms were not noted."""
    if not kind.varies:
        return mean
    if room_c is None or newest_c is None or set_c is None:
        return replace(mean, spread=math.hypot(mean.spread, SEASON_SPREAD))
    try:
        scaling = scale_mean(set_c, room_c, newest_c, heats=kind.set_point == "heats")
    except ValueError:
        return replace(mean, spread=math.hypot(mean.spread, SEASON_SPREAD))
    return replace(
        mean, value=mean.value * scaling.factor, spread=math.hypot(mean.spread, scaling.spread)
    )


def change_of(points: Sequence[CoursePoint]) -> Change | None:
    """The latest significant change; None if there is none."""
    gaps = [
        index
        for index in range(1, len(points))
        if points[index].at - points[index - 1].at >= LEAST_GAP
    ]
    if not gaps:
        return None
    splits = [_split(points, index) for index in gaps]
    distance, index, ratio, spread = max(splits)
    wanted = NormalDist().inv_cdf(1 - (1 - REAL) / 2 / len(gaps))
    if distance < wanted:
        return None
    later = change_of(points[index:])
    if later is not None:
        return later
    ends = (ratio * math.exp(side * Z90 * spread) for side in (-1, 1))
    return Change(points[index - 1].at, points[index].at, ratio, *ends)


def _split(points: Sequence[CoursePoint], index: int) -> tuple[float, int, float, float]:
    """Deviations between both sides of a gap; the gap, the ratio, and the sd of its logarithm."""
    (before, before_sd), (after, after_sd) = (
        _mean_log(side) for side in (points[:index], points[index:])
    )
    spread = CAUTIOUS * math.hypot(before_sd, after_sd)
    apart = after - before
    return abs(apart) / spread, index, math.exp(apart), spread


def _mean_log(points: Sequence[CoursePoint]) -> tuple[float, float]:
    """Weighted mean of the logarithms, and its deviation assuming no change."""
    weights = [1 / max(point.mean_w.sigma_log, 1e-3) ** 2 for point in points]
    logs = [math.log(max(point.mean_w.value, 1e-6)) for point in points]
    total = sum(weights)
    return sum(w * log for w, log in zip(weights, logs, strict=True)) / total, 1 / math.sqrt(total)


def left_out_undated(readings: Sequence[Reading], change: Change) -> Message | None:
    """Notice about readings without a date, which cannot be assigned; None if there are none."""
    undated = [
        reading
        for reading in readings
        if reading.context.at is None and not _is_since(reading, change)
    ]
    return message("undated-left-out", count=len(undated)) if undated else None


#: Readings that tell what it draws; labels and starts stay.
_OF_THE_DRAW = (EnergyRun, Recorded, Tally, AssumedDuty, ChargeDrop, Spot)


def in_force(readings: Sequence[Reading], change: Change) -> list[Reading]:
    """Readings that count after a change: those made since, and undated spot readings.

    Earlier spot readings count if none was made since.
    """
    since = [reading for reading in readings if _is_since(reading, change)]
    if not any(isinstance(reading, Spot) for reading in since):
        since += [reading for reading in readings if isinstance(reading, Spot)]
    return since


def _is_since(reading: Reading, change: Change) -> bool:
    at = reading.context.at
    if not isinstance(reading, _OF_THE_DRAW):
        return True
    if at is None:
        return isinstance(reading, Spot | Tally | AssumedDuty)
    return at >= change.first_after
