"""Parsing of runs that were made on a plan's supply."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from needle.document import DocumentError, Reader
from needle.fields import (
    AnyValue,
    Choice,
    Fields,
    Items,
    Number,
    Parts,
    Text,
)
from needle.moments import (
    parse_moment,
)
from needle.plan.documents.load import parse_load, routes_of
from needle.plan.load import AC, PlanLoad
from needle.plan.run import (
    COUNTED_IN_SPREAD,
    COUNTED_ONLY,
    RUN_BEGINS,
    RUN_ENDS,
    STILL_ON,
    Run,
    RunLeg,
    RunLook,
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
    "counted_h": Number(
        "hours until it was read; its end unless given", unit="h", most=10_000, above=True
    ),
    "loads": Items(
        "what it fed; needed: names of this plan's loads, used as in it; loads as they were used "
        'then, like those of a plan; {"watts"} of others',
        form='["fridge", {"name": "heater", "running_w": 150, …}, {"watts": 40}, …]',
        most=500,
    ),
    "at": Text("the day or moment it began, ISO 8601"),
    "room_c": Number("room then", unit="°C", least=-60, most=80),
    "begins": Choice(
        "its boxes at the start: as always, to be cooled down first, or colder than they need",
        choices=RUN_BEGINS,
        default="settled",
    ),
    "pull_down_wh": AnyValue(
        "what loads took beyond their usual draw to be cooled down", form='{"Fridge": 300}'
    ),
    "legs": Parts(
        "its parts, in place of `loads`, where what it fed changed",
        fields={
            "h": Number("hours since its start", unit="h", most=10_000, needed=True),
            "loads": Items("as `loads` of a run", form='["Fridge", {"watts": 40}]', most=500),
        },
        most=100,
    ),
    "wh_in": Number("energy put in from sources meanwhile", unit="Wh", most=1e8, default=0.0),
    "wh_in_spread": Number("relative spread of it", most=1.0, default=COUNTED_IN_SPREAD),
    "check_ins": Parts(
        "what was seen on the way, as in a trial: charge is used, counts are not needed",
        fields={
            "h": Number("hours since its start", unit="h", most=10_000, needed=True),
            "percent": Number("charge on the display", unit="%", most=100.0),
            "bars": Number("bars on the display", most=100, whole=True),
            "of": Number("how many bars there are", least=1, most=100, whole=True),
        },
        most=1000,
    ),
}
_OTHER_LOADS: Fields = {
    "watts": Number("mean power of other loads", unit="W", most=1_000_000, needed=True)
}


def parse_runs(
    reader: Reader, supply: Supply, loads: Sequence[PlanLoad], start: datetime
) -> tuple[Run, ...]:
    """Runs of a plan document; ``start`` is the plan's.

    Raises
    ------
    DocumentError
    """
    counted = ([AC] if supply.inverter else []) + [output.name for output in supply.outputs]
    zone, runs = start.tzinfo, []
    for inner in reader.parts("runs"):
        why = inner.choice("why")
        start_charge, end_charge = _run_charges(inner, why, supply.battery.floor)
        at = parse_moment(inner.text("at"), inner.at("at"), zone) if inner.has("at") else None
        if isinstance(at, int):
            raise DocumentError(inner.at("at"), "needs a date")
        known = _LoadsOfRuns(loads, at or start, routes_of(supply))
        legs = _run_legs(inner, known)
        fed, watts = (legs[0].fed, legs[0].watts) if legs else known.read(inner)
        runs.append(
            Run(
                hours=inner.number("hours"),
                start=start_charge,
                end=end_charge,
                why=why,
                fed=fed,
                watts=watts,
                wh=inner.number("wh") if why == COUNTED_ONLY else inner.number_or_none("wh"),
                counted=inner.choice("counted", ("battery", *counted)),
                counted_h=_counted_h(inner),
                at=at,
                room_c=inner.number_or_none("room_c"),
                begins=inner.choice("begins"),
                pull_down_wh=_pull_down(inner, [load.name for load in fed]),
                legs=legs,
                wh_in=inner.number("wh_in"),
                wh_in_spread=inner.number("wh_in_spread"),
                looks=_looks(inner),
            )
        )
    return tuple(runs)


def _counted_h(reader: Reader) -> float | None:
    """Hour at which a run's energy was counted, within it; None for its end."""
    hours = reader.number_or_none("counted_h")
    if hours is not None and hours > reader.number("hours"):
        raise DocumentError(reader.at("counted_h"), f"{hours:g} is after the run's end")
    return hours


