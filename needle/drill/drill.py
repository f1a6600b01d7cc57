"""A drill: its loads, meters and time, and the question."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from needle.document import DocumentError, Reader
from needle.fields import Choice, Fields, Items, Number, Part, Parts, Text, Windows
from needle.moments import DAY_MIN, parse_windows
from needle.standin.appliances import APPLIANCES

#: Quantities of questions: the first load's Wh a day, its start in VA, the capacitor that lifts its
#: power factor to the usual target, Wh a day of the first less those of the second, how often the
#: supply runs the first load's task in the hours given, hours that the supply runs them all.
DAY, START, CAPACITOR, DIFFERENCE = "day", "start", "capacitor", "difference"
TASKS, HOURS = "tasks", "hours"
ASKS = {DAY: "Wh", START: "VA", CAPACITOR: "µF", DIFFERENCE: "Wh", TASKS: "times", HOURS: "h"}
#: Faults of a load's meter: its counter was not reset, its last digit is
#: coarse, it takes a while to settle.
QUIRKS = ("counter not reset", "coarse counter", "slow meter")
#: What may be amiss with a supply: its display stays at full for long.
SUPPLY_QUIRKS = ("display sticks",)
METERS = ("plug", "clamp", "shunt", "display")
#: The clock when a drill begins, h: its appliances' courses begin at midnight.
BEGINS_H = 10.0
MOST_LOADS, MOST_MINUTES = 8, 7 * 1440.0
#: Clock times, from and to.
Between = tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class DrillLoad:
    """A simulated appliance.

    Attributes
    ----------
    name, standin : str
        Its name; key of :data:`needle.standin.appliances.APPLIANCES`.
    label_factor : float
        Label W over true running W.
    quirks : tuple of str
        Of :data:`QUIRKS`.
    between : tuple of (str, str)
        Clock times of its use on the supply; empty for all day.
    """

    name: str
    standin: str
    label_factor: float
    quirks: tuple[str, ...] = ()
    between: Between = ()

    @property
    def kind(self) -> str:
        """Key of :data:`needle.profile.kinds.KINDS`."""
        return APPLIANCES[self.standin].kind


@dataclass(frozen=True)
class DrillSupply:
    """A simulated supply: nominal Wh, true share of them, its inverter, its quirks."""

    nominal_wh: float
    holds: float
    continuous_w: float
    surge_va: float
    idle_w: float
    efficiency: float
    floor: float
    quirks: tuple[str, ...] = ()


@dataclass(frozen=True)
class Drill:
    """An exercise with a hidden truth.

    Attributes
    ----------
    name, lesson, question : str
        Its name, what it teaches, and what the client asks.
    ask : str
        One of :data:`ASKS`.
    limit : float
        Yes is right if the truth is above it, in the unit of the question.
    minutes : float
        Simulated time available, min.
    meters : tuple of str
        Meters at hand, by class; a class may occur twice.
    loads : tuple of DrillLoad
    supply : DrillSupply or None
    within_h : float
        Hours in which tasks are done with the inverter on.
    seed : int
        Another seed gives another drill of the same kind.
    """

    name: str
    lesson: str
    question: str
    ask: str
    limit: float
    minutes: float
    meters: tuple[str, ...]
    loads: tuple[DrillLoad, ...]
    supply: DrillSupply | None
    within_h: float = 2.0
    seed: int = 1

    @property
    def unit(self) -> str:
        return ASKS[self.ask]

    def second(self, minutes: float) -> float:
        """Seconds in the appliances' profiles at some minutes after the drill began."""
        return BEGINS_H * 3600 + minutes * 60

    @property
    def ends_min(self) -> int:
        """Minute of the day at which measuring ends and the client's use begins."""
        return round(BEGINS_H * 60 + self.minutes) % DAY_MIN

    @property
    def can_drain(self) -> bool:
        """Whether a discharge can be counted, at the battery or behind the inverter."""
        meters = set(self.meters)
        return self.supply is not None and ("shunt" in meters or {"display", "plug"} <= meters)

    def like_it(self, seed: int) -> Drill:
        """Another drill of the same kind."""
        return replace(self, seed=seed)

    def load_seed(self, name: str) -> int:
        """Seed of a load's appliance."""
        place = [load.name for load in self.loads].index(name)
        return 97 * self.seed + place


