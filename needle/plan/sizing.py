"""How large, how many more, how many nights, and whether the sun sustains it."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from needle.moments import minute_of, occurrences
from needle.plan.plan import AC, Plan, PlanLoad
from needle.plan.simulate import Outcome, simulate
from needle.plan.verdict import NOT_OF_BATTERY, verdict_of

#: Odds at which a size is called enough.
ODDS = 0.9
_STEPS, _MOST_WH = 12, 1e7


@dataclass(frozen=True)
class BatterySize:
    """Label Wh that reach the needed hours at the odds, and what people would have computed.

    Attributes
    ----------
    nominal_wh : float or None
        Wh; None where no size does (a load that trips, a source that is needed).
    odds : float
    by_mean_wh : float
        Needed hours times mean W of the loads: forgets idle, conversion, floor and range.
    by_twice_wh : float
        Twice that.
    more_wh : float or None
        How much more that is than the plan's battery; negative for less.
    by_labels_wh : float or None
        Sum of labels times needed hours; None where no label is known.
    """

    nominal_wh: float | None
    odds: float
    by_mean_wh: float
    by_twice_wh: float
    by_labels_wh: float | None
    more_wh: float | None = None


def battery_for(outcome: Outcome, odds: float = ODDS, labels_w: float | None = None) -> BatterySize:
    """The battery that reaches the needed hours.

    More capacity never shortens a plan, so the size is bracketed and halved on the logarithm.

    Parameters
    ----------
    outcome : Outcome
    odds : float
    labels_w : float or None
        Sum of the loads' labels, W.
    """
    plan = replace(outcome.plan, hours=outcome.plan.needed_hours)
    by_mean = sum(outcome.wanted_wh.values())

    lost = ~outcome.holds & np.isin(outcome.failures.why.astype(str), NOT_OF_BATTERY)
    hopeless = float(lost.mean()) > 1 - odds

    # The outcome's own draws: at its own size the search says what the outcome says.
    draws = len(outcome.runtime_h)

    def enough(wh: float) -> bool:
        battery = replace(plan.supply.battery, nominal_wh=wh)
        sized = replace(plan, supply=replace(plan.supply, battery=battery))
        return simulate(sized, draws).chance >= odds

    size = None
    low, high = 1.0, max(2 * by_mean, plan.supply.battery.nominal_wh)
    while high < _MOST_WH and not hopeless and not enough(high):
        low, high = high, high * 4
    if high < _MOST_WH and not hopeless:
        low = max(low, by_mean * 0.5)
        if enough(low):
            low = 1.0
        for _ in range(_STEPS):
            middle = math.sqrt(low * high)
            low, high = (low, middle) if enough(middle) else (middle, high)
            if high / low < 1.01:
                break
        size = high
    return BatterySize(
        size, odds, by_mean, 2 * by_mean,
        None if labels_w is None else labels_w * plan.needed_hours,
        None if size is None else size - plan.supply.battery.nominal_wh,
    )  # fmt: skip


@dataclass(frozen=True)
class MoreTasks:
    """How many more tasks of a load fit before the floor by the needed hours: low, likely, high."""

    load: str
    task_wh: float
    low: int
    likely: int
    high: int


def more_tasks(outcome: Outcome) -> list[MoreTasks]:
    """Tasks that still fit into what is left at the needed hours, for each load with tasks."""
    plan = outcome.plan
    at = int(np.searchsorted(outcome.curve_h, plan.needed_hours - 1e-9))
    at = min(at, outcome.charge.shape[1] - 1)
    battery = plan.supply.battery
    held = battery.nominal_wh * battery.state_of_health.value
    lasts = [hours >= plan.needed_hours - 1e-6 for hours in outcome.runtime]
    more = []
    for load in plan.loads:
        if load.steps:
            wh = load.task_wh / _passes(plan, load)
            left = [
                max(0.0, float(share) - battery.floor) * held if ok else 0.0
                for share, ok in zip(outcome.charge[:, at], lasts, strict=True)
            ]
            low, likely, high = (int(residual // wh) for residual in left)
            more.append(MoreTasks(load.name, wh, low, likely, high))
    return more


def _passes(plan: Plan, load: PlanLoad) -> float:
    """Share of the battery's Wh that reaches the load on its route."""
    if load.route == AC:
        inverter = plan.supply.inverter
        return inverter.efficiency.value if inverter else 1.0
    return next(
        output.efficiency.value for output in plan.supply.outputs if output.name == load.route
    )