def _run_legs(reader: Reader, known: _LoadsOfRuns) -> tuple[RunLeg, ...]:
    """Parts of a run in order of time; the first begins with it."""
    legs = []
    for part in reader.parts("legs"):
        fed, watts = known.read(part)
        legs.append(RunLeg(part.number("h"), fed, watts))
    legs.sort(key=lambda leg: leg.h)
    if legs and legs[0].h > 0:
        raise DocumentError(reader.at("legs"), f"begin at {legs[0].h:g} h: the first begins at 0")
    if legs and legs[-1].h >= reader.number("hours"):
        raise DocumentError(reader.at("legs"), "begin after the run's end")
    return tuple(legs)


def _pull_down(reader: Reader, names: Sequence[str]) -> tuple[tuple[str, float], ...]:
    """Wh of each load that was cooled down at the start."""
    if not reader.has("pull_down_wh"):
        return ()
    fields = {name: Number("energy", unit="Wh", most=1_000_000) for name in names}
    inner = Reader(reader.value("pull_down_wh"), reader.at("pull_down_wh"), fields)
    return tuple((name, inner.number(name)) for name in names if inner.has(name))


def _looks(reader: Reader) -> tuple[RunLook, ...]:
    """Charges that a display showed."""
    looks = []
    for part in reader.parts("check_ins"):
        hours, percent = part.number("h"), part.number_or_none("percent")
        bars, of = part.number_or_none("bars"), part.number_or_none("of")
        if bars is not None and not of:
            raise DocumentError(part.at("of"), "is needed beside bars: how many there are")
        if bars is not None and of and bars > of:
            raise DocumentError(part.at("bars"), f"{bars:g} of {of:g} is more than there are")
        if percent is not None:
            looks.append(RunLook(hours, percent / 100, 0.01))
        elif bars is not None and of:
            # A bar is lit for all of its part: the middle is the likeliest.
            looks.append(RunLook(hours, max(0.0, (bars - 0.5) / of), 1 / of))
    return tuple(looks)


def _run_charges(reader: Reader, why: str, floor: float) -> tuple[float, float]:
    """State of charge at a run's start and end; meaningless for a run that was only counted.

    One that is still on would end at the supply's floor.
    """
    if why == COUNTED_ONLY:
        return 1.0, 1.0
    start = reader.number("from")
    end = reader.number("to", floor) if why == STILL_ON else reader.number("to")
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
            wh=test.wh,
            fed=tuple(load for load in loads if load.name in test.loads),
        )
        for test in supply.tests
        if isinstance(test, TogetherTest) and set(test.loads) <= known
    )


@dataclass(frozen=True)
class _LoadsOfRuns:
    """Reads what a run fed: loads of the plan, loads as they were used then, and watts.

    Attributes
    ----------
    loads : sequence of PlanLoad
        Those of the plan.
    start : datetime
        When the run began, or its plan.
    routes : sequence of str
        Those of its supply.
    """

    loads: Sequence[PlanLoad]
    start: datetime
    routes: Sequence[str]

    def read(self, reader: Reader) -> tuple[tuple[PlanLoad, ...], float]:
        """Loads in a run or leg, and mean W of others."""
        fed: dict[str, PlanLoad] = {}
        watts = 0.0
        for index, item in enumerate(reader.items("loads")):
            where = f"{reader.at('loads')}[{index}]"
            if isinstance(item, dict) and "name" not in item:
                watts += Reader(item, where, _OTHER_LOADS).number("watts")
            else:
                load = self._load(item, where)
                fed.setdefault(load.name, load)
        if not fed and watts <= 0:
            raise DocumentError(reader.at("loads"), "names what the run fed")
        return tuple(fed.values()), watts

    def _load(self, item: Any, where: str) -> PlanLoad:
        """A load of the plan by its name, or a whole one."""
        name = item.get("name") if isinstance(item, dict) else item
        mine = next((load for load in self.loads if load.name == name), None)
        if isinstance(item, dict):
            load = parse_load(item, where, self.start, self.routes)
            if mine is not None and load.id != mine.id:
                raise DocumentError(f"{where}.id", f"is another load than {name} of this plan")
            return load
        if mine is None:
            raise DocumentError(where, f"{str(item)[:40]!r} is no load of this plan")
        return mine