_QUIRKS_FORM = "names of what is amiss"
_LOAD_FIELDS: Fields = {
    "name": Text("its name", most=60, otherwise="its appliance's"),
    "standin": Choice("simulated appliance", choices=tuple(APPLIANCES)),
    "label_factor": Number("label over running W", least=0.2, most=6.0, default=1.5),
    "quirks": Items(f"{_QUIRKS_FORM}: {', '.join(QUIRKS)}", form='["…"]', most=4),
    "between": Windows("when the client runs it; empty: all the time", most=8),
}
_SUPPLY_FIELDS: Fields = {
    "nominal_wh": Number("label of the battery", unit="Wh", most=1e6, above=True, needed=True),
    "holds": Number("true share of it", least=0.2, most=1.2, default=0.93),
    "continuous_w": Number("continuous rating", unit="W", most=1e5, above=True, needed=True),
    "surge_va": Number("surge rating", unit="VA", most=1e6, otherwise="twice continuous_w"),
    "idle_w": Number("idle draw", unit="W", most=1e4, otherwise="a hundredth of continuous_w"),
    "efficiency": Number("efficiency", unit="share", least=0.5, most=1.0, default=0.9),
    "floor": Number("share left in the battery", unit="share", most=0.9, default=0.1),
    "quirks": Items(f"{_QUIRKS_FORM}: {', '.join(SUPPLY_QUIRKS)}", form='["…"]', most=4),
}
DRILL_FIELDS: Fields = {
    "name": Text("its name", most=80, otherwise="Drill"),
    "lesson": Text("what it teaches", most=400),
    "question": Text("what the client asks", most=400),
    "ask": Choice("what is asked for", choices=tuple(ASKS)),
    "limit": Number(
        "yes is right where the truth is above it, in the unit asked for",
        least=-1e6,
        most=1e6,
        needed=True,
    ),
    "minutes": Number("simulated time", unit="min", most=MOST_MINUTES, above=True, needed=True),
    "within": Number(
        "hours in which tasks are done, the inverter on",
        unit="h",
        least=0.1,
        most=168.0,
        default=2.0,
    ),
    "meters": Items(
        f"meters at hand, as often as they are there: {', '.join(METERS)}",
        form='["plug", …]',
        most=6,
    ),
    "loads": Parts("simulated loads", fields=_LOAD_FIELDS, most=MOST_LOADS),
    "supply": Part("simulated supply", fields=_SUPPLY_FIELDS),
    "seed": Number("another seed is another drill like it", most=1e6, default=1),
}


def parse_drill(data: Any) -> Drill:
    """Parse a drill document.

    Raises
    ------
    DocumentError
    """
    reader = Reader(data, "", DRILL_FIELDS)
    ask = reader.choice("ask")
    loads = tuple(_load(part) for part in reader.parts("loads"))
    names = [load.name for load in loads]
    if not loads or len(set(names)) < len(names):
        raise DocumentError("loads", "needs one load or more, each with a name of its own")
    if ask == DIFFERENCE and len(loads) < 2:
        raise DocumentError("loads", "needs two loads to ask for their difference")
    meters = tuple(reader.items("meters"))
    for meter in meters:
        if meter not in METERS:
            raise DocumentError("meters", f"“{str(meter)[:40]}” is none of {', '.join(METERS)}")
    supply = reader.part("supply")
    if ask in (HOURS, TASKS) and supply is None:
        raise DocumentError("supply", f"is needed to ask for {ask}")
    if ask == TASKS and not APPLIANCES[loads[0].standin].by_task:
        raise DocumentError(
            "loads[0].standin", "does no tasks that could be counted: take a kettle"
        )
    return Drill(
        name=reader.text("name") or "Drill",
        lesson=reader.text("lesson"),
        question=reader.text("question"),
        ask=ask,
        limit=reader.number("limit"),
        minutes=reader.number("minutes"),
        meters=meters,
        loads=loads,
        supply=None if supply is None else _supply(supply),
        within_h=reader.number("within"),
        seed=int(reader.number("seed")),
    )


def _load(reader: Reader) -> DrillLoad:
    standin = reader.choice("standin")
    return DrillLoad(
        reader.text("name") or APPLIANCES[standin].name,
        standin,
        reader.number("label_factor"),
        _quirks(reader, QUIRKS),
        between_of(reader, "between"),
    )


def _quirks(reader: Reader, known: tuple[str, ...]) -> tuple[str, ...]:
    quirks = tuple(reader.items("quirks"))
    for quirk in quirks:
        if quirk not in known:
            words = f"“{str(quirk)[:40]}” is none of {', '.join(known)}"
            raise DocumentError(reader.at("quirks"), words)
    return quirks


def between_of(reader: Reader, key: str) -> Between:
    """Hours of the day in which a load runs, as clock times; empty for all day."""
    items = reader.items(key)
    for window in parse_windows(items, reader.at(key), None):
        if not isinstance(window.start, int) or not isinstance(window.end, int):
            raise DocumentError(reader.at(key), "takes times of day, such as 18:00 to 22:00")
    return tuple((str(first), str(last)) for first, last in items)


def _supply(reader: Reader) -> DrillSupply:
    continuous = reader.number("continuous_w")
    return DrillSupply(
        nominal_wh=reader.number("nominal_wh"),
        holds=reader.number("holds"),
        continuous_w=continuous,
        surge_va=reader.number("surge_va", 2 * continuous),
        idle_w=reader.number("idle_w", 0.01 * continuous),
        efficiency=reader.number("efficiency"),
        floor=reader.number("floor"),
        quirks=_quirks(reader, SUPPLY_QUIRKS),
    )