@dataclass(frozen=True)
class Nights:
    """Whole uses of a load that is used nightly, before it stops: low, likely, high."""

    load: str
    low: int
    likely: int
    high: int


def nights_covered(outcome: Outcome) -> list[Nights]:
    """For each load that is used between hours over a night: how many whole nights it gets."""
    plan = outcome.plan
    minutes = round(plan.hours * 60)
    nights = []
    for load in plan.loads:
        ends = []
        for window in load.windows:
            if isinstance(window.start, int) and isinstance(window.end, int):
                if not (window.start >= 18 * 60 or window.end <= 9 * 60):
                    continue
                length = (window.end - window.start) % 1440
                ends += [at + length for at in occurrences([window.start], plan.start, minutes)]
            elif not isinstance(window.end, int):
                ends.append(minute_of(window.end, plan.start))
        if ends:
            counts = [sum(end <= hours * 60 + 1e-6 for end in ends) for hours in outcome.runtime]
            nights.append(Nights(load.name, *counts))
    return nights


@dataclass(frozen=True)
class Sustains:
    """Whether sources carry the plan.

    Attributes
    ----------
    yes : bool
        It never stops, and ends its last whole day no lower than it began it.
    daily : list of (Wh drawn, Wh from sources)
        Of each whole day of the likely run.
    days : float
        Until it is empty, likely; the plan's days where it is not.
    """

    yes: bool
    daily: list[tuple[float, float]]
    days: float


def sustains(outcome: Outcome) -> Sustains | None:
    """The daily balance of a plan with sources; None without any, or for less than a day."""
    plan = outcome.plan
    days = int(plan.hours // 24)
    if not plan.sources or days < 1:
        return None
    daily = [
        (float(outcome.drawn_w[24 * day : 24 * day + 24].sum()),
         float(outcome.sources_w[24 * day : 24 * day + 24].sum()))
        for day in range(days)
    ]  # fmt: skip
    charge = outcome.likely_charge
    last = 24 * 60 * days
    before = plan.supply.battery.start_charge if days == 1 else charge[last - 1440 - 1]
    holds = outcome.capped and float(charge[last - 1]) >= float(before) - 0.005
    return Sustains(holds, daily, outcome.runtime[1] / 24)


@dataclass(frozen=True)
class Shortage:
    """How much more battery holds at the odds wanted, Wh; or why none would."""

    wh: float | None
    why_not: str = ""


def shortage(outcome: Outcome) -> Shortage | None:
    """What the battery lacks; None where the plan is covered."""
    verdict = verdict_of(outcome)
    if verdict.state == "covers":
        return None
    size = battery_for(outcome, outcome.plan.odds).nominal_wh
    if size is not None:
        return Shortage(max(0.0, size - outcome.plan.supply.battery.nominal_wh))
    trouble = verdict.trouble
    if trouble is not None and trouble.why in NOT_OF_BATTERY:
        return Shortage(None, _WHY_NOT[trouble.why].format(load=trouble.load))
    return Shortage(None, "no battery of any size reaches it")


_WHY_NOT = {
    "overload": "{load} and what runs with it ask for more than the supply carries",
    "start": "the supply does not carry the start of {load}",
    "output": "{load} asks for more than its output gives",
    "rest": "{load} must run while the inverter rests",
}
