"""Each load of a plan by itself on the supply: how long it runs, by every route it can take.

The same draws as the plan's, so that figures of both can be held against each other.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from datetime import timedelta
from typing import Any

import numpy as np

from needle.plan.asked import Asked
from needle.plan.bank import MINUTES_PER_HOUR, Bank, battery_draws
from needle.plan.patterns import mean_w
from needle.plan.plan import MOST_HOURS, Plan, PlanLoad, in_use
from needle.supply.battery import usable_wh

#: Share of draws from which on a load counts as one that the supply does not carry.
_MOSTLY = 0.5
DRAWS = 200


@dataclass(frozen=True)
class Alone:
    """One load on one route.

    Attributes
    ----------
    load, route : str
    hours : (low, likely, high) or None
        Until the supply stops, in use without a break; None for tasks, and where it does not run.
    tasks : (low, likely, high) or None
        Whole tasks or charges, one after the other.
    wh_per_day : (low, likely, high)
        Of the load, as the plan uses it.
    capped : bool
        It runs on beyond two weeks.
    why_not : str
        ``"start"``, ``"overload"``, ``"output"`` or ``"volts"`` where it does not run; else "".
    """

    load: str
    route: str
    hours: tuple[float, float, float] | None
    tasks: tuple[int, int, int] | None
    wh_per_day: tuple[float, float, float]
    capped: bool = False
    why_not: str = ""


def alone(plan: Plan, draws: int = DRAWS, seed: int = 1) -> list[Alone]:
    """Every load of a plan by itself, one of its count, on its route and on those it could take."""
    return [
        _alone(plan, load, route, draws, seed)
        for load in plan.loads
        for route in (load.route, *load.can)
    ]


def alone_plan(plan: Plan, load: PlanLoad, route: str) -> Plan:
    """The plan with nothing but one of a load, on a route, without a break and without sources."""
    only = replace(load, route=route, count=1, windows=(), priority="must")
    if load.by_moments:
        only = _in_a_row(only)
        length = _task_min(only)
        count = math.ceil(MOST_HOURS * MINUTES_PER_HOUR / length)
        moments = tuple(plan.start + timedelta(minutes=length * number) for number in range(count))
        only = replace(only, moments=moments)
    supply = plan.supply
    inverter = (
        None if supply.inverter is None else replace(supply.inverter, off_unused=True, off=())
    )
    outputs = tuple(replace(output, off_unused=True) for output in supply.outputs)
    supply = replace(supply, inverter=inverter, outputs=outputs)
    by_itself = replace(plan, loads=(only,), sources=(), supply=supply)
    return replace(by_itself, hours=_horizon_h(by_itself, only))


#: Short tasks are put together to about so many minutes, since a plan's steps are whole minutes.
_ROW_MIN = 10.0


def _row(load: PlanLoad) -> int:
    """How many of a load's tasks, one after the other, count as one."""
    if load.charge is not None:
        return 1
    return max(1, min(600, round(_ROW_MIN / load.task_min)))


def _in_a_row(load: PlanLoad) -> PlanLoad:
    """A load whose short tasks come several at a time, one right after the other."""
    return replace(load, steps=load.steps * _row(load))


def _task_min(load: PlanLoad) -> float:
    """Whole minutes that a task or a charge takes."""
    if load.charge is not None:
        return max(1.0, math.ceil(60 * load.charge.wall_wh / load.charge.watts))
    return max(1.0, math.ceil(load.task_min))


def _horizon_h(plan: Plan, load: PlanLoad) -> float:
    """Hours within which it stops almost surely, two weeks at the most."""
    inverter = plan.supply.inverter
    idle = inverter.idle_w.value if inverter is not None and load.route == "ac" else 0.0
    likely = usable_wh(plan.supply.battery).value / max(0.1, load.mean_w + idle)
    return min(MOST_HOURS, float(math.ceil(2.5 * likely + 2)))


def _run(by_itself: Plan, draws: int, seed: int) -> tuple[Asked, np.ndarray]:
    """A plan, and the minute of its first stop in each draw."""
    asked = Asked(by_itself, draws, seed)
    bank = Bank(asked.plan, battery_draws(asked.plan, asked.inputs), asked.minutes)
    for block in asked.blocks():
        block.through(bank)
    return asked, bank.stop_min


def hours_alone(plan: Plan, draws: int = DRAWS, seed: int = 1) -> np.ndarray:
    """Hours of the first load of a plan by itself, in each draw: (draws,)."""
    (load, *_) = plan.loads
    by_itself = alone_plan(plan, load, load.route)
    _, stop_min = _run(by_itself, draws, seed)
    return np.minimum(by_itself.hours, stop_min / MINUTES_PER_HOUR)


def _alone(plan: Plan, load: PlanLoad, route: str, draws: int, seed: int) -> Alone:
    by_itself = alone_plan(plan, load, route)
    asked, stop_min = _run(by_itself, draws, seed)
    failed, why, _ = asked.first_failures()
    (only,) = asked.plan.loads
    daily = _quantiles(mean_w(only, asked.inputs) * _hours_a_day(plan, load))
    lost = failed < stop_min
    if float(lost.mean()) > _MOSTLY:
        reasons, counts = np.unique(why[lost].astype(str), return_counts=True)
        return Alone(load.name, route, None, None, daily, why_not=str(reasons[counts.argmax()]))
    # Where its start fails now and then, the hours are those of when it runs.
    hours = np.minimum(by_itself.hours, stop_min[~lost] / MINUTES_PER_HOUR)
    span = _quantiles(hours)
    capped = by_itself.hours >= MOST_HOURS and span[1] >= MOST_HOURS - 1e-6
    if not load.by_moments:
        return Alone(load.name, route, span, None, daily, capped)
    row_min, row = _task_min(_in_a_row(load)), _row(load)
    low, likely, high = (int(h * MINUTES_PER_HOUR / row_min * row) for h in span)
    return Alone(load.name, route, None, (low, likely, high), daily, capped)


def _hours_a_day(plan: Plan, load: PlanLoad) -> float:
    """Hours of a day for which the plan uses a load."""
    if load.by_moments:
        length_h = load.task_min / MINUTES_PER_HOUR
        if load.charge is not None:
            length_h = load.charge.wall_wh / load.charge.watts
        daily = [moment for moment in load.moments if isinstance(moment, int)]
        return length_h * (len(daily) or len(load.moments))
    return 24 * float(in_use(load, plan.start, 1440).mean())


def _quantiles(values: np.ndarray) -> tuple[float, float, float]:
    low, likely, high = (float(value) for value in np.quantile(values, [0.1, 0.5, 0.9]))
    return low, likely, high


def as_document(rows: list[Alone]) -> dict[str, Any]:
    """What ``needle plan --alone`` prints."""

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
