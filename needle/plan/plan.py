"""A day plan: which loads run when, by which route, on which supply, with which sources."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, tzinfo
from typing import Any

import numpy as np

from needle.decide.starting import TESTED
from needle.document import DocumentError, Reader
from needle.estimate import STATED_SPREAD
from needle.moments import (
    Moment,
    Window,
    in_windows,
    parse_moment,
    parse_moments,
    parse_windows,
    spread_over_day,
)
from needle.plan.measured import with_profile
from needle.plan.sources import Source, parse_sources
from needle.supply.supply import Supply, parse_supply

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
    start_tested : str
        What came of a start test on this supply, of :data:`needle.decide.starting.TESTED`; or "".
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
    start_tested: str = ""
    can: tuple[str, ...] = ()
    settings: tuple[Setting, ...] = ()
    flexible: tuple[Window, ...] = ()
    alone: bool = False
    safety_class: str = ""
    watts_spread: float = 0.0
    duty_spread: float | None = None
    task_spread: float = 0.0
    start_spread: float = 0.0
    day_spread: float = 0.0
    day_swing: float = 0.0

    @property
    def by_moments(self) -> bool:
        """Whether it runs by tasks or charges rather than by hours."""
        return bool(self.steps) or self.charge is not None

    @property
    def protected(self) -> bool:
        """Whether a life, or contents that must keep their range, hang on it: never advised on."""
        return self.safety_class in ("life", "store")

    @property
    def mean_w(self) -> float:
        """Mean W while in use, one of them."""
        if self.steps:
            return self.task_wh / (self.task_min / 60)
        if self.charge is not None:
            return self.charge.watts
        return self.resting_w + self.duty * (self.running_w - self.resting_w)

    @property
    def task_min(self) -> float:
        """Length of one task, min; 0 where it has none."""
        return sum(step.minutes for step in self.steps)

    @property
    def task_wh(self) -> float:
        """Energy of one task, Wh."""
        return sum(step.watts * step.duty * step.minutes for step in self.steps) / 60


RUN_ENDS = ("floor", "cutoff", "trip", "by hand")


@dataclass(frozen=True)
class Run:
    """A run that was really made on the plan's supply.

    Attributes
    ----------
    hours : float
    start, end : float
        Charge, shares.
    why : str
        How it ended, one of :data:`RUN_ENDS`.
    loads : tuple of str
        Names of loads of the plan that it fed, as they are used there.
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


_LOAD_KEYS = (
    "name", "route", "running_w", "resting_w", "duty", "cycle_min", "power_factor", "start_va",
    "start_s", "spread", "set_c", "measured_room_c", "measured_set_c", "pull_down_wh", "use",
    "steps", "charge", "priority", "count", "start_tested", "can", "settings", "flexible", "alone",
    "cares", "watts_spread", "duty_spread", "task_spread", "start_spread", "day_spread",
    "day_swing",
)  # fmt: skip


def _parse_load(data: Any, path: str, zone: tzinfo | None, routes: Sequence[str]) -> PlanLoad:
    reader = Reader(with_profile(data, path), path, _LOAD_KEYS)
    route = reader.choice("route", routes, AC)
    steps, charge = _parse_steps(reader), _parse_charge(reader)
    windows, moments = _parse_use(reader, zone, steps, charge)
    running = reader.number("running_w", most=100_000)
    if running is None and steps:
        running = max(step.watts for step in steps)
    elif running is None and charge is not None:
        running = charge.watts
    elif running is None:
        raise DocumentError(reader.at("running_w"), "is needed")
    resting = reader.number("resting_w", most=100_000, default=0.0)
    if resting > running:
        raise DocumentError(
            reader.at("resting_w"), f"{resting:g} W is above the running {running:g} W"
        )
    factor = reader.number("power_factor", 0.0, 1.0, True, default=1.0)
    spread = reader.number("spread", 0.0, 2.0, default=STATED_SPREAD)
    count = reader.number("count", 1, 100, default=1.0)
    if count != int(count):
        raise DocumentError(reader.at("count"), f"{count:g} must be a whole number")
    return PlanLoad(
        name=reader.text("name", most=120) or path,
        running_w=running,
        resting_w=resting,
        route=route,
        duty=reader.number("duty", 0.0, 1.0, default=1.0),
        cycle_min=reader.number("cycle_min", 0.5, 10_080, default=40.0),
        power_factor=factor,
        start_va=max(reader.number("start_va", 0.0, 1_000_000, default=0.0), running / factor),
        start_s=reader.number("start_s", 0.0, 600, default=0.3),
        spread=spread,
        watts_spread=reader.number("watts_spread", 0.0, 2.0, default=spread),
        duty_spread=reader.number("duty_spread", 0.0, 2.0),
        task_spread=reader.number("task_spread", 0.0, 2.0, default=spread),
        start_spread=reader.number("start_spread", 0.0, 3.0, default=0.0),
        day_spread=reader.number("day_spread", 0.0, 2.0, default=0.0),
        day_swing=reader.number("day_swing", 0.0, 0.9, default=0.0),
        windows=windows,
        moments=moments,
        steps=steps,
        charge=charge,
        priority=reader.choice("priority", PRIORITIES, "should"),
        count=int(count),
        set_c=reader.number("set_c", least=-100, most=400),
        measured_room_c=reader.number("measured_room_c", least=-60, most=80),
        measured_set_c=reader.number("measured_set_c", least=-100, most=400),
        pull_down_wh=reader.number("pull_down_wh", 0.0, 1_000_000, default=0.0),
        start_tested=reader.choice("start_tested", ("", *TESTED), ""),
        can=_parse_can(reader, routes, route),
        settings=_parse_settings(reader),
        flexible=parse_windows(reader.items("flexible", most=50), reader.at("flexible"), zone),
        alone=reader.flag("alone"),
        safety_class=reader.choice("cares", SAFETY_CLASSES, ""),
    )


