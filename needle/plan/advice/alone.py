"""How long each load of a plan runs alone on the supply, on every possible route.

The draws are the plan's own, so that figures of both can be compared.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from datetime import timedelta
from typing import Any

import numpy as np

from needle.percentiles import range_of
from needle.plan.draws.patterns import mean_w
from needle.plan.energy.bank import MINUTES_PER_HOUR, Bank
from needle.plan.energy.battery_draws import battery_draws
from needle.plan.energy.demand import Demand
from needle.plan.limits.trips import MOSTLY
from needle.plan.load import PlanLoad
from needle.plan.plan import MOST_HOURS, Plan, in_use
from needle.supply.battery import usable_wh

DRAWS = 200


@dataclass(frozen=True)
class Alone:
    """One load on one route.

    Attributes
    ----------
    load, route : str
    hours : (low, likely, high) or None
        Hours of continuous use until the supply stops; None for tasks, or if it cannot run.
    tasks : (low, likely, high) or None
        Number of complete tasks or charges, one after the other.
    wh_per_day : (low, likely, high)
        Energy per day of the load as the plan uses it, Wh.
    capped : bool
        Whether it runs for more than two weeks.
    why_not : str
        ``"start"``, ``"overload"``, ``"output"``, ``"volts"`` or ``"no-ac"`` if it cannot run; else
        "".
    """

    load: str
    route: str
    hours: tuple[float, float, float] | None
    tasks: tuple[int, int, int] | None
    wh_per_day: tuple[float, float, float]
    capped: bool = False
    why_not: str = ""


def alone(plan: Plan, draws: int = DRAWS, seed: int = 1) -> list[Alone]:
    """Return how long one of each load runs alone, on its route and on its other routes."""
    return [
        _alone(plan, load, route, draws, seed)
        for load in plan.loads
        for route in (load.route, *load.can)
    ]


def alone_plan(plan: Plan, load: PlanLoad, route: str) -> Plan:
    """The plan with only one of a load, on a route, in continuous use and without sources."""
    only = replace(load, route=route, count=1, use=replace(load.use, windows=()), priority="must")
    if load.use.by_moments:
        only = _in_a_row(only)
        length = _task_min(only)
        count = math.ceil(MOST_HOURS * MINUTES_PER_HOUR / length)
        moments = tuple(plan.start + timedelta(minutes=length * number) for number in range(count))
        only = replace(only, use=replace(only.use, moments=moments))
    supply = plan.supply
    inverter = (
        None if supply.inverter is None else replace(supply.inverter, off_unused=True, off=())
    )
    outputs = tuple(replace(output, off_unused=True) for output in supply.outputs)
    supply = replace(supply, inverter=inverter, outputs=outputs)
    by_itself = replace(plan, loads=(only,), sources=(), supply=supply)
    return replace(by_itself, hours=_horizon_h(by_itself, only))


#: Minutes into which short tasks are joined, since a plan's steps are whole minutes.
_ROW_MIN = 10.0


def _row(load: PlanLoad) -> int:
    """Number of consecutive tasks of a load that are simulated as one."""
    if load.use.charge is not None:
        return 1
    return max(1, min(600, round(_ROW_MIN / load.use.task_min)))


def _in_a_row(load: PlanLoad) -> PlanLoad:
    """A load whose short tasks are grouped, one directly after the other."""
    return replace(load, use=replace(load.use, steps=load.use.steps * _row(load)))


def _task_min(load: PlanLoad) -> float:
    """Duration of a task or a charge, whole min."""
    if load.use.charge is not None:
        return max(1.0, math.ceil(60 * load.use.charge.wall_wh / load.use.charge.watts))
    return max(1.0, math.ceil(load.use.task_min))


def _horizon_h(plan: Plan, load: PlanLoad) -> float:
    """Hours within which the supply almost certainly stops, at most two weeks."""
    inverter = plan.supply.inverter
    idle = inverter.idle_w.value if inverter is not None and load.route == "ac" else 0.0
    likely = usable_wh(plan.supply.battery).value / max(0.1, load.mean_w + idle)
    return min(MOST_HOURS, float(math.ceil(2.5 * likely + 2)))


def _run(by_itself: Plan, draws: int, seed: int) -> tuple[Demand, np.ndarray]:
    """A plan's demand, and the minute of its first stop in each draw."""
    demand = Demand(by_itself, draws, seed)
    bank = Bank(demand.plan, battery_draws(demand.plan, demand.inputs), demand.minutes)
    for block in demand.blocks():
        block.apply_to(bank)
    return demand, bank.stop_min


def hours_alone(plan: Plan, draws: int = DRAWS, seed: int = 1) -> np.ndarray:
    """Hours that the first load of a plan runs alone, (draws,)."""
    (load, *_) = plan.loads
    by_itself = alone_plan(plan, load, load.route)
    _, stop_min = _run(by_itself, draws, seed)
    return np.minimum(by_itself.hours, stop_min / MINUTES_PER_HOUR)


def _alone(plan: Plan, load: PlanLoad, route: str, draws: int, seed: int) -> Alone:
    by_itself = alone_plan(plan, load, route)
    demand, stop_min = _run(by_itself, draws, seed)
    failed, why, _ = demand.first_failures()
    (only,) = demand.plan.loads
    daily = _quantiles(mean_w(only, demand.inputs) * _hours_a_day(plan, load))
    lost = failed < stop_min
    if float(lost.mean()) > MOSTLY:
        reasons, counts = np.unique(why[lost].astype(str), return_counts=True)
        return Alone(load.name, route, None, None, daily, why_not=str(reasons[counts.argmax()]))
    # Where its start fails now and then, the hours are those of when it runs.
    hours = np.minimum(by_itself.hours, stop_min[~lost] / MINUTES_PER_HOUR)
    span = _quantiles(hours)
    capped = by_itself.hours >= MOST_HOURS and span[1] >= MOST_HOURS - 1e-6
    if not load.use.by_moments:
        return Alone(load.name, route, span, None, daily, capped)
    row_min, row = _task_min(_in_a_row(load)), _row(load)
    low, likely, high = (int(h * MINUTES_PER_HOUR / row_min * row) for h in span)
    return Alone(load.name, route, None, (low, likely, high), daily, capped)


def _hours_a_day(plan: Plan, load: PlanLoad) -> float:
    """Hours per day for which the plan uses a load."""
    if load.use.by_moments:
        length_h = load.use.task_min / MINUTES_PER_HOUR
        if load.use.charge is not None:
            length_h = load.use.charge.wall_wh / load.use.charge.watts
        daily = [moment for moment in load.use.moments if isinstance(moment, int)]
        return length_h * (len(daily) or len(load.use.moments))
    return 24 * float(in_use(load, plan.start, 1440).mean())


def _quantiles(values: np.ndarray) -> tuple[float, float, float]:
    low, likely, high = range_of(values)
    return low, likely, high


def as_document(rows: list[Alone]) -> dict[str, Any]:
    """Return the document that ``needle plan --alone`` prints."""

    def span(values: tuple[float, float, float] | None) -> dict[str, float] | None:
        return None if values is None else dict(zip(("low", "value", "high"), values, strict=True))

    return {
        "alone": [
            {
                "load": row.load,
                "route": row.route,
                "hours": span(row.hours),
                "tasks": span(row.tasks),
                "wh_per_day": span(row.wh_per_day),
                "capped": row.capped,
                "why_not": row.why_not,
            }
            for row in rows
        ]
    }
