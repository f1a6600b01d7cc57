"""A run that was made: a measured discharge that a plan's draws are conditioned on."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from needle.plan.load import PlanLoad

#: Relative sd of the Wh that a meter counted going in (a general value).
COUNTED_IN_SPREAD = 0.03
#: It had not ended by its hours.
STILL_ON = "still on"
RUN_ENDS = ("floor", "cutoff", "trip", "by hand", STILL_ON)
#: How its boxes were at its start: as always, to be cooled down first, or colder than they need.
RUN_BEGINS = ("settled", "warm", "cold")
#: A run with Wh counted over some hours: evidence on the draw, not on the capacity.
COUNTED_ONLY = "counted"


@dataclass(frozen=True)
class RunLeg:
    """A part of a run, from an hour on: what it fed, and mean W of other loads on AC."""

    h: float
    fed: tuple[PlanLoad, ...]
    watts: float = 0.0


@dataclass(frozen=True)
class RunLook:
    """Charge that a display showed within a run: hours since its start, share, and its step."""

    h: float
    shown: float
    step: float


@dataclass(frozen=True)
class Run:
    """A measured discharge of the plan's supply.

    Attributes
    ----------
    hours : float
    start, end : float
        Charge, shares.
    why : str
        How it ended, one of :data:`RUN_ENDS`, or :data:`COUNTED_ONLY`.
    fed : tuple of PlanLoad
        Loads that ran, as they were used in it, which later changes of the plan do not affect.
    watts : float
        Mean W of other loads on AC.
    wh : float or None
        Energy counted, Wh.
    counted : str
        Where it was counted: ``"battery"``, ``"ac"`` or the name of an output.
    counted_h : float or None
        Hour at which it was read; None for its end.
    at : datetime or None
    room_c : float or None
        °C.
    begins : str
        How its boxes were at its start, one of :data:`RUN_BEGINS`.
    pull_down_wh : tuple of (name, Wh)
        What loads took beyond their usual draw to be cooled down at its start, where it is known.
    legs : tuple of RunLeg
        Its parts, if what it fed changed; else empty.
    wh_in, wh_in_spread : float
        Energy put in from sources meanwhile, Wh, and its relative sd.
    looks : tuple of RunLook
        What its display showed on the way.
    """

    hours: float
    start: float
    end: float
    why: str
    fed: tuple[PlanLoad, ...] = ()
    watts: float = 0.0
    wh: float | None = None
    counted: str = "battery"
    counted_h: float | None = None
    at: datetime | None = None
    room_c: float | None = None
    begins: str = "settled"
    pull_down_wh: tuple[tuple[str, float], ...] = ()
    legs: tuple[RunLeg, ...] = ()
    wh_in: float = 0.0
    wh_in_spread: float = COUNTED_IN_SPREAD
    looks: tuple[RunLook, ...] = ()
