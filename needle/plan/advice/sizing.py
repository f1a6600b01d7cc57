"""Battery and inverter sizes, further tasks, nights covered, and whether the sun sustains it."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from needle.moments import Window, minute_of, occurrences
from needle.plan.energy.bank import MINUTES_PER_HOUR, Bank
from needle.plan.energy.battery_draws import battery_draws
from needle.plan.energy.battery_side import other_wh
from needle.plan.energy.demand import Demand
from needle.plan.energy.simulate import Outcome
from needle.plan.load import AC, PlanLoad
from needle.plan.plan import Plan
from needle.plan.verdict import NOT_OF_BATTERY, verdict_of

#: Odds at which a size is called enough.
WANTED_CHANCE = 0.9
#: Sizes this near each other count as one; the largest that is tried, Wh.
_CLOSE, _MOST_WH = 1.005, 1e7


@dataclass(frozen=True)
class BatterySize:
    """Battery size for the needed hours at a chance, and the common estimates beside it.

    Attributes
    ----------
    nominal_wh : float or None
        Nominal Wh; None if no size is enough (a load trips, or a source is needed).
    wanted_chance : float
    by_mean_wh : float
        Needed hours times mean W of the loads; ignores idle draw, conversion, floor and range.
    by_twice_wh : float
        Twice ``by_mean_wh``.
    more_wh : float or None
        Difference to the plan's battery, Wh; negative if smaller.
    by_labels_wh : float or None
        Sum of the label W times needed hours; None if a label is unknown.
    """

    nominal_wh: float | None
    wanted_chance: float
    by_mean_wh: float
    by_twice_wh: float
    by_labels_wh: float | None
    more_wh: float | None = None


def battery_for(
    outcome: Outcome, wanted_chance: float = WANTED_CHANCE, labels_w: float | None = None
) -> BatterySize:
    """Return the battery size that reaches the needed hours, with common estimates.

    Parameters
    ----------
    outcome : Outcome
    wanted_chance : float
    labels_w : float or None
        Sum of the loads' labels, W.
    """
    by_mean = sum(outcome.likely.wanted_wh.values())
    size = required_wh(outcome, wanted_chance)
    return BatterySize(
        size,
        wanted_chance,
        by_mean,
        2 * by_mean,
        None if labels_w is None else labels_w * outcome.plan.needed_hours,
        None if size is None else size - outcome.plan.supply.battery.nominal_wh,
    )


def required_wh(outcome: Outcome, wanted_chance: float) -> float | None:
    """Smallest nominal Wh that succeed at a chance; None if no size does.

    In each draw more capacity never shortens a plan, so each draw has a smallest size that
    succeeds, and the answer is a quantile of these sizes. It is found by selection: a trial size
    splits the undecided draws, and only the side that contains the quantile is examined further.
    The draws are the outcome's own, so both agree at the plan's own size.
    """
    plan = replace(outcome.plan, hours=outcome.plan.needed_hours)
    draws = len(outcome.runtime_h)
    demand = Demand(plan, draws, outcome.inputs.seed)
    blocks = list(demand.blocks())
    drawn = battery_draws(demand.plan, demand.inputs)
    last_min = MINUTES_PER_HOUR * (plan.needed_hours - 1e-6)

    def holds(wh: float, rows: np.ndarray) -> np.ndarray:
        """Which of some draws succeed with a battery of this size."""
        of_size = drawn.take(rows, wh / plan.supply.battery.nominal_wh)
        bank = Bank(demand.plan, of_size, demand.minutes, other_wh(plan))
        for block in blocks:
            block.take(rows).apply_to(bank)
        return bank.stop_min >= last_min

    # Draws that fail whatever the battery never hold.
    rows = np.flatnonzero(demand.first_failures()[0] >= last_min)
    more = math.ceil(wanted_chance * draws - 1e-9)  # least number of undecided draws that must hold
    low, high = 1.0, _MOST_WH
    trial = plan.supply.battery.nominal_wh
    while more <= rows.size and high / low > _CLOSE:
        held = holds(trial, rows)
        if int(held.sum()) >= more:
            high, rows = trial, rows[held]
        else:
            low, more, rows = trial, more - int(held.sum()), rows[~held]
        trial = _between(low, high, trial)
    return high if high < _MOST_WH and more <= rows.size else None


def _between(low: float, high: float, last: float) -> float:
    """The next size to try: by factors of four until bracketed, then by bisection."""
    if high >= _MOST_WH:
        return min(last * 4, _MOST_WH * (1 - 1e-9))
    if low <= 1.0:
        return max(last / 4, 1.0 + 1e-9)
    return math.sqrt(low * high)


@dataclass(frozen=True)
class InverterSize:
    """Inverter size for the plan's worst moments: continuous and surge VA, (likely, high)."""

    school: str
    continuous_va: tuple[float, float]
    surge_va: tuple[float, float]
    why: str


