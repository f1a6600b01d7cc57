"""How large, how many more, how many nights, and whether the sun sustains it."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from needle.moments import minute_of, occurrences
from needle.plan.asked import Asked
from needle.plan.bank import MINUTES_PER_HOUR, Bank, battery_draws
from needle.plan.plan import AC, Plan, PlanLoad
from needle.plan.side import other_wh
from needle.plan.simulate import Outcome
from needle.plan.verdict import NOT_OF_BATTERY, verdict_of

#: Odds at which a size is called enough.
ODDS = 0.9
#: Sizes this near each other count as one; the largest that is tried, Wh.
_CLOSE, _MOST_WH = 1.005, 1e7


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
    """The battery that reaches the needed hours, beside what people would have computed.

    Parameters
    ----------
    outcome : Outcome
    odds : float
    labels_w : float or None
        Sum of the loads' labels, W.
    """
    by_mean = sum(outcome.wanted_wh.values())
    size = required_wh(outcome, odds)
    return BatterySize(
        size,
        odds,
        by_mean,
        2 * by_mean,
        None if labels_w is None else labels_w * outcome.plan.needed_hours,
        None if size is None else size - outcome.plan.supply.battery.nominal_wh,
    )


def required_wh(outcome: Outcome, odds: float) -> float | None:
    """Label Wh of the smallest battery that holds at the odds; None where none of any size does.

    In each draw more capacity never shortens a plan, so there is a least size that holds; wanted is
    the quantile of these. It is selected rather than sorted for: a trial size splits the draws that
    are undecided, and only the side with the quantile is looked at again. The outcome's own draws
    are taken, so that at its own size the search says what the outcome says.
    """
    plan = replace(outcome.plan, hours=outcome.plan.needed_hours)
    draws = len(outcome.runtime_h)
    asked = Asked(plan, draws, outcome.inputs.seed)
    blocks = list(asked.blocks())
    drawn = battery_draws(asked.plan, asked.inputs)
    last_min = MINUTES_PER_HOUR * (plan.needed_hours - 1e-6)

    def holds(wh: float, rows: np.ndarray) -> np.ndarray:
        """Which of some draws a battery of a size carries."""
        of_size = drawn.of_draws(rows, wh / plan.supply.battery.nominal_wh)
        bank = Bank(asked.plan, of_size, asked.minutes, other_wh(plan))
        for block in blocks:
            block.of_draws(rows).through(bank)
        return bank.stop_min >= last_min

    # Draws that fail whatever the battery never hold.
    rows = np.flatnonzero(asked.first_failures()[0] >= last_min)
    more = math.ceil(odds * draws - 1e-9)  # of the undecided, so many must hold
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
    """The next size to try: four times up or down until it is bracketed, then the middle."""
    if high >= _MOST_WH:
        return min(last * 4, _MOST_WH * (1 - 1e-9))
    if low <= 1.0:
        return max(last / 4, 1.0 + 1e-9)
    return math.sqrt(low * high)


@dataclass(frozen=True)
class InverterSize:
    """An inverter for a plan's own worst moments: VA without end and at first, (likely, high)."""

    school: str
    continuous_va: tuple[float, float]
    surge_va: tuple[float, float]
    why: str


def inverter_for(outcome: Outcome) -> list[InverterSize]:
    """*Just enough* and *roomy* for what really runs together; none where nothing is on AC.

    Just enough carries the plan's worst moment, its high end at 9 in 10. Roomy: twice the running
    sum, and 1.5 times the worst start.
    """
    if not outcome.starts:
        return []
    running = max(outcome.starts, key=lambda start: start.running_va[2])
    worst = max(outcome.starts, key=lambda start: start.asked_va[2])
    _, sum_va, high_va = running.running_va
    _, start_va, most_va = worst.asked_va
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
    # What it holds in the plan's room: cold takes some of it.
    held = float(np.median(battery_draws(plan, outcome.inputs).capacity_wh))
    lasts = [hours >= plan.needed_hours - 1e-6 for hours in outcome.runtime]
    more = []
    for load in plan.loads:
        if load.steps:
            wh = load.task_wh / _passes(plan, load)
            left = [
                max(0.0, float(share) - battery.floor) * held if ok else 0.0
                for share, ok in zip(outcome.charge[:, at], lasts, strict=True)
            ]
            more.append(MoreTasks(load.name, wh, *(int(residual // wh) for residual in left)))
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
    """Whole nights, all its uses of each, that a load gets before it stops: low, likely, high."""

    load: str
    low: int
    likely: int
    high: int


def _night_of(plan: Plan, minute: int) -> int:
    """Which night a moment belongs to: from noon to noon."""
    clock = plan.start.hour * 60 + plan.start.minute
    return (clock + minute - 12 * 60) // 1440


#: Hours of the night, minutes after midnight: what is used in them for an hour is used by night.
_NIGHT = (20 * 60, 6 * 60)
_LEAST_BY_NIGHT = 60


def _by_night(start: int, end: int) -> bool:
    """Whether a window of the day lies in the night for an hour at the least, or for all of it."""
    minutes = (start + np.arange((end - start) % 1440)) % 1440
    dark = int(((minutes >= _NIGHT[0]) | (minutes < _NIGHT[1])).sum())
    return dark >= min(_LEAST_BY_NIGHT, len(minutes))


def nights_covered(outcome: Outcome) -> list[Nights]:
    """For each load that is used between hours over a night: how many whole nights it gets."""
    plan = outcome.plan
    minutes = round(plan.hours * 60)
    nights = []
    never = {name for name, wh in outcome.energy_wh["loads"].items() if wh <= 0}
    for load in plan.loads:
        if load.name in never:
            continue
        ends: dict[int, int] = {}
        for window in load.windows:
            if isinstance(window.start, int) and isinstance(window.end, int):
                if not _by_night(window.start, window.end):
                    continue
                length = (window.end - window.start) % 1440
                over = [at + length for at in occurrences([window.start], plan.start, minutes)]
            elif not isinstance(window.end, int):
                over = [minute_of(window.end, plan.start)]
            else:
                continue
            for end in over:
                night = _night_of(plan, end)
                ends[night] = max(ends.get(night, 0), end)
        if ends:
            counts = [
                sum(end <= hours * 60 + 1e-6 for end in ends.values()) for hours in outcome.runtime
            ]
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
        Of each whole day of the likely run before its first stop.
    days : float
        Until it is empty, likely; the plan's days where it is not.
    """

    yes: bool
    daily: list[tuple[float, float]]
    days: float

    @property
    def hours(self) -> float:
        """The same in hours, h."""
        return self.days * 24


def sustains(outcome: Outcome) -> Sustains | None:
    """The daily balance of a plan with sources; None without any, or for less than a day."""
    plan = outcome.plan
    days = int(plan.hours // 24)
    if not plan.sources or days < 1:
        return None
    whole_days = days if outcome.capped else min(days, int(outcome.runtime[1] // 24))
    daily = [
        (
            float(outcome.drawn_w[24 * day : 24 * day + 24].sum()),
            float(outcome.sources_w[24 * day : 24 * day + 24].sum()),
        )
        for day in range(whole_days)
    ]
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
    size = required_wh(outcome, outcome.plan.odds)
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
    "volts": "{load} wants other volts than it is given",
    "rest": "{load} must run while the inverter rests",
}
