"""Whether a load may be switched on now, beside what runs."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, replace

import numpy as np

from needle.moments import moment_after
from needle.plan.energy.demand import Demand
from needle.plan.limits.starts import PlannedStart, planned_starts
from needle.plan.load import LoadUse, PlanLoad
from needle.plan.plan import Plan
from needle.plan.verdict import UNFIT

#: Length of the plan that is looked at, h, and its draws.
LOOK_H, DRAWS = 0.5, 200


@dataclass(frozen=True)
class StartNow:
    """A load that is switched on now.

    Attributes
    ----------
    chance : float
        Chance that it starts and runs, without a trip.
    start : PlannedStart or None
        Its start on the inverter; None on another output.
    unfit : str
        Why it cannot run on its route at all, ``"volts"`` or ``"no-ac"``; else empty.
    """

    chance: float
    start: PlannedStart | None
    unfit: str = ""


def start_now(
    plan: Plan, hour: float, on: Collection[str], load: PlanLoad, seed: int = 1
) -> StartNow:
    """Return whether a load starts at an hour of a plan, beside the loads that are on then."""
    others = tuple(other for other in plan.loads if other.name in on and other.name != load.name)
    now = replace(
        plan,
        start=moment_after(plan.start, hour),
        hours=LOOK_H,
        needed_hours=LOOK_H,
        loads=(*others, running(load)),
        sources=(),
        runs=(),
    )
    demand = Demand(now, DRAWS, seed)
    for _ in demand.blocks():
        pass
    starts = planned_starts(demand.trips, demand.minutes)
    start = next((start for start in starts if start.load == load.name), None)
    chance = 1 - float(_dropped(demand, load.name).mean())
    if start is not None and start.verdict.chance is not None:
        chance = min(chance, start.verdict.chance)
    reason = demand.trips.drops().get(load.name, (0.0, ""))[1]
    return StartNow(chance, start, reason if reason in UNFIT else "")


def _dropped(demand: Demand, name: str) -> np.ndarray:
    """Whether an output drops a load in each draw, (draws,)."""
    drops = zip(demand.patterns, demand.trips.first_drops_min, strict=True)
    minutes = [minute for pattern, minute in drops if pattern.load.name == name]
    return np.asarray(np.isfinite(minutes).any(axis=0))


def running(load: PlanLoad) -> PlanLoad:
    """A load that runs without a break, whatever its hours and tasks."""
    return replace(
        load,
        draw=replace(load.draw, duty=1.0),
        use=LoadUse(),
    )
