"""Parsing of plan documents (see ``docs/fields.md``)."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

from needle.document import DocumentError, Reader
from needle.fields import (
    Fields,
    Number,
    Part,
    Parts,
    Text,
)
from needle.moments import (
    parse_moment,
)
from needle.plan.documents.load import parse_load, routes_of
from needle.plan.documents.runs import RUN_FIELDS, counted_together, parse_runs
from needle.plan.load import PlanLoad
from needle.plan.plan import LEAST_HOURS, MOST_HOURS, Plan
from needle.plan.sources.registry import parse_sources
from needle.supply.supply import aged, parse_supply


def _check_loads(loads: Sequence[PlanLoad], hours: float) -> None:
    """Refuse two loads of one name, and tasks that are longer than the plan."""
    names = [load.name for load in loads]
    if twice := next((name for name in names if names.count(name) > 1), None):
        raise DocumentError("loads", f"two loads are called “{twice}”: give each its own name")
    for index, load in enumerate(loads):
        if load.use.task_min > hours * 60:
            raise DocumentError(
                f"loads[{index}].steps",
                f"take {load.use.task_min / 60:.3g} h together: longer than the plan's {hours:g} h",
            )


PLAN_FIELDS: Fields = {
    "name": Text("its name"),
    "start": Text("when it begins, ISO 8601", default="2027-01-01T18:00:00+00:00"),
    "hours": Number("hours to look at", unit="h", least=LEAST_HOURS, most=MOST_HOURS, needed=True),
    "needed_hours": Number(
        "hours that it has to last",
        unit="h",
        least=LEAST_HOURS,
        most=MOST_HOURS,
        otherwise="`hours`",
    ),
    "odds": Number("chance wanted", unit="share", least=0.01, most=0.999, default=0.9),
    "room_c": Number("mean room temperature", unit="°C", least=-60, most=80),
    "room_swing_c": Number(
        "how much warmer it is at `room_warmest`, and colder half a day later",
        unit="°C",
        most=40,
        default=0.0,
    ),
    "room_warmest": Text("time of day", default="15:00"),
    "supply": Part("the supply; needed", see="supply"),
    "loads": Parts("its loads", see="plan: load", most=500),
    "sources": Parts("its charging sources", see="plan: source", most=50),
    "spread_factor": Number(
        "by which all ranges are taken wider, as earlier runs ended farther from theirs than said",
        least=0.5,
        most=4.0,
        default=1.0,
    ),
    "runs": Parts("runs that were made on this supply", fields=RUN_FIELDS, most=200),
}


def parse_plan(data: Any) -> Plan:
    """Return the plan of a document (see ``docs/fields.md``).

    Raises
    ------
    DocumentError
    """
    reader = Reader(data, "", PLAN_FIELDS)
    start = parse_moment(reader.text("start"), "start", UTC)
    if not isinstance(start, datetime):
        raise DocumentError("start", 'needs a date: write "2027-02-09T18:00:00+00:00"')
    hours = reader.number("hours")
    needed = reader.number("needed_hours", hours)
    supply = aged(parse_supply(reader.document("supply")), start.date())
    items = reader.documents("loads")
    if items and not supply.inverter and not supply.outputs:
        raise DocumentError("supply.inverter", "is needed: the loads' route is AC")
    routes = routes_of(supply)
    loads = tuple(
        parse_load(item, f"loads[{index}]", start, routes) for index, item in enumerate(items)
    )
    hours = max(hours, needed)
    _check_loads(loads, hours)
    warmest = parse_moment(reader.text("room_warmest"), "room_warmest", UTC)
    if not isinstance(warmest, int):
        raise DocumentError("room_warmest", 'is a time of day such as "15:00"')
    return Plan(
        start=start,
        hours=hours,
        needed_hours=needed,
        supply=supply,
        loads=loads,
        sources=parse_sources(reader.documents("sources"), start.tzinfo, supply),
        room_c=reader.number_or_none("room_c"),
        room_swing_c=reader.number("room_swing_c"),
        room_warmest=warmest,
        runs=(
            *parse_runs(reader, supply, loads, start),
            *counted_together(supply, loads),
        ),
        wanted_chance=reader.number("odds"),
        spread_factor=reader.number("spread_factor"),
    )