def inverter_for(outcome: Outcome) -> list[InverterSize]:
    """Return *just enough* and *roomy* inverter sizes; empty if nothing runs on AC.

    Just enough covers the 90th percentile of the plan's worst moment. Roomy: twice the running sum,
    and 1.5 times the worst start.
    """
    if not outcome.starts:
        return []
    running = max(outcome.starts, key=lambda start: start.running_va[2])
    worst = max(outcome.starts, key=lambda start: start.required_va[2])
    _, sum_va, high_va = running.running_va
    _, start_va, most_va = worst.required_va
    surge = (max(sum_va, start_va), max(high_va, most_va))
    return [
        InverterSize(
            "just enough",
            (sum_va, high_va),
            surge,
            f"the plan's worst moments: what runs with {running.load}, and the start of "
            f"{worst.load} beside what runs then; test it",
        ),
        InverterSize(
            "roomy",
            (2 * sum_va, 2 * high_va),
            (max(2 * sum_va, 1.5 * surge[0]), max(2 * high_va, 1.5 * surge[1])),
            "twice what runs at once, and 1.5 times the worst start",
        ),
    ]


@dataclass(frozen=True)
class MoreTasks:
    """Number of further tasks of a load that fit until the needed hours: low, likely, high."""

    load: str
    task_wh: float
    low: int
    likely: int
    high: int


