"""A visit: its time, the meters at hand, and what must not be touched."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from typing import Any

from needle.document import DocumentError
from needle.measure.instruments import INSTRUMENTS, Instrument
from needle.moments import parse_moment
from needle.plan.plan import Plan

#: Longest round, h; shortest, min.
MOST_ROUND_H, LEAST_ROUND_MIN = 72.0, 10.0
MOST_METERS = 12
TARGETS = ("plan", "grades")
DISPLAY = "display"
#: One's ears and a watch: what tells running from resting without a meter.
WATCH = "watch"
_EAR_AND_WATCH = Instrument(
    WATCH,
    "ear and watch",
    0.0,
    0.0,
    {},
    "watts; a fan that runs on beside the compressor",
    shows=(),
)
#: Hours in which a drained battery is full again, with some to spare.
_CHARGED_AGAIN_H = 24.0
#: Slots that a visit is cut into, about; shortest slot, min.
_SLOTS, _LEAST_SLOT_MIN = 36, 5


@dataclass(frozen=True)
class CarriedMeter:
    """A meter at hand; ``name`` distinguishes it from others of its class."""

    name: str
    instrument: Instrument


@dataclass(frozen=True)
class Visit:
    """A period of time in which measurements can be made.

    Attributes
    ----------
    begins, ends : datetime
    meters : tuple of CarriedMeter
    keep_plugged : frozenset of str
        Names of loads that must not be unplugged, not even for a moment.
    qualified : bool
        Whether somebody present may open a panel under the local code.
    target : str
        ``"plan"``: narrow the plan's range; ``"grades"``: every load to grade B.
    busy : tuple of (str, datetime)
        Meters in use, by name, and until when.
    impossible : frozenset of str
        Keys of candidates that proved impossible, or are not wanted.
    """

    begins: datetime
    ends: datetime
    meters: tuple[CarriedMeter, ...]
    keep_plugged: frozenset[str] = frozenset()
    qualified: bool = False
    target: str = "plan"
    busy: tuple[tuple[str, datetime], ...] = ()
    impossible: frozenset[str] = field(default_factory=frozenset)

    @property
    def minutes(self) -> float:
        """Duration, min."""
        return (self.ends - self.begins).total_seconds() / 60

    @property
    def slot_min(self) -> int:
        """Length of the planning slots, a multiple of five minutes."""
        return max(_LEAST_SLOT_MIN, _LEAST_SLOT_MIN * math.ceil(self.minutes / _SLOTS / 5))

    @property
    def slots(self) -> int:
        """Number of whole slots."""
        return int(self.minutes // self.slot_min)

    def after(self, minutes: float) -> datetime:
        return self.begins + timedelta(minutes=minutes)

    def leaves_battery(self, plan: Plan) -> bool:
        """Whether the visit may use up the battery without affecting a plan.

        Not while the plan runs, nor shortly before, since the battery must be full again.
        """
        over = plan.start + timedelta(hours=plan.needed_hours) <= self.begins
        return over or plan.start >= self.ends + timedelta(hours=_CHARGED_AGAIN_H)


def checked(visit: Visit) -> Visit:
    """The same visit; raises if there is no time or no meter.

    Raises
    ------
    DocumentError
    """
    if not LEAST_ROUND_MIN <= visit.minutes <= MOST_ROUND_H * 60:
        raise DocumentError(
            "until",
            f"is {visit.minutes / 60:.3g} h after the start: a round takes from "
            f"{LEAST_ROUND_MIN:.0f} min to {MOST_ROUND_H:.0f} h",
        )
    if not visit.meters:
        raise DocumentError("meters", "name at least one meter, such as plug or clamp")
    if len(visit.meters) > MOST_METERS:
        raise DocumentError("meters", f"are {len(visit.meters)}: at most {MOST_METERS}")
    return visit


def clock_of(text: str, field: str, after: datetime) -> datetime:
    """Parse ISO 8601, or a time of day as the first one after a given moment.

    Raises
    ------
    DocumentError
    """
    moment = parse_moment(text, field, after.tzinfo)
    if isinstance(moment, datetime):
        return moment
    day = after.replace(hour=moment // 60, minute=moment % 60, second=0, microsecond=0)
    return day if day > after else day + timedelta(days=1)


def with_what_is_there(visit: Visit) -> Visit:
    """The visit with what is always at hand: the supply's display, ears and a watch."""
    have = {meter.instrument.key for meter in visit.meters}
    own = (
        CarriedMeter("the supply's display", INSTRUMENTS[DISPLAY]),
        CarriedMeter(_EAR_AND_WATCH.name, _EAR_AND_WATCH),
    )
    missing = tuple(meter for meter in own if meter.instrument.key not in have)
    return replace(visit, meters=(*visit.meters, *missing))


def carried(keys: Sequence[Any]) -> tuple[CarriedMeter, ...]:
    """Meters by the keys of their classes: ``plug, plug, clamp``; equal ones are numbered.

    Raises
    ------
    DocumentError
        A class is unknown.
    """
    meters: list[CarriedMeter] = []
    for key in keys:
        if key not in INSTRUMENTS:
            raise DocumentError("meters", f"“{str(key)[:40]}” is none of {', '.join(INSTRUMENTS)}")
        instrument = INSTRUMENTS[key]
        number = sum(meter.instrument.key == key for meter in meters) + 1
        alike = sum(other == key for other in keys)
        meters.append(
            CarriedMeter(
                f"{instrument.name} {number}" if alike > 1 else instrument.name, instrument
            )
        )
    return tuple(meters)
