"""A day plan: which loads run when, by which route, on which supply, with which sources."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime

import numpy as np

from needle.decide.starting import StartTried
from needle.moments import (
    Moment,
    Window,
    in_windows,
)
from needle.plan.source import Source
from needle.profile.energy import Watched
from needle.profile.kinds import KINDS
from needle.supply.supply import Supply

#: Shortest and longest plan, h: a minute, two weeks.
LEAST_HOURS, MOST_HOURS = 1 / 60, 336.0
PRIORITIES = ("must", "should", "nice")
#: What depends on a load: a life, contents that must keep their range, or licensed hands.
SAFETY_CLASSES = ("", "life", "store", "hard-wired")
AC = "ac"


@dataclass(frozen=True)
class TaskStep:
    """One step of a task: W, min, and the share of them that it is on (pulsed below 1)."""

    watts: float
    minutes: float
    duty: float = 1.0


@dataclass(frozen=True)
class Charge:
    """A pack to be filled: Wh held, share missing, Wh stored over Wh taken, W while it fills."""

    pack_wh: float
    missing: float
    efficiency: float
    watts: float

    @property
    def wall_wh(self) -> float:
        """Wh that filling it takes."""
        return self.pack_wh * self.missing / self.efficiency


@dataclass(frozen=True)
class Setting:
    """Another setting of a load: its name, W and duty there."""

    name: str
    running_w: float
    duty: float


@dataclass(frozen=True)
class PlanLoad:
    """One load as the plan uses it.

    Attributes
    ----------
    name : str
    running_w, resting_w : float
        W.
    route : str
        ``"ac"`` or the name of an output.
    duty : float
        Share of time running while in use.
    cycle_min : float
        Length of a cycle, min.
    power_factor : float
        Share.
    power_factor_spread : float
        Its relative spread.
    power_factor_known : bool
        False where none is known: its W then count as they stand beside others' VA.
    va_spread : float or None
        Relative spread of its running VA, where these were read; its power factor is then drawn
        as W over VA. None where W and power factor are known apart.
    volts : float or None
        V that it wants; None where any will do.
    spread_after : float or None
        Relative spread of its mean, duty or task that its next measurement would leave; None for
        that of grade A.
    meter, meter_spread : str, float
        The one meter that it was read on, and the relative sd that all of its readings share.
    adapter, adapter_spread : float
        Share of its W that is left on a DC route, where its AC adapter's loss falls away, and its
        relative spread.
    start_va : float
        VA; running VA where nothing is known.
    start_s : float
        s.
    spread : float
        Relative spread of the mean draw.
    watts_spread : float
        Relative spread of running W, for what limits see.
    duty_spread : float or None
        Relative spread of the duty, where the mean follows from watts and duty; None where
        ``spread`` tells that of the mean itself.
    task_spread : float
        Relative spread of a task's energy.
    start_spread : float
        Relative spread of the start VA.
    day_spread, day_swing : float
        Relative sd of a day's mean about the long-run one, and amplitude of its swing over a day.
    windows : tuple of Window
        When it is in use; empty for always, unless it runs by tasks or charges.
    moments : tuple of Moment
        When its tasks or charges begin.
    steps : tuple of TaskStep
        Of one task.
    charge : Charge or None
        What is filled at each moment.
    priority : str
        One of :data:`PRIORITIES`.
    count : int
        How many of them, each cycling on its own.
    set_c, measured_room_c, measured_set_c : float or None
        Set point, and the room and set point at which the duty was measured, °C; the latter None
        where it is the same.
    pull_down_wh : float
        Wh that it takes once, at the start, to bring warm contents down, without a pause.
    tried : StartTried or None
        The newest start test of it on this supply.
    can : tuple of str
        Other routes that it could take.
    settings : tuple of Setting
        Other settings that it could be put to.
    flexible : tuple of Window
        Between which its tasks may be moved; empty for where they stand.
    alone : bool
        Its tasks must not run together with other tasks that can be moved.
    safety_class : str
        One of :data:`SAFETY_CLASSES`.
    purpose : bool
        The plan is made for it: no advice leaves it off.
    kind : str
        Key of :data:`needle.profile.kinds.KINDS`; empty where it is not known.
    notices : tuple of str
        What there is to say of its evidence.
    id : str
        What its random streams are made of, so that another name draws alike; empty: its name.
    """

    name: str
    running_w: float
    resting_w: float = 0.0
    route: str = AC
    duty: float = 1.0
    cycle_min: float = 40.0
    power_factor: float = 1.0
    start_va: float = 0.0
    start_s: float = 0.3
    spread: float = 0.0
    windows: tuple[Window, ...] = ()
    moments: tuple[Moment, ...] = ()
    steps: tuple[TaskStep, ...] = ()
    charge: Charge | None = None
    priority: str = "should"
    count: int = 1
    set_c: float | None = None
    measured_room_c: float | None = None
    measured_set_c: float | None = None
    pull_down_wh: float = 0.0
    tried: StartTried | None = None
    can: tuple[str, ...] = ()
    settings: tuple[Setting, ...] = ()
    flexible: tuple[Window, ...] = ()
    alone: bool = False
    safety_class: str = ""
    purpose: bool = False
    watts_spread: float = 0.0
    duty_spread: float | None = None
    task_spread: float = 0.0
    start_spread: float = 0.0
    day_spread: float = 0.0
    day_swing: float = 0.0
    power_factor_spread: float = 0.0
    power_factor_known: bool = True
    va_spread: float | None = None
    volts: float | None = None
    spread_after: float | None = None
    meter: str = ""
    meter_spread: float = 0.0
    adapter: float = 1.0
    adapter_spread: float = 0.0
    kind: str = ""
    notices: tuple[str, ...] = ()
    id: str = ""

    @property
    def by_moments(self) -> bool:
        """Whether it runs by tasks or charges rather than by hours."""
        return bool(self.steps) or self.charge is not None

    @property
    def watched(self) -> Watched:
        """How it is taken to behave between readings; without a kind, by whether it pauses."""
        kind = KINDS[self.kind or ("thermostat-heat" if self.duty < 1 else "electronics")]
        return Watched(kind, self.day_spread, self.cycle_min, self.duty)

    @property
    def thermostatic(self) -> bool:
        """Whether it works off afterwards what it missed while it had no power."""
        return self.duty < 1 and not self.by_moments and not self.windows

    @property
    def protected(self) -> bool:
        """Whether a life, or contents that must keep their range, hang on it: never advised on."""
        return self.safety_class in ("life", "store")

    @property
    def must_run(self) -> bool:
        """Whether a rest of the inverter over it is a failure: a must, or what is protected."""
        return self.priority == "must" or self.protected

    @property
    def may_be_dropped(self) -> bool:
        """Whether a plan holds without it: nice to have, and nothing hangs on it."""
        return self.priority == "nice" and not self.protected

    @property
    def mean_w(self) -> float:
        """Mean W while in use, one of them."""
        if self.steps:
            return self.task_wh / (self.task_min / 60)
        if self.charge is not None:
            return self.charge.watts
        return self.resting_w + self.duty * (self.running_w - self.resting_w)

    @property
    def most_w(self) -> float:
        """Highest W of one of them while it is on."""
        if self.charge is not None:
            return self.charge.watts
        return max((step.watts for step in self.steps), default=self.running_w)

    @property
    def task_min(self) -> float:
        """Length of one task, min; 0 where it has none."""
        return sum(step.minutes for step in self.steps)

    @property
    def task_wh(self) -> float:
        """Energy of one task, Wh."""
        return sum(step.watts * step.duty * step.minutes for step in self.steps) / 60


RUN_ENDS = ("floor", "cutoff", "trip", "by hand")
#: A run of which only Wh were counted over some hours: it tells what was drawn, not what is held.
COUNTED_ONLY = "counted"


@dataclass(frozen=True)
class Run:
    """A run that was really made on the plan's supply.

    Attributes
    ----------
    hours : float
    start, end : float
        Charge, shares.
    why : str
        How it ended, one of :data:`RUN_ENDS`, or :data:`COUNTED_ONLY`.
    loads : tuple of str
        Names of loads of the plan that it fed, as they are used there.
    fed : tuple of PlanLoad
        These loads as they ran in it: a plan that is changed afterwards does not change what ran.
    watts : float
        Of other loads on AC, mean W.
    wh : float or None
        What was counted.
    counted : str
        Where: ``"battery"``, ``"ac"`` or the name of an output.
    at : datetime or None
    room_c : float or None
        °C.
    """

    hours: float
    start: float
    end: float
    why: str
    loads: tuple[str, ...]
    watts: float = 0.0
    wh: float | None = None
    counted: str = "battery"
    at: datetime | None = None
    room_c: float | None = None
    fed: tuple[PlanLoad, ...] = ()


@dataclass(frozen=True)
class Plan:
    """Loads on a supply.

    Attributes
    ----------
    start : datetime
        With an offset.
    hours : float
        How far it looks, h.
    needed_hours : float
        How long the supply must last, h.
    supply : Supply
    loads : tuple of PlanLoad
    sources : tuple of Source
    room_c : float or None
        Mean over the day, °C.
    room_swing_c : float
        How far it rises above that at its warmest hour, and falls below at the coldest, °C.
    room_warmest : int
        Its warmest moment, minutes after midnight.
    runs : tuple of Run
        That were made on this supply: they condition what is drawn.
    odds : float
        At which it must hold to be covered.
    """

    start: datetime
    hours: float
    needed_hours: float
    supply: Supply
    loads: tuple[PlanLoad, ...]
    sources: tuple[Source, ...] = field(default=())
    room_c: float | None = None
    room_swing_c: float = 0.0
    room_warmest: int = 15 * 60
    runs: tuple[Run, ...] = ()
    odds: float = 0.9


def known_loads(plan: Plan) -> list[PlanLoad]:
    """Loads of a plan, and of its runs where the plan has them no longer."""
    loads = list(plan.loads)
    names = {load.name for load in loads}
    for run in plan.runs:
        loads += [load for load in run.fed if load.name not in names]
        names |= {load.name for load in run.fed}
    return loads


def feeds(plan: Plan, route: str) -> bool:
    """Whether any load of the plan is on a route."""
    return any(load.route == route for load in plan.loads)


def room_by_minute(plan: Plan, minutes: int) -> np.ndarray | None:
    """The room through a plan, °C, shape (minutes,); None where it is not known."""
    if plan.room_c is None:
        return None
    clock = plan.start.hour * 60 + plan.start.minute + np.arange(minutes)
    return plan.room_c + plan.room_swing_c * np.cos(2 * np.pi * (clock - plan.room_warmest) / 1440)


def in_use(load: PlanLoad, start: datetime, minutes: int) -> np.ndarray:
    """Which minutes a load that runs by hours is in use: booleans, shape (minutes,)."""
    if not load.windows:
        return np.ones(minutes, dtype=bool)
    return in_windows(load.windows, start, minutes)
