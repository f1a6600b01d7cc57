"""What a whole house draws by its meter, and what that says of the loads that are known of it.

A meter of the house knows no loads. It bounds them: what all of them use in a day is at most what
the house used, and what runs all the time is at most what the house draws at its lowest.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, tzinfo
from typing import Any

import numpy as np

from needle.document import DocumentError
from needle.estimate import Z90, Estimate
from needle.measure.interval_file import SECONDS_PER_HOUR, Intervals
from needle.message import Message, message
from needle.percentiles import range_of
from needle.profile.profile import Profile

Range = tuple[float, float, float]

HOURS, HALVES = 24, 48
#: Share of a day that must be covered for it to count.
WHOLE = 0.95
#: Hours in a row of the lowest power: cycles of fridges even out within them.
LOWEST_H = 3.0
#: Hours a day from which a load is said to run all the time.
ALWAYS_H = 23.5
#: Longest intervals from which a base load is read, s.
BASE_MOST_S = 3600.0


@dataclass(frozen=True)
class WholeHouse:
    """A house by its meter.

    Attributes
    ----------
    first, last : datetime
        Of the intervals.
    days : int
        Whole days among them.
    wh_per_day : Range
        10th, 50th and 90th percentile of the days, Wh.
    base_w : Range or None
        The same of each day's lowest three hours in a row, W; None where intervals are longer than
        an hour.
    half_hours_w : tuple of float
        Mean power by the half hour of the day, from midnight, W.
    notices : tuple of Message
    """

    first: datetime
    last: datetime
    days: int
    wh_per_day: Range
    base_w: Range | None
    half_hours_w: tuple[float, ...]
    notices: tuple[Message, ...] = ()


def whole_house(intervals: Intervals, zone: tzinfo) -> WholeHouse:
    """Return what intervals say of a house, by the clock of its zone.

    Raises
    ------
    DocumentError
        There is no whole day, or an interval is longer than one: it says nothing of single days.
    """
    if intervals.duration_s.max() > HOURS * SECONDS_PER_HOUR:
        raise DocumentError("", "has intervals longer than a day: take one by hours or half hours")
    watts = intervals.wh / intervals.duration_s * SECONDS_PER_HOUR
    grid_w = _by_half_hours(intervals, watts, zone)
    covered = np.isfinite(grid_w)
    whole = covered.mean(axis=1) >= WHOLE
    if not whole.any():
        raise DocumentError("", "covers no whole day of the house")
    days = grid_w[whole]
    per_day = np.nanmean(days, axis=1) * HOURS
    base = None
    if np.median(intervals.duration_s) <= BASE_MOST_S:
        base = range_of(np.array([_lowest_w(day) for day in days]))
    ends = intervals.start_s + intervals.duration_s
    return WholeHouse(
        datetime.fromtimestamp(float(intervals.start_s[0]), zone),
        datetime.fromtimestamp(float(ends[-1]), zone),
        int(whole.sum()),
        range_of(per_day),
        base,
        tuple(float(value) for value in np.nanmean(days, axis=0)),
        intervals.notices,
    )


def _by_half_hours(intervals: Intervals, watts: np.ndarray, zone: tzinfo) -> np.ndarray:
    """Mean W of each half hour of each day (days, 48), NaN where nothing was read.

    By the wall clock: where clocks change, a half hour is missing or has the mean of two.
    """
    pieces = np.maximum(1, np.round(intervals.duration_s / 1800.0)).astype(int)
    index = np.repeat(np.arange(len(watts)), pieces)
    within = np.concatenate([np.arange(count) for count in pieces])
    seconds = intervals.start_s[index] + within * intervals.duration_s[index] / pieces[index]
    local = seconds + _offsets_s(seconds, zone)
    slots = np.floor(local / 1800.0).astype(int)
    first_day = int(slots.min() // HALVES)
    places = slots - first_day * HALVES
    size = int(places.max() // HALVES + 1) * HALVES
    # Several shorter intervals in a half hour count by their time.
    weight = intervals.duration_s[index] / pieces[index]
    total = np.bincount(places, watts[index] * weight, size)
    time_s = np.bincount(places, weight, size)
    mean = np.full(size, np.nan)
    enough = time_s >= 0.5 * 1800.0
    mean[enough] = total[enough] / time_s[enough]
    return mean.reshape(-1, HALVES)


def _offsets_s(seconds: np.ndarray, zone: tzinfo) -> np.ndarray:
    """Offsets of a zone from UTC, s; looked up once an hour."""
    hours = np.floor(seconds / SECONDS_PER_HOUR).astype(int)
    known, places = np.unique(hours, return_inverse=True)
    offsets = []
    for hour in known:
        offset = datetime.fromtimestamp(hour * SECONDS_PER_HOUR, zone).utcoffset()
        offsets.append(0.0 if offset is None else offset.total_seconds())
    return np.array(offsets)[places]


def _lowest_w(day: np.ndarray) -> float:
    """Mean of the lowest hours in a row of a day, W."""
    count = int(LOWEST_H * 2)
    known = day[np.isfinite(day)]
    return float(np.convolve(known, np.ones(count) / count, "valid").min())


def as_document(house: WholeHouse) -> dict[str, Any]:
    """Return a house as ``needle house`` prints it."""
    return {
        "first": house.first.isoformat(),
        "last": house.last.isoformat(),
        "days": house.days,
        "wh_per_day": _span(house.wh_per_day),
        "base_w": None if house.base_w is None else _span(house.base_w),
        "half_hours_w": list(house.half_hours_w),
        "notices": list(house.notices),
    }


def _span(values: Range) -> dict[str, float]:
    low, mid, high = values
    return {"value": mid, "low": low, "high": high}


@dataclass(frozen=True)
class Comparison:
    """Known loads beside what the house used; ranges are 10th, 50th and 90th percentile.

    Attributes
    ----------
    verdict : str
        "rest" (the house uses more than the loads known), "all" (they are about alike), or "more"
        (the loads use more than the house did: something is entered too high).
    loads_wh, rest_wh : Range
        The loads together, and what is left of the house, Wh a day; a rest below nothing is cut.
    without : tuple of str
        Loads whose daily energy is not known.
    always_w : Range or None
        What runs all the time together, W; None without a base load or such loads.
    always_verdict : str
        "fits", or "more": they use more than the house draws at its lowest. Empty without.
    widest : str
        Of loads that are too high together the one to measure first; else "".
    """

    verdict: str
    loads_wh: Range
    rest_wh: Range
    without: tuple[str, ...]
    always_w: Range | None
    always_verdict: str
    widest: str


@dataclass(frozen=True)
class HouseLoad:
    """A load for the comparison: its name, energy a day, and mean W if it runs all the time."""

    name: str
    wh_per_day: Estimate | None
    always_w: Estimate | None = None


def house_load(name: str, profile: Profile | None) -> HouseLoad:
    """A load for the comparison, by its profile; None if nothing is known of it."""
    if profile is None:
        return HouseLoad(name, None)
    day, mean = profile.wh_per_day, profile.mean_w
    # What runs all the time uses its mean around the clock.
    always = day is not None and day.value > ALWAYS_H * mean.value
    return HouseLoad(name, day, mean if always else None)


def compare(house: WholeHouse, loads: Sequence[HouseLoad]) -> Comparison:
    """Return how the known loads of a house stand beside what it used."""
    days = [(load.name, load.wh_per_day) for load in loads if load.wh_per_day is not None]
    loads_wh = _together([estimate for _, estimate in days])
    rest = house.wh_per_day[1] - loads_wh[1]
    spread = float(np.hypot(_half(loads_wh), _half(house.wh_per_day)))
    if loads_wh[0] > house.wh_per_day[2]:
        verdict = "more"
    else:
        verdict = "rest" if loads_wh[2] < house.wh_per_day[0] else "all"
    always = [(load.name, load.always_w) for load in loads if load.always_w is not None]
    always_w = _together([estimate for _, estimate in always]) if always and house.base_w else None
    always_verdict = ""
    if always_w is not None and house.base_w is not None:
        always_verdict = "more" if always_w[0] > house.base_w[2] else "fits"
    doubted = always if always_verdict == "more" else days if verdict == "more" else []
    widest = max(doubted, key=lambda each: each[1].high - each[1].low, default=("", None))[0]
    return Comparison(
        verdict,
        loads_wh,
        (max(0.0, rest - spread), max(0.0, rest), max(0.0, rest + spread)),
        tuple(load.name for load in loads if load.wh_per_day is None),
        always_w,
        always_verdict,
        widest,
    )


#: What is said of each verdict on the day, and on what runs all the time.
_OF_DAY = {"rest": "house-rest", "all": "house-all", "more": "house-more"}
_OF_ALWAYS = {"fits": "house-always-fits", "more": "house-always-more"}


def remarks(house: WholeHouse, compared: Comparison) -> list[Message]:
    """What a house says of the loads that are noted, the day first."""
    if not compared.loads_wh[2]:
        return [message("house-no-loads")]
    day = {"loads_wh": compared.loads_wh, "rest_wh": compared.rest_wh}
    said = [message(_OF_DAY[compared.verdict], **day)]
    if compared.always_w is not None and house.base_w is not None:
        always = {"always_w": compared.always_w, "most_w": house.base_w[2]}
        said.append(message(_OF_ALWAYS[compared.always_verdict], **always))
    if compared.widest:
        said.append(message("house-measure-first", load=compared.widest))
    if compared.without:
        said.append(message("house-not-counted", loads=compared.without))
    return said


def _together(estimates: Sequence[Estimate]) -> Range:
    """The sum of independent estimates."""
    value = sum(estimate.value for estimate in estimates)
    sd = float(np.sqrt(sum((estimate.value * estimate.spread) ** 2 for estimate in estimates)))
    return max(0.0, value - Z90 * sd), value, value + Z90 * sd


def _half(values: Range) -> float:
    return (values[2] - values[0]) / 2