def more_tasks(outcome: Outcome) -> list[MoreTasks]:
    """Return how many more tasks fit into the remaining charge, for each load with tasks."""
    plan = outcome.plan
    at = int(np.searchsorted(outcome.curve_h, plan.needed_hours - 1e-9))
    at = min(at, outcome.charge.shape[1] - 1)
    battery = plan.supply.battery
    # What it holds in the plan's room: cold takes some of it.
    held = float(np.median(battery_draws(plan, outcome.inputs).capacity_wh))
    lasts = [hours >= plan.needed_hours - 1e-6 for hours in outcome.runtime]
    more = []
    for load in plan.loads:
        if load.use.steps and not outcome.mostly_fails(load.name):
            wh = load.use.task_wh / _passes(plan, load)
            left = [
                max(0.0, float(share) - battery.floor) * held if ok else 0.0
                for share, ok in zip(outcome.charge[:, at], lasts, strict=True)
            ]
            more.append(MoreTasks(load.name, wh, *(int(residual // wh) for residual in left)))
    return more


def _passes(plan: Plan, load: PlanLoad) -> float:
    """Share of the battery's energy that reaches the load on its route."""
    if load.route == AC:
        inverter = plan.supply.inverter
        return inverter.efficiency.value if inverter else 1.0
    return next(
        output.efficiency.value for output in plan.supply.outputs if output.name == load.route
    )


@dataclass(frozen=True)
class Nights:
    """Number of complete nights that a load is supplied: low, likely, high."""

    load: str
    low: int
    likely: int
    high: int


def _night_of(plan: Plan, minute: int) -> int:
    """Index of the night of a minute; nights count from noon to noon."""
    clock = plan.start.hour * 60 + plan.start.minute
    return (clock + minute - 12 * 60) // 1440


#: Hours of the night, minutes after midnight: what is used in them for an hour is used by night.
_NIGHT = (20 * 60, 6 * 60)
_LEAST_BY_NIGHT = 60


def _by_night(start: int, end: int) -> bool:
    """Whether a daily window has at least an hour, or all of its time, at night."""
    minutes = (start + np.arange((end - start) % 1440)) % 1440
    dark = int(((minutes >= _NIGHT[0]) | (minutes < _NIGHT[1])).sum())
    return dark >= min(_LEAST_BY_NIGHT, len(minutes))


def _ends_by_night(window: Window, plan: Plan) -> list[int]:
    """Minutes of the plan at which a window of use ends, if it is one by night."""
    if not isinstance(window.end, int):
        return [minute_of(window.end, plan.start)]
    if not isinstance(window.start, int) or not _by_night(window.start, window.end):
        return []
    length = (window.end - window.start) % 1440
    minutes = round(plan.hours * 60)
    return [at + length for at in occurrences([window.start], plan.start, minutes)]


def nights_covered(outcome: Outcome) -> list[Nights]:
    """Return how many complete nights each load with hours of use at night is supplied."""
    plan = outcome.plan
    nights = []
    never = {name for name, wh in outcome.likely.energy_wh["loads"].items() if wh <= 0}
    for load in plan.loads:
        if load.name in never:
            continue
        ends: dict[int, int] = {}
        for end in (end for window in load.use.windows for end in _ends_by_night(window, plan)):
            night = _night_of(plan, end)
            ends[night] = max(ends.get(night, 0), end)
        if ends:
            last = np.array(list(ends.values()))
            counts = [int((last <= hours * 60 + 1e-6).sum()) for hours in outcome.runtime]
            nights.append(Nights(load.name, *counts))
    return nights


@dataclass(frozen=True)
class Sustains:
    """Whether the sources sustain the plan.

    Attributes
    ----------
    yes : bool
        Whether it never stops, and its last whole day ends no lower than it began.
    daily : list of (Wh drawn, Wh from sources)
        Of each whole day of the median run before its first stop.
    days : float
        Days until empty, likely; the plan's days if it does not run empty.
    """

    yes: bool
    daily: list[tuple[float, float]]
    days: float

    @property
    def hours(self) -> float:
        """The same in hours."""
        return self.days * 24


def sustains(outcome: Outcome) -> Sustains | None:
    """Return the daily balance of a plan with sources; None without any, or for less than a day."""
    plan = outcome.plan
    days = int(plan.hours // 24)
    if not plan.sources or days < 1:
        return None
    whole_days = days if outcome.capped else min(days, int(outcome.runtime[1] // 24))
    daily = [
        (
            float(outcome.likely.drawn_w[24 * day : 24 * day + 24].sum()),
            float(outcome.likely.sources_w[24 * day : 24 * day + 24].sum()),
        )
        for day in range(whole_days)
    ]
    charge = outcome.likely.charge
    last = 24 * 60 * days
    before = plan.supply.battery.start_charge if days == 1 else charge[last - 1440 - 1]
    holds = outcome.capped and float(charge[last - 1]) >= float(before) - 0.005
    return Sustains(holds, daily, outcome.runtime[1] / 24)


@dataclass(frozen=True)
class Shortage:
    """How many Wh the battery lacks for the chance wanted, or why no battery is enough."""

    wh: float | None
    why_not: str = ""


def shortage(outcome: Outcome) -> Shortage | None:
    """Return what the battery lacks; None if the plan is covered."""
    verdict = verdict_of(outcome)
    if verdict.state == "covers":
        return None
    size = required_wh(outcome, outcome.plan.wanted_chance)
    if size is not None:
        return Shortage(max(0.0, size - outcome.plan.supply.battery.nominal_wh))
    failure = verdict.first_failure
    if failure is not None and failure.why in NOT_OF_BATTERY:
        alone = {blocked.load for blocked in verdict.blocked_loads if blocked.alone}
        by_itself = failure.why == "overload" and failure.load in alone
        words = _WHY_NOT["by-itself" if by_itself else failure.why]
        return Shortage(None, words.format(load=failure.load))
    return Shortage(None, "no battery of any size reaches it")


_WHY_NOT = {
    "by-itself": "{load} asks for more than the supply carries",
    "overload": "{load} and what runs with it ask for more than the supply carries",
    "start": "the supply does not carry the start of {load}",
    "output": "{load} asks for more than its output gives",
    "volts": "{load} wants other volts than it is given",
    "no-ac": "{load} runs on AC, and the supply has no inverter",
    "rest": "{load} must run while the inverter rests",
}
