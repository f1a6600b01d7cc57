"""Parsing of plan documents (see ``docs/formats.md``)."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, tzinfo
from typing import Any

from needle.decide.starting import TESTED, StartTried
from needle.document import DocumentError, Reader
from needle.estimate import STATED_SPREAD
from needle.moments import (
    Moment,
    Window,
    parse_moment,
    parse_moments,
    parse_windows,
    spread_over_day,
)
from needle.plan.documents.measured import with_profile
from needle.plan.plan import (
    AC,
    COUNTED_ONLY,
    LEAST_HOURS,
    MOST_HOURS,
    PRIORITIES,
    RUN_ENDS,
    SAFETY_CLASSES,
    Charge,
    Plan,
    PlanLoad,
    Run,
    Setting,
    TaskStep,
)
from needle.plan.sources.registry import parse_sources
from needle.profile.kinds import KINDS
from needle.supply.supply import Supply, aged, parse_supply
from needle.supply.supply_tests import TogetherTest

_LOAD_KEYS = (
    "name",
    "route",
    "running_w",
    "resting_w",
    "duty",
    "cycle_min",
    "power_factor",
    "start_va",
    "start_s",
    "spread",
    "set_c",
    "measured_room_c",
    "measured_set_c",
    "pull_down_wh",
    "pull_down_h",
    "use",
    "steps",
    "charge",
    "priority",
    "count",
    "can",
    "settings",
    "flexible",
    "alone",
    "cares",
    "watts_spread",
    "duty_spread",
    "task_spread",
    "start_spread",
    "day_spread",
    "day_swing",
    "power_factor_spread",
    "volts",
    "meter",
    "meter_spread",
    "adapter",
    "adapter_spread",
    "start_tested",
    "start_beside_w",
    "start_times",
    "start_ran_s",
    "spread_after",
    "kind",
    "va_spread",
    "notices",
    "id",
    "purpose",
)


def parse_load(data: Any, path: str, start: datetime, routes: Sequence[str]) -> PlanLoad:
    """Return one load of a plan document.

    Raises
    ------
    DocumentError
    """
    zone = start.tzinfo
    measured = with_profile(data, path, start.hour * 60 + start.minute)
    reader = Reader(measured, path, _LOAD_KEYS)
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
        power_factor_spread=reader.number("power_factor_spread", 0.0, 1.0, default=0.0),
        power_factor_known=reader.has("power_factor"),
        va_spread=reader.number("va_spread", 0.0, 1.0),
        notices=_parse_notices(reader),
        id=reader.text("id", most=40),
        volts=reader.number("volts", most=1000, above=True),
        spread_after=reader.number("spread_after", 0.0, 2.0),
        adapter=reader.number("adapter", 0.3, 1.0, default=1.0),
        adapter_spread=reader.number("adapter_spread", 0.0, 0.5, default=0.0),
        windows=windows,
        moments=moments,
        steps=steps,
        charge=charge,
        priority=reader.choice("priority", PRIORITIES, "should"),
        count=int(count),
        set_c=reader.number("set_c", least=-100, most=400),
        measured_room_c=reader.number("measured_room_c", least=-60, most=80),
        measured_set_c=reader.number("measured_set_c", least=-100, most=400),
        pull_down_wh=_pull_down_wh(reader, running, resting),
        tried=_parse_tried(reader),
        can=_parse_can(reader, routes, route),
        settings=_parse_settings(reader),
        flexible=parse_windows(reader.items("flexible", most=50), reader.at("flexible"), zone),
        alone=reader.flag("alone"),
        safety_class=_parse_safety_class(reader),
        purpose=reader.flag("purpose"),
        meter=reader.text("meter", most=60),
        kind=reader.choice("kind", ("", *KINDS), ""),
        meter_spread=reader.number("meter_spread", 0.0, 0.5, default=0.0),
    )


def _parse_safety_class(reader: Reader) -> str:
    """Safety class as stated; refrigeration keeps its contents unless stated otherwise."""
    kind = KINDS.get(reader.choice("kind", ("", *KINDS), ""))
    usual = "store" if kind is not None and kind.keeps_contents else ""
    return reader.choice("cares", SAFETY_CLASSES, usual)


def _pull_down_wh(reader: Reader, running_w: float, resting_w: float) -> float:
    """Extra Wh at the start: as given, or from hours at full power less its normal use."""
    hours = reader.number("pull_down_h", 0.0, 200)
    if hours is None:
        return reader.number("pull_down_wh", 0.0, 1_000_000, default=0.0)
    if reader.has("pull_down_wh"):
        raise DocumentError(reader.at("pull_down_h"), "and pull_down_wh say the same: give one")
    return hours * (1 - reader.number("duty", 0.0, 1.0, default=1.0)) * (running_w - resting_w)


def _parse_notices(reader: Reader) -> tuple[str, ...]:
    """Remarks on its evidence, shown with the plan's own notices."""
    texts = []
    for index, item in enumerate(reader.items("notices", most=50)):
        if not isinstance(item, str) or len(item) > 1000:
            raise DocumentError(f"{reader.at('notices')}[{index}]", "must be a sentence")
        texts.append(item)
    return tuple(texts)


