"""Parsing of one load of a plan document."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from needle.decide.starting import TESTED, StartTried, surge_va
from needle.document import DocumentError, Reader
from needle.estimate import STATED_SPREAD
from needle.fields import (
    AnyValue,
    Choice,
    Fields,
    Flag,
    Items,
    Number,
    Parts,
    Text,
)
from needle.message import Message, from_stored
from needle.moments import (
    parse_windows,
)
from needle.plan.documents.measured import with_profile
from needle.plan.documents.use import TASK_FIELDS, USE_FORM, parse_charge, parse_steps, parse_use
from needle.plan.load import (
    AC,
    PRIORITIES,
    LoadDraw,
    LoadSpreads,
    LoadThermal,
    LoadUse,
    PlanLoad,
    Setting,
)
from needle.profile.kinds import KINDS, RUNS_BY, SAFETY_CLASSES, WIRED
from needle.supply.supply import Supply

LOAD_FIELDS: Fields = {
    "name": Text("its name", most=120, otherwise="its place in the list"),
    "id": Text("what its draws hang on", most=40, otherwise="its name"),
    "kind": Choice("kind of load, for cautions and advice", choices=("", *KINDS), default=""),
    "route": Choice("ac, or the name of an output of the supply", default=AC),
    "running_w": Number(
        "power while it runs",
        unit="W",
        most=100_000,
        otherwise="the highest of its steps, or its charge; else needed",
    ),
    "resting_w": Number("power at rest", unit="W", most=100_000, default=0.0),
    "duty": Number("share of time running while in use", unit="share", most=1.0, default=1.0),
    "cycle_min": Number("length of a cycle", unit="min", least=0.5, most=10_080, default=40.0),
    "power_factor": Number(
        "power factor while running",
        most=1.0,
        above=True,
        default=1.0,
        otherwise="1, and its W are added to the VA of others as they are",
    ),
    "start_va": Number(
        "start-up VA", unit="VA", most=1_000_000, default=0.0, otherwise="its running VA"
    ),
    "start_s": Number("length of the start", unit="s", most=600, default=0.3),
    "volts": Number(
        "voltage it needs; an inverter of another one does not start it",
        unit="V",
        most=1000,
        above=True,
    ),
    "adapter": Number(
        "share of its W that is left on a DC route, without its adapter",
        unit="share",
        least=0.3,
        most=1.0,
        default=1.0,
    ),
    "spread": Number("relative spread of its mean", most=2.0, default=STATED_SPREAD),
    "watts_spread": Number("relative spread of its running W", most=2.0, otherwise="`spread`"),
    "duty_spread": Number(
        "relative spread of its duty; absent where the mean itself was measured", most=2.0
    ),
    "task_spread": Number("relative spread of a task's energy", most=2.0, otherwise="`spread`"),
    "start_spread": Number("relative spread of the start-up VA", most=3.0, default=0.0),
    "day_spread": Number("relative spread of single days about the mean", most=2.0, default=0.0),
    "day_swing": Number("relative amplitude of the swing over a day", most=0.9, default=0.0),
    "wander": Number("how its W wander within the hour, relative spread", most=1.0, default=0.0),
    "runs_by": Choice("who decides when it runs", choices=("", *RUNS_BY), default=""),
    "uses_per_day": Number(
        "mean number of uses a day, where their times are not known", most=1000, above=True
    ),
    "power_factor_spread": Number("relative spread of the power factor", most=1.0, default=0.0),
    "va_spread": Number("relative spread of its VA, where they were read", most=1.0),
    "adapter_spread": Number("relative spread of `adapter`", most=0.5, default=0.0),
    "meter": Text("the one meter it was read on", most=60),
    "meter_spread": Number(
        "part of its spread that all loads read on that meter share", most=0.5, default=0.0
    ),
    "spread_after": Number(
        "relative spread that its next measurement would leave",
        most=2.0,
        otherwise="that of grade A",
    ),
    "use": AnyValue(
        "when it is used; a time of day stands for every day, ISO 8601 for once",
        form=USE_FORM,
        default="always",
    ),
    **TASK_FIELDS,
    "count": Number(
        "how many of it; each has days of its own", least=1, most=100, default=1, whole=True
    ),
    "priority": Choice("how much it matters", choices=PRIORITIES, default="should"),
    "cares": Choice(
        "what hangs on it: advice never leaves off, rests, moves or warms life and store",
        choices=(*SAFETY_CLASSES, WIRED),
        default="",
        otherwise="store for refrigeration, else nothing",
    ),
    "wired": Flag("whether it is hard-wired, as `cares` may say where nothing else depends on it"),
    "legs": Choice(
        "on split mains, the legs it is wired to: no plug meter fits both",
        choices=("", "one", "both"),
        default="",
    ),
    "purpose": Flag("whether the plan is for it: no advice leaves it off"),
    "set_c": Number("set point", unit="°C", least=-100, most=400),
    "measured_room_c": Number("room in which it was measured", unit="°C", least=-60, most=80),
    "measured_set_c": Number(
        "set point at which it was measured", unit="°C", least=-100, most=400, otherwise="`set_c`"
    ),
    "pull_down_wh": Number(
        "extra energy at the start to cool warm contents, taken without a pause",
        unit="Wh",
        most=1_000_000,
        default=0.0,
    ),
    "pull_down_h": Number("or its hours at full power at the start", unit="h", most=200),
    "start_tested": Choice(
        "result of the newest start test on this inverter", choices=("", *TESTED), default=""
    ),
    "start_beside_w": Number("what ran beside it then", unit="W", most=1_000_000, default=0.0),
    "start_times": Number("starts in that test", least=1, most=100, default=1, whole=True),
    "start_ran_s": Number(
        "how long it then ran on with all beside it", unit="s", most=86_400, above=True
    ),
    "can": Items("other routes that it could take", form='["dc12", …]', most=20),
    "settings": Parts(
        "other settings that it could be put to",
        fields={
            "name": Text("name", most=60),
            "running_w": Number("power while it runs", unit="W", most=100_000, needed=True),
            "duty": Number("share of time running", unit="share", most=1.0, default=1.0),
        },
        most=20,
    ),
    "alone": Flag("whether its tasks may not run beside other movable tasks"),
    "notices": Items("remarks on its evidence, said with the answer", form='["…"]', most=50),
}


def routes_of(supply: Supply) -> list[str]:
    """Routes that a load may name: a load on AC cannot run where there is no inverter."""
    return [AC, *(output.name for output in supply.outputs)]


def parse_load(data: Any, path: str, start: datetime, routes: Sequence[str]) -> PlanLoad:
    """Return one load of a plan document.

    Raises
    ------
    DocumentError
    """
    zone = start.tzinfo
    measured = with_profile(data, path, start.hour * 60 + start.minute)
    reader = Reader(measured, path, LOAD_FIELDS)
    route = reader.choice("route", routes)
    steps, charge = parse_steps(reader), parse_charge(reader)
    windows, moments = parse_use(reader, zone, steps, charge)
    running = reader.number_or_none("running_w")
    if running is None and steps:
        running = max(step.watts for step in steps)
    elif running is None and charge is not None:
        running = charge.watts
    elif running is None:
        raise DocumentError(reader.at("running_w"), "is needed")
    resting = reader.number("resting_w")
    if resting > running:
        raise DocumentError(
            reader.at("resting_w"), f"{resting:g} W is above the running {running:g} W"
        )
    factor = reader.number("power_factor")
    return PlanLoad(
        name=reader.text("name") or path,
        draw=LoadDraw(
            running_w=running,
            resting_w=resting,
            duty=reader.number("duty"),
            cycle_min=reader.number("cycle_min"),
            power_factor=factor,
            power_factor_known=reader.has("power_factor"),
            start_va=surge_va(
                reader.number("start_va"), reader.number("start_s"), running / factor
            ),
            start_s=reader.number("start_s"),
            day_swing=reader.number("day_swing"),
            wander=reader.number("wander"),
            volts=reader.number_or_none("volts"),
            adapter=reader.number("adapter"),
        ),
        use=LoadUse(
            windows=windows,
            moments=moments,
            steps=steps,
            charge=charge,
            flexible=parse_windows(reader.items("flexible"), reader.at("flexible"), zone),
            alone=reader.flag("alone"),
            runs_by=reader.choice("runs_by"),
            uses_per_day=reader.number_or_none("uses_per_day"),
        ),
        route=route,
        notices=_parse_notices(reader),
        id=reader.text("id"),
        spreads=_parse_spreads(reader),
        thermal=LoadThermal(
            set_c=reader.number_or_none("set_c"),
            measured_room_c=reader.number_or_none("measured_room_c"),
            measured_set_c=reader.number_or_none("measured_set_c"),
            pull_down_wh=_pull_down_wh(reader, running, resting),
        ),
        priority=reader.choice("priority"),
        count=reader.whole("count"),
        tried=_parse_tried(reader),
        can=_parse_can(reader, routes, route),
        settings=_parse_settings(reader),
        safety_class=_parse_safety_class(reader),
        wired=reader.flag("wired") or reader.choice("cares") == WIRED,
        both_legs=reader.choice("legs") == "both",
        purpose=reader.flag("purpose"),
        meter=reader.text("meter"),
        kind=reader.choice("kind"),
    )


def _parse_spreads(reader: Reader) -> LoadSpreads:
    mean = reader.number("spread")
    return LoadSpreads(
        mean=mean,
        watts=reader.number("watts_spread", mean),
        duty=reader.number_or_none("duty_spread"),
        task=reader.number("task_spread", mean),
        start=reader.number("start_spread"),
        day=reader.number("day_spread"),
        power_factor=reader.number("power_factor_spread"),
        va=reader.number_or_none("va_spread"),
        meter=reader.number("meter_spread"),
        adapter=reader.number("adapter_spread"),
        after=reader.number_or_none("spread_after"),
    )


def _parse_safety_class(reader: Reader) -> str:
    """Safety class as stated; refrigeration keeps its contents unless stated otherwise."""
    kind = KINDS.get(reader.choice("kind"))
    usual = "store" if kind is not None and kind.keeps_contents else ""
    stated = reader.choice("cares", default=usual)
    return usual if stated == WIRED else stated


def _pull_down_wh(reader: Reader, running_w: float, resting_w: float) -> float:
    """Extra Wh at the start: as given, or from hours at full power less its normal use."""
    hours = reader.number_or_none("pull_down_h")
    if hours is None:
        return reader.number("pull_down_wh")
    if reader.has("pull_down_wh"):
        raise DocumentError(reader.at("pull_down_h"), "and pull_down_wh say the same: give one")
    return hours * (1 - reader.number("duty")) * (running_w - resting_w)


def _parse_notices(reader: Reader) -> tuple[str | Message, ...]:
    """Remarks on its evidence, shown with the plan's own notices."""
    notices = []
    for index, item in enumerate(reader.items("notices")):
        try:
            notice = from_stored(item)
        except (KeyError, TypeError, ValueError, AttributeError):
            notice = ""
        if not notice or (isinstance(notice, str) and len(notice) > 1000):
            raise DocumentError(f"{reader.at('notices')}[{index}]", "must be a sentence")
        notices.append(notice)
    return tuple(notices)


def _parse_tried(reader: Reader) -> StartTried | None:
    result, ran_s = reader.choice("start_tested"), reader.number_or_none("start_ran_s")
    beside_w, times = reader.number("start_beside_w"), reader.whole("start_times")
    return StartTried(result, beside_w, times, ran_s) if result else None


def _parse_can(reader: Reader, routes: Sequence[str], route: str) -> tuple[str, ...]:
    can = []
    for item in reader.items("can"):
        if item not in routes:
            raise DocumentError(reader.at("can"), f"“{item}” is none of {', '.join(routes)}")
        if item != route:
            can.append(item)
    return tuple(can)


def _parse_settings(reader: Reader) -> tuple[Setting, ...]:
    return tuple(
        Setting(part.text("name"), part.number("running_w"), part.number("duty"))
        for part in reader.parts("settings")
    )
