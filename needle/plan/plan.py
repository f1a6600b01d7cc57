"""A plan: loads with their times of use, the supply that runs them, and its charging sources."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime

import numpy as np

from needle.decide.starting import StartTried
from needle.message import Message
from needle.moments import (
    Moment,
    Window,
    in_windows,
)
from needle.plan.sources.source import Source
from needle.profile.energy import Watched
from needle.profile.kinds import KINDS
from needle.supply.supply import Supply

#: Shortest and longest plan, h: a minute, two weeks.
LEAST_HOURS, MOST_HOURS = 1 / 60, 336.0
PRIORITIES = ("must", "should", "nice")
#: What depends on a load: a life, contents that must keep their range, or licensed hands.
SAFETY_CLASSES = ("", "life", "store", "hard-wired")
AC = "ac"
#: Relative sd of the Wh that a meter counted going in (a general value).
COUNTED_IN_SPREAD = 0.03


@dataclass(frozen=True)
class TaskStep:
    """One step of a task: W, minutes, and the share of these minutes that it is on."""

    watts: float
    minutes: float
    duty: float = 1.0


@dataclass(frozen=True)
class Charge:
    """A battery pack to charge: Wh, share missing, charging efficiency, and W while charging."""

    pack_wh: float
    missing: float
    efficiency: float
    watts: float

    @property
    def wall_wh(self) -> float:
        """Energy from the outlet for one charge, Wh."""
        return self.pack_wh * self.missing / self.efficiency


@dataclass(frozen=True)
class Setting:
    """Another setting of a load: its name, and its W and duty there."""

    name: str
    running_w: float
    duty: float


@dataclass(frozen=True)
class LoadSpreads:
    """How uncertain a load's figures are: relative spreads.

    Attributes
    ----------
    mean : float
        Of its mean draw.
    watts : float
        Of the running W, which limits are checked against.
    duty : float or None
        Of the duty, if the mean is computed from watts and duty; None if the mean itself was
        measured (then ``mean`` applies).
    task : float
        Of a task's energy.
    start : float
        Of the start-up VA.
    day : float
        Relative sd of a single day's mean about the long-run mean.
    power_factor : float
    va : float or None
        Of the running VA where VA were measured; the power factor is then drawn as W over VA. None
        where W and power factor were measured separately.
    meter : float
        The part that all readings of the same meter share.
    adapter : float
        Of the share that is left without its adapter.
    after : float or None
        Of its mean, duty or task after the next measurement; None for that of grade A.
    """

    mean: float = 0.0
    watts: float = 0.0
    duty: float | None = None
    task: float = 0.0
    start: float = 0.0
    day: float = 0.0
    power_factor: float = 0.0
    va: float | None = None
    meter: float = 0.0
    adapter: float = 0.0
    after: float | None = None


@dataclass(frozen=True)
class LoadThermal:
    """What a load's use depends on in temperatures.

    Attributes
    ----------
    set_c, measured_room_c, measured_set_c : float or None
        Set point, and the room and set point at which the duty was measured, °C; the latter None
        where it is the same.
    pull_down_wh : float
        Extra energy, once at the start, to cool down warm contents without cycling off, Wh.
    """

    set_c: float | None = None
    measured_room_c: float | None = None
    measured_set_c: float | None = None
    pull_down_wh: float = 0.0


@dataclass(frozen=True)
class PlanLoad:
    """A load as the plan uses it.

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
    power_factor_known : bool
        Whether a power factor is known; without one, W are added to other loads' VA as they are.
    volts : float or None
        Supply voltage that it needs, V; None if any will do.
    meter : str
        The meter that read it.
    adapter : float
        Share of its W that it draws on a DC route, without the loss of its AC adapter.
    spreads : LoadSpreads
    thermal : LoadThermal
    start_va : float
        Start-up VA; running VA if no start-up value is known.
    start_s : float
        Duration of the start-up surge, s.
    day_swing : float
        Relative amplitude of the swing over a day.
    wander : float
        How its W wander within the hour, relative sd.
    runs_by : str
        Who decides when it runs, a key of :data:`needle.profile.kinds.RUNS_BY`; empty if unknown.
    uses_per_day : float or None
        Mean number of uses a day, if it runs by uses at uncertain times.
    windows : tuple of Window
        Times of use; empty means always, unless it has tasks or charges.
    moments : tuple of Moment
        Start times of its tasks or charges.
    steps : tuple of TaskStep
        Steps of one task.
    charge : Charge or None
        The pack that is charged at each of ``moments``.
    priority : str
        One of :data:`PRIORITIES`.
    count : int
        Number of identical loads; each cycles independently.
    tried : StartTried or None
        Its newest start test on this supply.
    can : tuple of str
        Other routes that it could be connected to.
    settings : tuple of Setting
        Other settings that it has.
    flexible : tuple of Window
        Windows in which its tasks may be rescheduled; empty if they must not be.
    alone : bool
        Whether its tasks must not overlap with other tasks that can be rescheduled.
    safety_class : str
        One of :data:`SAFETY_CLASSES`.
    purpose : bool
        Whether the plan exists for this load; no advice leaves it off.
    kind : str
        Key of :data:`needle.profile.kinds.KINDS`; empty where it is not known.
    notices : tuple of str or Message
        Remarks on its evidence.
    id : str
        Seed of its random streams, so that renaming a load changes no draw; empty: its name.
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
    windows: tuple[Window, ...] = ()
    moments: tuple[Moment, ...] = ()
    steps: tuple[TaskStep, ...] = ()
    charge: Charge | None = None
    priority: str = "should"
    count: int = 1
    tried: StartTried | None = None
    can: tuple[str, ...] = ()
    settings: tuple[Setting, ...] = ()
    flexible: tuple[Window, ...] = ()
    alone: bool = False
    safety_class: str = ""
    purpose: bool = False
    day_swing: float = 0.0
    wander: float = 0.0
    runs_by: str = ""
    uses_per_day: float | None = None
    power_factor_known: bool = True
    volts: float | None = None
    meter: str = ""
    adapter: float = 1.0
    spreads: LoadSpreads = LoadSpreads()
    thermal: LoadThermal = LoadThermal()
    kind: str = ""
    notices: tuple[str | Message, ...] = ()
    id: str = ""

    @property
    def by_moments(self) -> bool:
        """Whether it has tasks or charges instead of hours of use."""
        return bool(self.steps) or self.charge is not None

    @property
    def watched(self) -> Watched:
        """Assumed behaviour between readings; without a kind, from whether it cycles."""
        kind = KINDS[self.kind or ("thermostat-heat" if self.duty < 1 else "electronics")]
        return Watched(kind, self.spreads.day, self.cycle_min, self.duty)

    @property
    def thermostatic(self) -> bool:
        """Whether it catches up afterwards on what it missed during a power cut."""
        return self.duty < 1 and not self.by_moments and not self.windows

    @property
    def protected(self) -> bool:
        """Whether a life depends on it, or contents that must stay in their temperature range."""
        return self.safety_class in ("life", "store")

    @property
    def must_run(self) -> bool:
        """Whether an inverter switched off during its use is a failure."""
        return self.priority == "must" or self.protected

    @property
    def stays_on(self) -> bool:
        """Whether advice never switches it off: a must, protected, or hard-wired."""
        return self.must_run or bool(self.safety_class)

    @property
    def may_be_dropped(self) -> bool:
        """Whether the plan succeeds without it: it is nice to have, and not protected."""
        return self.priority == "nice" and not self.protected

    @property
    def mean_w(self) -> float:
        """Mean W of one load while in use."""
        if self.steps:
            return self.task_wh / (self.task_min / 60)
        if self.charge is not None:
            return self.charge.watts
        return self.resting_w + self.duty * (self.running_w - self.resting_w)

    @property
    def most_w(self) -> float:
        """Highest W of one load while it is on."""
        if self.charge is not None:
            return self.charge.watts
        return max((step.watts for step in self.steps), default=self.running_w)

    @property
    def task_min(self) -> float:
        """Duration of one task, min; 0 without tasks."""
        return sum(step.minutes for step in self.steps)

    @property
    def task_wh(self) -> float:
        """Energy of one task, Wh."""
        return sum(step.watts * step.duty * step.minutes for step in self.steps) / 60


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


