"""Charging sources by kind: sun, wind, a charger in windows, mains by turns, another battery."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, tzinfo
from typing import Any

import numpy as np

from needle.document import DocumentError, Reader, kind_of
from needle.estimate import STATED_SPREAD
from needle.fields import Choice, Fields, Number, Text, Windows
from needle.moments import Window, in_windows, parse_windows
from needle.plan.sources.mains import Mains
from needle.plan.sources.source import Source, same_each_day
from needle.plan.sources.sun import Sun
from needle.plan.sources.wind import Wind
from needle.supply.charging import input_limit_w
from needle.supply.supply import Supply

#: Relative sd of a charger's W that were read rather than stated.
READ_SPREAD = 0.02


@dataclass(frozen=True)
class ChargeWindow(Source):
    """Mains or a generator that charges in windows: W, and litres of fuel per kWh (0: none).

    ``spread`` is the relative spread of its W.
    """

    TITLE = "mains or a generator, for some hours"
    ABOUT = (
        "Caution",
        "Generators outdoors, far from openings, with a carbon-monoxide alarm indoors. "
        "Never feed a building through an outlet. Lithium must not be charged below "
        "freezing.",
    )
    FIELDS = {
        "watts": Number("charger, as stated", unit="W", most=1_000_000, above=True),
        "measured_w": Number(
            "what really went in: comes before `watts`", unit="W", most=1_000_000, above=True
        ),
        "between": Windows("hours in which it runs; needed", most=500),
        "litres_per_kwh": Number("fuel of a generator", unit="l/kWh", most=10, default=0.0),
        "spread": Number("relative spread of its W", most=1.0, default=STATED_SPREAD),
    }

    watts: float
    windows: tuple[Window, ...] = field()
    litres_per_kwh: float = 0.0
    spread: float = 0.0

    @classmethod
    def read(cls, reader: Reader, name: str, limit_w: float, zone: tzinfo | None) -> ChargeWindow:
        windows = parse_windows(reader.items("between"), reader.at("between"), zone)
        if not windows:
            raise DocumentError(reader.at("between"), "needs at least one window")
        if reader.has("measured_w"):
            watts, spread = reader.number("measured_w"), READ_SPREAD
        else:
            watts, spread = reader.number("watts"), reader.number("spread")
        return cls(name, limit_w, watts, windows, reader.number("litres_per_kwh"), spread)

    def factors(
        self, days: int, normals: np.ndarray | None, rng: np.random.Generator
    ) -> np.ndarray:
        """Factors on its W, the same every day, (draws, 1)."""
        return same_each_day(self.spread, days, normals)

    @property
    def rated_most_w(self) -> float:
        return self.watts

    def power_w(self, start: datetime, minutes: int) -> np.ndarray:
        return in_windows(self.windows, start, minutes) * self.most_w


@dataclass(frozen=True)
class OtherBattery(Source):
    """Another battery that supplies a limited power until its energy is used up."""

    TITLE = "another battery"
    ABOUT = (
        "Another battery",
        "It charges through an input with limited watts until it reaches its own floor.",
    )
    FIELDS = {
        "nominal_wh": Number(
            "energy it holds",
            label="Holds",
            unit="Wh",
            most=10_000_000,
            above=True,
            needed=True,
        ),
        "max_w": Number(
            "highest power",
            label="Gives at most",
            unit="W",
            most=1_000_000,
            above=True,
            needed=True,
        ),
        "efficiency": Number(
            "share of it that arrives", unit="share", least=0.3, most=1.0, default=0.85
        ),
    }

    store_wh: float = field()
    max_w: float

    @classmethod
    def read(cls, reader: Reader, name: str, limit_w: float, zone: tzinfo | None) -> OtherBattery:
        store_wh = reader.number("nominal_wh") * reader.number("efficiency")
        return cls(name, limit_w, store_wh, reader.number("max_w"))

    @property
    def rated_most_w(self) -> float:
        return self.max_w

    def power_w(self, start: datetime, minutes: int) -> np.ndarray:
        return np.full(minutes, self.most_w)


#: Kinds as the document names them.
KINDS: dict[str, type[Source]] = {
    "sun": Sun,
    "window": ChargeWindow,
    "battery": OtherBattery,
    "wind": Wind,
    "mains": Mains,
}
COMMON_FIELDS: Fields = {
    "kind": Text("kind of source"),
    "name": Text("its name", most=80, otherwise="its kind"),
    "input": Choice(
        "input of the supply that it charges through",
        otherwise="one of its name or kind, else the only one, else the largest",
    ),
    "id": Text("what its draws hang on", most=40, otherwise="its name"),
}


def parse_sources(
    items: Sequence[Any], zone: tzinfo | None, supply: Supply | None
) -> tuple[Source, ...]:
    """Return a plan's sources; without a supply, input limits stay open.

    Raises
    ------
    DocumentError
    """
    sources: list[Source] = []
    for index, item in enumerate(items):
        path = f"sources[{index}]"
        kind = kind_of(item, path, "kind", KINDS)
        reader = Reader(item, path, {**COMMON_FIELDS, **KINDS[kind].FIELDS})
        name = reader.text("name", kind)
        taken = sum(source.name == name or source.name.startswith(f"{name} ") for source in sources)
        name = name if not taken else f"{name} {taken + 1}"
        limit = _limit_w(reader, (name, kind), supply)
        source = KINDS[kind].read(reader, name, limit, zone)
        # Frozen as they are, sources have no field for what only streams are made of.
        object.__setattr__(source, "id", reader.text("id"))
        sources.append(source)
    return tuple(sources)


def _limit_w(reader: Reader, called: Sequence[str], supply: Supply | None) -> float:
    """Power limit of the input that a source uses, W.

    That is the input it names, else one named like the source or its kind, else the only one. Of
    several others, the largest: no source bypasses all of them.
    """
    if supply is None:
        return math.inf
    if not supply.inputs:
        if reader.has("input"):
            raise DocumentError(reader.at("input"), "the supply lists no inputs")
        return math.inf
    limits = {
        charge_input.name.casefold(): input_limit_w(charge_input, supply.battery)
        for charge_input in supply.inputs
    }
    if reader.has("input"):
        names = [charge_input.name for charge_input in supply.inputs]
        return limits[reader.choice("input", names).casefold()]
    own = [limits[name.casefold()] for name in called if name.casefold() in limits]
    return own[0] if own else max(limits.values())