def _parse_can(reader: Reader, routes: Sequence[str], route: str) -> tuple[str, ...]:
    can = []
    for item in reader.items("can", most=20):
        if item not in routes:
            raise DocumentError(reader.at("can"), f"“{item}” is none of {', '.join(routes)}")
        if item != route:
            can.append(item)
    return tuple(can)


def _parse_settings(reader: Reader) -> tuple[Setting, ...]:
    settings = []
    for index, item in enumerate(reader.items("settings", most=20)):
        inner = Reader(item, f"{reader.at('settings')}[{index}]", ("name", "running_w", "duty"))
        watts, duty = (
            inner.need("running_w", most=100_000),
            inner.number("duty", 0.0, 1.0, default=1.0),
        )
        settings.append(Setting(inner.text("name", most=60), watts, duty))
    return tuple(settings)


def _parse_steps(reader: Reader) -> tuple[TaskStep, ...]:
    steps = []
    for index, item in enumerate(reader.items("steps", most=200)):
        inner = Reader(item, f"{reader.at('steps')}[{index}]", ("watts", "minutes", "duty"))
        steps.append(
            TaskStep(
                inner.need("watts", most=100_000),
                inner.need("minutes", most=MOST_HOURS * 60, above=True),
                inner.number("duty", 0.0, 1.0, default=1.0),
            )
        )
    return tuple(steps)


def _parse_charge(reader: Reader) -> Charge | None:
    if not reader.has("charge"):
        return None
    keys = ("pack_wh", "missing", "efficiency", "watts")
    inner = Reader(reader.data["charge"], reader.at("charge"), keys)
    return Charge(
        pack_wh=inner.need("pack_wh", most=1_000_000, above=True),
        missing=inner.number("missing", 0.0, 1.0, default=1.0),
        efficiency=inner.number("efficiency", 0.2, 1.0, default=0.85),
        watts=inner.need("watts", most=100_000, above=True),
    )


def _parse_use(
    reader: Reader, zone: tzinfo | None, steps: Sequence[TaskStep], charge: Charge | None
) -> tuple[tuple[Window, ...], tuple[Moment, ...]]:
    """Windows and moments of a load's use."""
    use = reader.data.get("use", "always")
    if use == "always":
        if steps or charge is not None:
            part = "steps" if steps else "charge"
            wanted = "tasks" if steps else "charges"
            raise DocumentError(reader.at("use"), f'“{part}” needs {{"{wanted}": ["20:15"]}}')
        return (), ()
    if isinstance(use, str):
        raise DocumentError(reader.at("use"), f'{use[:40]!r} is not known; write "always"')
    inner = Reader(use, reader.at("use"), ("between", "tasks", "charges"))
    given = [key for key in ("between", "tasks", "charges") if inner.has(key)]
    if len(given) != 1:
        raise DocumentError(inner.path, "needs one of “between”, “tasks”, “charges”")
    if given == ["between"]:
        windows = parse_windows(inner.items("between", most=500), inner.at("between"), zone)
        if not windows:
            raise DocumentError(reader.at("use"), 'needs "between" with at least one window')
        return windows, ()
    if given == ["tasks"] and not steps:
        raise DocumentError(reader.at("steps"), "are needed for a load that runs by tasks")
    if given == ["charges"] and charge is None:
        raise DocumentError(reader.at("charge"), "is needed for a load that is charged")
    return (), _parse_times(inner, given[0], zone)


def _parse_times(inner: Reader, key: str, zone: tzinfo | None) -> tuple[Moment, ...]:
    """A list of moments, or so many a day."""
    value = inner.data[key]
    if isinstance(value, int) and not isinstance(value, bool):
        if not 1 <= value <= 100:
            raise DocumentError(inner.at(key), f"{value} a day: give 1 to 100")
        return spread_over_day(value)
    moments = parse_moments(inner.items(key, most=1000), inner.at(key), zone)
    if not moments:
        raise DocumentError(inner.at(key), "is empty: give at least one time")
    return moments


