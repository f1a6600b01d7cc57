"""A drill: what is there, what may be used, for how long, and what is asked."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from needle.document import DocumentError, Reader
from needle.standin.appliances import APPLIANCES

#: What is asked: the first load's Wh a day, its start in VA, the capacitor that lifts its power
#: factor to the usual target, Wh a day of the first less those of the second, hours that the supply
#: runs them all.
DAY, START, CAPACITOR, DIFFERENCE, HOURS = "day", "start", "capacitor", "difference", "hours"
ASKS = {DAY: "Wh", START: "VA", CAPACITOR: "µF", DIFFERENCE: "Wh", HOURS: "h"}
#: What may be amiss: a counter that was not set to nought, and how its last digit is, Wh.
QUIRKS = ("counter not reset", "coarse counter")
METERS = ("plug", "clamp", "shunt")
#: The clock when a drill begins, h: its appliances' courses begin at midnight.
BEGINS_H = 10.0
MOST_LOADS, MOST_MINUTES = 8, 7 * 1440.0


@dataclass(frozen=True)
class DrillLoad:
    """A simulated appliance: its name, which one, label watts over what it truly runs at."""

    name: str
    standin: str
    label_factor: float
    quirks: tuple[str, ...] = ()

    @property
    def kind(self) -> str:
        """Key of :data:`needle.profile.kinds.KINDS`."""
        return APPLIANCES[self.standin].kind


@dataclass(frozen=True)
class DrillSupply:
    """A simulated supply: label Wh, the share that it truly holds, its inverter."""

    nominal_wh: float
    holds: float
    continuous_w: float
    surge_va: float
    idle_w: float
    efficiency: float
    floor: float


@dataclass(frozen=True)
class Drill:
    """A drill.

    Attributes
    ----------
    name, lesson, question : str
        What it is called, what it teaches, what the client asks.
    ask : str
        One of :data:`ASKS`.
    limit : float
        Yes is right where the truth is above it, in the ask's unit.
    minutes : float
        Simulated time that may be used.
    meters : tuple of str
        Meters at hand, by class; a class may stand there twice.
    loads : tuple of DrillLoad
    supply : DrillSupply or None
    seed : int
        Another seed is another drill like it.
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
    seed: int = 1

    @property
    def unit(self) -> str:
        return ASKS[self.ask]

    def second(self, minutes: float) -> float:
        """Seconds of the appliances' courses so many minutes after the drill began."""
        return BEGINS_H * 3600 + minutes * 60

    def like_it(self, seed: int) -> Drill:
        """Another one like it."""
        return replace(self, seed=seed)

    def load_seed(self, name: str) -> int:
        """Which appliance of its kind a load is."""
        place = [load.name for load in self.loads].index(name)
        return 97 * self.seed + place


def parse_drill(data: Any) -> Drill:
    """Read a drill document.

    Raises
    ------
    DocumentError
    """
    keys = ("name", "lesson", "question", "ask", "limit", "minutes", "meters", "loads", "supply",
            "seed")  # fmt: skip
    reader = Reader(data if isinstance(data, dict) else None, "", keys)
    ask = reader.choice("ask", tuple(ASKS))
    loads = tuple(
        _load(item, f"loads[{n}]") for n, item in enumerate(reader.items("loads", most=MOST_LOADS))
    )
    names = [load.name for load in loads]
    if not loads or len(set(names)) < len(names):
        raise DocumentError("loads", "needs one load or more, each with a name of its own")
    if ask == DIFFERENCE and len(loads) < 2:
        raise DocumentError("loads", "needs two loads to ask for their difference")
    meters = tuple(reader.items("meters", most=6))
    for meter in meters:
        if meter not in METERS:
            raise DocumentError("meters", f"“{str(meter)[:40]}” is none of {', '.join(METERS)}")
    supply = data.get("supply")
    if ask == HOURS and supply is None:
        raise DocumentError("supply", "is needed to ask for hours")
    seed = reader.number("seed", 0, 1e6, default=1.0)
    return Drill(
        name=reader.text("name", most=80) or "Drill", lesson=reader.text("lesson", most=400),
        question=reader.text("question", most=400), ask=ask,
        limit=reader.need("limit", least=-1e6, most=1e6),
        minutes=reader.need("minutes", most=MOST_MINUTES, above=True), meters=meters, loads=loads,
        supply=None if supply is None else _supply(supply), seed=int(seed or 0),
    )  # fmt: skip


def _load(data: Any, path: str) -> DrillLoad:
    reader = Reader(data, path, ("name", "standin", "label_factor", "quirks"))
    standin = reader.choice("standin", tuple(APPLIANCES))
    quirks = tuple(reader.items("quirks", most=4))
    for quirk in quirks:
        if quirk not in QUIRKS:
            known = ", ".join(QUIRKS)
            raise DocumentError(reader.at("quirks"), f"“{str(quirk)[:40]}” is none of {known}")
    name = reader.text("name", most=60) or APPLIANCES[standin].name
    return DrillLoad(name, standin, reader.number("label_factor", 0.2, 6.0, default=1.5), quirks)


def _supply(data: Any) -> DrillSupply:
    keys = ("nominal_wh", "holds", "continuous_w", "surge_va", "idle_w", "efficiency", "floor")
    reader = Reader(data, "supply", keys)
    continuous = reader.need("continuous_w", most=1e5, above=True)
    return DrillSupply(
        nominal_wh=reader.need("nominal_wh", most=1e6, above=True),
        holds=reader.number("holds", 0.2, 1.2, default=0.93), continuous_w=continuous,
        surge_va=reader.number("surge_va", most=1e6, default=2 * continuous),
        idle_w=reader.number("idle_w", most=1e4, default=0.01 * continuous),
        efficiency=reader.number("efficiency", 0.5, 1.0, default=0.9),
        floor=reader.number("floor", 0.0, 0.9, default=0.1),
    )  # fmt: skip
