"""Charging sources by kind: sun, a charger in windows, another battery."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, tzinfo
from typing import Any

import numpy as np

from needle.document import DocumentError, Reader
from needle.estimate import STATED_SPREAD
from needle.moments import Window, in_windows, parse_windows
from needle.plan.sources.source import Source
from needle.plan.sources.sun import Sun
from needle.supply.charging import input_limit_w
from needle.supply.supply import Supply

#: Relative sd of a charger's W that were read rather than stated.
READ_SPREAD = 0.02


@dataclass(frozen=True)
class ChargeWindow(Source):
    """Mains or a generator that charges in windows: W, and litres of fuel per kWh (0: none).

    ``spread`` is the relative spread of its W.
    """

    KEYS = ("watts", "between", "litres_per_kwh", "spread", "measured_w")

    watts: float
    windows: tuple[Window, ...] = field()
    litres_per_kwh: float = 0.0
    spread: float = 0.0

    @classmethod
    def read(cls, reader: Reader, name: str, limit_w: float, zone: tzinfo | None) -> ChargeWindow:
        between = reader.items("between", most=500)
        windows = parse_windows(between, reader.at("between"), zone)
        if not windows:
            raise DocumentError(reader.at("between"), "needs at least one window")
        spread = reader.number("spread", most=1.0, default=STATED_SPREAD)
        if reader.has("measured_w"):
            watts, spread = reader.need("measured_w", most=1_000_000, above=True), READ_SPREAD
        else:
            watts = reader.need("watts", most=1_000_000, above=True)
        fuel = reader.number("litres_per_kwh", most=10, default=0.0)
        return cls(name, limit_w, watts, windows, fuel, spread)

    def factors(
        self, days: int, normals: np.ndarray | None, rng: np.random.Generator
    ) -> np.ndarray:
        """Factors on its W, the same every day, (draws, 1)."""
        if normals is None or self.spread <= 0:
            return np.ones((1, days))
        factor = np.exp(normals * math.sqrt(math.log1p(self.spread**2)))
        return np.repeat(factor[:, None], days, axis=1)

    @property
    def rated_most_w(self) -> float:
        return self.watts

    def power_w(self, start: datetime, minutes: int) -> np.ndarray:
        return in_windows(self.windows, start, minutes) * self.most_w


@dataclass(frozen=True)
class OtherBattery(Source):
    """Another battery that supplies a limited power until its energy is used up."""

    KEYS = ("nominal_wh", "max_w", "efficiency")

    store_wh: float = field()
    max_w: float

    @classmethod
    def read(cls, reader: Reader, name: str, limit_w: float, zone: tzinfo | None) -> OtherBattery:
        efficiency = reader.number("efficiency", least=0.3, most=1.0, default=0.85)
        held = reader.need("nominal_wh", most=10_000_000, above=True)
        most = reader.need("max_w", most=1_000_000, above=True)
        return cls(name, limit_w, held * efficiency, most)

    @property
    def rated_most_w(self) -> float:
        return self.max_w

    def power_w(self, start: datetime, minutes: int) -> np.ndarray:
        return np.full(minutes, self.most_w)


#: Kinds as the document names them.
KINDS: dict[str, type[Source]] = {"sun": Sun, "window": ChargeWindow, "battery": OtherBattery}
_COMMON = ("kind", "name", "input", "id")


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
        if not isinstance(item, dict):
            raise DocumentError(path, "must be an object with named values")
        kind = Reader(item, path, item).choice("kind", KINDS)
        reader = Reader(item, path, (*_COMMON, *KINDS[kind].KEYS))
        name = reader.text("name", kind, 80)
        taken = sum(source.name == name or source.name.startswith(f"{name} ") for source in sources)
        name = name if not taken else f"{name} {taken + 1}"
        limit = _limit_w(reader, (name, kind), supply)
        source = KINDS[kind].read(reader, name, limit, zone)
        # Frozen as they are, sources have no field for what only streams are made of.
        object.__setattr__(source, "id", reader.text("id", most=40))
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