def _parse_tried(reader: Reader) -> StartTried | None:
    result = reader.choice("start_tested", ("", *TESTED), "")
    beside = reader.number("start_beside_w", most=1_000_000, default=0.0)
    times = reader.number("start_times", 1, 100, default=1.0)
    if times != int(times):
        raise DocumentError(reader.at("start_times"), f"{times:g} must be a whole number")
    ran_s = reader.number("start_ran_s", most=86_400, above=True)
    return StartTried(result, beside, int(times), ran_s) if result else None


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
        _check_always(reader, bool(steps), charge is not None)
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


def _check_always(reader: Reader, has_steps: bool, has_charge: bool) -> None:
    """Refuse steps or a charge of a load that is always in use."""
    if has_steps or has_charge:
        part, wanted = ("steps", "tasks") if has_steps else ("charge", "charges")
        raise DocumentError(reader.at("use"), f'“{part}” needs {{"{wanted}": ["20:15"]}}')


def _parse_times(inner: Reader, key: str, zone: tzinfo | None) -> tuple[Moment, ...]:
    """A list of moments, or a number per day."""
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
    """Refuse a load's use that a plan document would not accept, naming the part.

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
        why = inner.choice("why", (*RUN_ENDS, COUNTED_ONLY), "by hand")
        start, end = _run_charges(inner, why)
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
                why=why,
                loads=names,
                watts=watts,
                wh=inner.number("wh", most=10_000_000, above=True)
                if why != COUNTED_ONLY
                else inner.need("wh", most=10_000_000, above=True),
                counted=inner.choice("counted", places, "battery"),
                at=at,
                room_c=inner.number("room_c", least=-60, most=80),
                fed=tuple(load for load in loads if load.name in names),
            )
        )
    return tuple(runs)


def _run_charges(reader: Reader, why: str) -> tuple[float, float]:
    """State of charge at a run's start and end; meaningless for a run that was only counted."""
    if why == COUNTED_ONLY:
        return 1.0, 1.0
    start, end = reader.number("from", most=1.0, default=1.0), reader.need("to", most=1.0)
    if end >= start:
        raise DocumentError(reader.at("to"), f"{end:g} is not below {start:g}, where it began")
    return start, end


def _counted_together(supply: Supply, loads: Sequence[PlanLoad]) -> tuple[Run, ...]:
    """Supply tests of loads that are all in this plan, as runs without an end."""
    known = {load.name for load in loads}
    return tuple(
        Run(
            test.hours,
            1.0,
            1.0,
            COUNTED_ONLY,
            test.loads,
            wh=test.wh,
            fed=tuple(load for load in loads if load.name in test.loads),
        )
        for test in supply.tests
        if isinstance(test, TogetherTest) and set(test.loads) <= known
    )


def _run_loads(reader: Reader, loads: Sequence[PlanLoad]) -> tuple[tuple[str, ...], float]:
    """Names of the plan's loads in a run, and mean W of other loads."""
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


def _check_loads(loads: Sequence[PlanLoad], hours: float) -> None:
    """Refuse two loads of one name, and tasks that are longer than the plan."""
    names = [load.name for load in loads]
    if twice := next((name for name in names if names.count(name) > 1), None):
        raise DocumentError("loads", f"two loads are called “{twice}”: give each its own name")
    for index, load in enumerate(loads):
        if load.task_min > hours * 60:
            raise DocumentError(
                f"loads[{index}].steps",
                f"take {load.task_min / 60:.3g} h together: longer than the plan's {hours:g} h",
            )


def parse_plan(data: Any) -> Plan:
    """Return the plan of a document (see ``docs/formats.md``).

    Raises
    ------
    DocumentError
    """
    known = (
        "name",
        "start",
        "hours",
        "needed_hours",
        "room_c",
        "room_swing_c",
        "room_warmest",
        "supply",
        "loads",
        "sources",
        "runs",
        "odds",
    )
    reader = Reader(data, "", known)
    start = parse_moment(reader.text("start", "2027-01-01T18:00:00+00:00"), "start", UTC)
    if not isinstance(start, datetime):
        raise DocumentError("start", 'needs a date: write "2027-02-09T18:00:00+00:00"')
    hours = reader.need("hours", least=LEAST_HOURS, most=MOST_HOURS)
    needed = reader.number("needed_hours", least=LEAST_HOURS, most=MOST_HOURS)
    needed = hours if needed is None else needed
    supply = aged(parse_supply(reader.data.get("supply")), start.date())
    routes = ([AC] if supply.inverter else []) + [output.name for output in supply.outputs]
    items = reader.items("loads", most=500)
    if items and not routes:
        raise DocumentError("supply.inverter", "is needed: the loads' route is AC")
    loads = tuple(
        parse_load(item, f"loads[{index}]", start, routes) for index, item in enumerate(items)
    )
    hours = max(hours, needed)
    _check_loads(loads, hours)
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
        runs=(
            *_parse_runs(reader, supply, loads, start.tzinfo),
            *_counted_together(supply, loads),
        ),
        odds=reader.number("odds", least=0.01, most=0.999, default=0.9),
    )