def check_use(data: Any) -> None:
    """Refuse what a plan document would not take as a load's use, told part by part.

    Parameters
    ----------
    data : dict
        ``between`` and ``flexible`` (windows), ``tasks`` (moments), ``steps``, ``charge``; those
        that are empty are left out.

    Raises
    ------
    DocumentError
    """
    reader = Reader(data, "", ("between", "flexible", "tasks", "steps", "charge"))
    for key in ("between", "flexible"):
        parse_windows(reader.items(key, most=500), key, UTC)
    parse_moments(reader.items("tasks", most=1000), "tasks", UTC)
    loaded = Reader(reader.data, "", reader.data)
    _parse_steps(loaded)
    _parse_charge(loaded)


_RUN_KEYS = ("hours", "from", "to", "why", "loads", "wh", "counted", "at", "room_c")


def _parse_runs(
    reader: Reader, supply: Supply, loads: Sequence[PlanLoad], zone: tzinfo | None
) -> tuple[Run, ...]:
    runs = []
    for index, item in enumerate(reader.items("runs", most=200)):
        inner = Reader(item, f"runs[{index}]", _RUN_KEYS)
        start, end = inner.number("from", most=1.0, default=1.0), inner.need("to", most=1.0)
        if end >= start:
            raise DocumentError(inner.at("to"), f"{end:g} is not below {start:g}, where it began")
        names, watts = _run_loads(inner, loads)
        places = ("battery", *([AC] if supply.inverter else []), *(o.name for o in supply.outputs))
        at = parse_moment(inner.data["at"], inner.at("at"), zone) if inner.has("at") else None
        if isinstance(at, int):
            raise DocumentError(inner.at("at"), "needs a date")
        runs.append(
            Run(
                hours=inner.need("hours", most=10_000, above=True),
                start=start,
                end=end,
                why=inner.choice("why", RUN_ENDS, "by hand"),
                loads=names,
                watts=watts,
                wh=inner.number("wh", most=10_000_000, above=True),
                counted=inner.choice("counted", places, "battery"),
                at=at,
                room_c=inner.number("room_c", least=-60, most=80),
            )
        )
    return tuple(runs)


def _run_loads(reader: Reader, loads: Sequence[PlanLoad]) -> tuple[tuple[str, ...], float]:
    """Names of the plan's loads in a run, and W of others."""
    known = {load.name for load in loads}
    names, watts = [], 0.0
    for index, item in enumerate(reader.items("loads", most=500)):
        where = f"{reader.at('loads')}[{index}]"
        if isinstance(item, dict):
            watts += Reader(item, where, ("watts",)).need("watts", most=1_000_000)
        elif isinstance(item, str) and item in known:
            names.append(item)
        else:
            raise DocumentError(where, f"{str(item)[:40]!r} is no load of this plan")
    if not names and watts <= 0:
        raise DocumentError(reader.at("loads"), "names what the run fed")
    return tuple(dict.fromkeys(names)), watts


def parse_plan(data: Any) -> Plan:
    """Read a plan document (see ``docs/formats.md``).

    Raises
    ------
    DocumentError
    """
    known = ("name", "start", "hours", "needed_hours", "room_c", "room_swing_c", "room_warmest",
             "supply", "loads", "sources", "runs", "odds")  # fmt: skip
    reader = Reader(data, "", known)
    start = parse_moment(reader.text("start", "2027-01-01T18:00:00+00:00"), "start", UTC)
    if not isinstance(start, datetime):
        raise DocumentError("start", 'needs a date: write "2027-02-09T18:00:00+00:00"')
    hours = reader.need("hours", least=LEAST_HOURS, most=MOST_HOURS)
    needed = reader.number("needed_hours", least=LEAST_HOURS, most=MOST_HOURS)
    needed = hours if needed is None else needed
    supply = parse_supply(reader.data.get("supply"))
    routes = ([AC] if supply.inverter else []) + [output.name for output in supply.outputs]
    items = reader.items("loads", most=500)
    if items and not routes:
        raise DocumentError("supply.inverter", "is needed: the loads' route is AC")
    loads = tuple(
        _parse_load(item, f"loads[{index}]", start.tzinfo, routes)
        for index, item in enumerate(items)
    )
    names = [load.name for load in loads]
    if twice := next((name for name in names if names.count(name) > 1), None):
        raise DocumentError("loads", f"two loads are called “{twice}”: give each its own name")
    hours = max(hours, needed)
    for index, load in enumerate(loads):
        if load.task_min > hours * 60:
            raise DocumentError(
                f"loads[{index}].steps",
                f"take {load.task_min / 60:.3g} h together: longer than the plan's {hours:g} h",
            )
    warmest = parse_moment(reader.text("room_warmest", "15:00"), "room_warmest", UTC)
    if not isinstance(warmest, int):
        raise DocumentError("room_warmest", 'is a time of day such as "15:00"')
    return Plan(
        start=start,
        hours=hours,
        needed_hours=needed,
        supply=supply,
        loads=loads,
        sources=parse_sources(reader.items("sources", most=50), start.tzinfo, supply),
        room_c=reader.number("room_c", least=-60, most=80),
        room_swing_c=reader.number("room_swing_c", most=40, default=0.0),
        room_warmest=warmest,
        runs=_parse_runs(reader, supply, loads, start.tzinfo),
        odds=reader.number("odds", least=0.5, most=0.999, default=0.9),
    )