@dataclass(frozen=True)
class Plan:
    """Loads, their times of use, a supply and its charging sources.

    Attributes
    ----------
    start : datetime
        Start of the plan, with its UTC offset.
    hours : float
        Length of the simulation, h.
    needed_hours : float
        How long the supply must last, h.
    supply : Supply
    loads : tuple of PlanLoad
    sources : tuple of Source
    room_c : float or None
        Mean over the day, °C.
    room_swing_c : float
        Amplitude of the daily swing about ``room_c``, °C.
    room_warmest : int
        Warmest time of day, minutes after midnight.
    runs : tuple of Run
        Measured discharges of this supply, which the random draws are conditioned on.
    wanted_chance : float
        Chance of success from which on the plan counts as covered.
    spread_factor : float
        By which all spreads are scaled, as earlier runs ended farther from their ranges, or nearer.
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
    wanted_chance: float = 0.9
    spread_factor: float = 1.0


def known_loads(plan: Plan) -> list[PlanLoad]:
    """Loads of a plan, then those of its runs as they were used in them."""
    loads = list(plan.loads)
    for run in plan.runs:
        loads += run.fed
        loads += [load for leg in run.legs for load in leg.fed]
    return list(dict.fromkeys(loads))


def with_loads(plan: Plan, change: Callable[[PlanLoad, float | None], PlanLoad]) -> Plan:
    """A plan with each load changed, in its runs and their legs too.

    ``change`` takes a load and the room (°C) in which it runs: the plan's, or the run's own.
    """

    def changed(loads: Sequence[PlanLoad], room_c: float | None) -> tuple[PlanLoad, ...]:
        return tuple(change(load, room_c) for load in loads)

    runs = []
    for run in plan.runs:
        room_c = plan.room_c if run.room_c is None else run.room_c
        legs = tuple(replace(leg, fed=changed(leg.fed, room_c)) for leg in run.legs)
        runs.append(replace(run, fed=changed(run.fed, room_c), legs=legs))
    return replace(plan, loads=changed(plan.loads, plan.room_c), runs=tuple(runs))


def feeds(plan: Plan, route: str) -> bool:
    """Whether any load of the plan is on a route."""
    return any(load.route == route for load in plan.loads)


def room_by_minute(plan: Plan, minutes: int) -> np.ndarray | None:
    """Room temperature through a plan, °C, shape (minutes,); None if unknown."""
    if plan.room_c is None:
        return None
    clock = plan.start.hour * 60 + plan.start.minute + np.arange(minutes)
    return plan.room_c + plan.room_swing_c * np.cos(2 * np.pi * (clock - plan.room_warmest) / 1440)


def in_use(load: PlanLoad, start: datetime, minutes: int) -> np.ndarray:
    """Whether a load with hours of use is in use, boolean, shape (minutes,)."""
    if not load.windows:
        return np.ones(minutes, dtype=bool)
    return in_windows(load.windows, start, minutes)
