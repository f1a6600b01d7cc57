"""Parsing of runs that were made on a plan's supply."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import tzinfo

from needle.document import DocumentError, Reader
from needle.fields import (
    Choice,
    Fields,
    Items,
    Number,
    Text,
)
from needle.moments import (
    parse_moment,
)
from needle.plan.plan import (
    AC,
    COUNTED_ONLY,
    RUN_ENDS,
    PlanLoad,
    Run,
)
from needle.supply.supply import Supply
from needle.supply.supply_tests import TogetherTest

RUN_FIELDS: Fields = {
    "hours": Number("how long it ran", unit="h", most=10_000, above=True, needed=True),
    "from": Number("charge at its start", unit="share", most=1.0, default=1.0),
    "to": Number("charge at its end; needed unless it was only counted", unit="share", most=1.0),
    "why": Choice(
        "why it ended; counted: only `wh` over the hours",
        choices=(*RUN_ENDS, COUNTED_ONLY),
        default="by hand",
    ),
    "wh": Number("energy counted; needed if only counted", unit="Wh", most=10_000_000, above=True),
    "counted": Choice("where: battery, ac, or an output", default="battery"),
    "loads": Items(
        'what it fed: names of this plan\'s loads, {"watts"} of others; needed',
        form='["fridge", {"watts": 40}, …]',
        most=500,
    ),
    "at": Text("the day or moment it began, ISO 8601"),
    "room_c": Number("room then", unit="°C", least=-60, most=80),
}
_OTHER_LOADS: Fields = {
    "watts": Number("mean power of other loads", unit="W", most=1_000_000, needed=True)
}


def parse_runs(
    reader: Reader, supply: Supply, loads: Sequence[PlanLoad], zone: tzinfo | None
) -> tuple[Run, ...]:
    runs = []
    for inner in reader.parts("runs"):
        why = inner.choice("why")
        start, end = _run_charges(inner, why)
        names, watts = _run_loads(inner, loads)
        places = ("battery", *([AC] if supply.inverter else []), *(o.name for o in supply.outputs))
        at = parse_moment(inner.text("at"), inner.at("at"), zone) if inner.has("at") else None
        if isinstance(at, int):
            raise DocumentError(inner.at("at"), "needs a date")
        runs.append(
            Run(
                hours=inner.number("hours"),
                start=start,
                end=end,
                why=why,
                loads=names,
                watts=watts,
                wh=inner.number("wh") if why == COUNTED_ONLY else inner.number_or_none("wh"),
                counted=inner.choice("counted", places),
                at=at,
                room_c=inner.number_or_none("room_c"),
                fed=tuple(load for load in loads if load.name in names),
            )
        )
    return tuple(runs)


def _run_charges(reader: Reader, why: str) -> tuple[float, float]:
    """State of charge at a run's start and end; meaningless for a run that was only counted."""
    if why == COUNTED_ONLY:
        return 1.0, 1.0
    start, end = reader.number("from"), reader.number("to")
    if end >= start:
        raise DocumentError(reader.at("to"), f"{end:g} is not below {start:g}, where it began")
    return start, end


def counted_together(supply: Supply, loads: Sequence[PlanLoad]) -> tuple[Run, ...]:
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
    for index, item in enumerate(reader.items("loads")):
        where = f"{reader.at('loads')}[{index}]"
        if isinstance(item, dict):
            watts += Reader(item, where, _OTHER_LOADS).number("watts")
        elif isinstance(item, str) and item in known:
            names.append(item)
        else:
            raise DocumentError(where, f"{str(item)[:40]!r} is no load of this plan")
    if not names and watts <= 0:
        raise DocumentError(reader.at("loads"), "names what the run fed")
    return tuple(dict.fromkeys(names)), watts
