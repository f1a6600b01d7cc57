"""A plan: loads with their times of use, the supply that runs them, and its charging sources."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime

import numpy as np

from needle.moments import (
    in_windows,
)
from needle.plan.load import PlanLoad
from needle.plan.run import Run
from needle.plan.sources.source import Source
from needle.supply.supply import Supply

#: Shortest and longest plan, h: a minute, two weeks.
LEAST_HOURS, MOST_HOURS = 1 / 60, 336.0


@dataclass(frozen=True)
class Plan:
    """Loads, their times of use, a supply and its charging sources.

    Attributes
    ----------
    start : datetime
        Start of the plan, with its UTC offset.
    hours : float
        Length of the simulation, h.
    needed_hours : float
        How long the supply must last, h.
    supply : Supply
    loads : tuple of PlanLoad
    sources : tuple of Source
    room_c : float or None
        Mean over the day, °C.
    room_swing_c : float
        Amplitude of the daily swing about ``room_c``, °C.
    room_warmest : int
        Warmest time of day, minutes after midnight.
    runs : tuple of Run
        Measured discharges of this supply, which the random draws are conditioned on.
    wanted_chance : float
        Chance of success from which on the plan counts as covered.
    spread_factor : float
        By which all spreads are scaled, as earlier runs ended farther from their ranges, or nearer.
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
    wanted_chance: float = 0.9
    spread_factor: float = 1.0


def carried_by_mains(plan: Plan, minutes: int) -> np.ndarray:
    """Minutes in which mains run the loads on AC, boolean, (minutes,)."""
    masks = [source.carried(plan.start, minutes) for source in plan.sources]
    carried = [mask for mask in masks if mask is not None]
    return np.any(carried, axis=0) if carried else np.zeros(minutes, dtype=bool)


def known_loads(plan: Plan) -> list[PlanLoad]:
    """Loads of a plan, then those of its runs as they were used in them."""
    loads = list(plan.loads)
    for run in plan.runs:
        loads += run.fed
        loads += [load for leg in run.legs for load in leg.fed]
    return list(dict.fromkeys(loads))


def with_loads(plan: Plan, change: Callable[[PlanLoad, float | None], PlanLoad]) -> Plan:
    """A plan with each load changed, in its runs and their legs too.

    ``change`` takes a load and the room (°C) in which it runs: the plan's, or the run's own.
    """

    def changed(loads: Sequence[PlanLoad], room_c: float | None) -> tuple[PlanLoad, ...]:
        return tuple(change(load, room_c) for load in loads)

    runs = []
    for run in plan.runs:
        room_c = plan.room_c if run.room_c is None else run.room_c
        legs = tuple(replace(leg, fed=changed(leg.fed, room_c)) for leg in run.legs)
        runs.append(replace(run, fed=changed(run.fed, room_c), legs=legs))
    return replace(plan, loads=changed(plan.loads, plan.room_c), runs=tuple(runs))


def feeds(plan: Plan, route: str) -> bool:
    """Whether any load of the plan is on a route."""
    return any(load.route == route for load in plan.loads)


def room_by_minute(plan: Plan, minutes: int) -> np.ndarray | None:
    """Room temperature through a plan, °C, shape (minutes,); None if unknown."""
    if plan.room_c is None:
        return None
    clock = plan.start.hour * 60 + plan.start.minute + np.arange(minutes)
    return plan.room_c + plan.room_swing_c * np.cos(2 * np.pi * (clock - plan.room_warmest) / 1440)


def in_use(load: PlanLoad, start: datetime, minutes: int) -> np.ndarray:
    """Whether a load with hours of use is in use, boolean, shape (minutes,)."""
    if not load.use.windows:
        return np.ones(minutes, dtype=bool)
    return in_windows(load.use.windows, start, minutes)
