"""A card for the wall: at which charge what may run, worked out beforehand from the plan.

Everything may run as long as the musts are safe if only they run from the next look on. Below that
charge the nice ones go, then those that should run.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from needle.plan.answering import draws_for
from needle.plan.energy.battery_side import other_wh
from needle.plan.load import PlanLoad
from needle.plan.plan import Plan
from needle.supply.display import KNEE, charge_shown
from needle.trial.expected import of_plan
from needle.watch.course import QUARTERS_PER_HOUR, Course, course_of
from needle.watch.not_run import never_run
from needle.watch.standing import Ahead, Standing

#: Hours between looks, and most rows of the card.
LOOK_H, MOST_ROWS = 2.0, 16
#: Error of a displayed charge, sd (share).
SHOWN_SD = 0.03


@dataclass(frozen=True)
class CardRow:
    """A look: its hour, and the charges shown from which on all, and musts and shoulds, may run.

    None where no charge would do; 0 where any does.
    """

    hour: float
    all_from: float | None
    shoulds_from: float | None


@dataclass(frozen=True)
class Card:
    """The card of a plan.

    Attributes
    ----------
    rows : tuple of CardRow
    nice, shoulds, musts : tuple of str
        Loads in the order in which they go; the musts stay.
    cannot_run : dict of str to str
        Loads that are in none of these, since the supply does not run them in most draws: their
        names and the reason.
    carries, carries_all_on : float
        Share of evenings in which every must reaches the hour needed: by the card, and if
        everything runs until it stops.
    served, served_all_on : float
        Share of what the other loads want that they get, likewise.
    """

    rows: tuple[CardRow, ...]
    nice: tuple[str, ...]
    shoulds: tuple[str, ...]
    musts: tuple[str, ...]
    cannot_run: Mapping[str, str]
    carries: float
    carries_all_on: float
    served: float
    served_all_on: float


def card_of(plan: Plan, draws: int | None = None, seed: int = 1) -> Card:
    """Return the card of a plan; thresholds are found on half of its draws, judged on the rest."""
    draws = draws or draws_for(plan)
    course = course_of(plan, draws, seed)
    ahead = _from_the_start(course, plan.needed_hours)
    cannot_run = of_plan(plan, frozenset(), draws, seed).mostly_dropped
    # What trips in most draws only still takes energy in the others: it is counted.
    never = never_run(cannot_run)
    musts, shoulds, nice = _ranks([load for load in course.plan.loads if load.name not in never])
    sets = [
        ahead.drawn_w(names) for names in (musts, (*musts, *shoulds), (*musts, *shoulds, *nice))
    ]
    learn = np.arange(len(ahead.standing.rows)) % 2 == 0
    rows = _thresholds(plan, ahead, sets, learn)
    carries, served = _judged(ahead, sets, rows, ~learn)
    no_rule = [CardRow(row.hour, 0.0, 0.0) for row in rows]
    kept, served_all = _judged(ahead, sets, no_rule, ~learn)
    musts, shoulds, nice = _ranks(
        [load for load in course.plan.loads if load.name not in cannot_run]
    )
    return Card(tuple(rows), nice, shoulds, musts, cannot_run, carries, kept, served, served_all)


def _ranks(loads: Sequence[PlanLoad]) -> tuple[tuple[str, ...], tuple[str, ...], tuple[str, ...]]:
    """Names of the loads that stay on, of those that should run, and of the nice ones."""
    others = [load for load in loads if not load.stays_on]
    return (
        tuple(load.name for load in loads if load.stays_on),
        tuple(load.name for load in others if not load.may_be_dropped),
        tuple(load.name for load in others if load.may_be_dropped),
    )


def _thresholds(
    plan: Plan, ahead: Ahead, sets: Sequence[np.ndarray], learn: np.ndarray
) -> list[CardRow]:
    """Each look with the charges from which on each set may run, by some of the draws."""
    flows = [ahead.flows(watts) for watts in sets]
    floor, end = ahead.standing.floor, sets[0].shape[1]
    musts_need = _needed(floor, flows[0], 0, end, floor)
    looks, rows = _looks(plan.needed_hours), []
    for look, later in zip(looks, [*looks[1:], plan.needed_hours], strict=True):
        first, then = (min(end, round(hour * QUARTERS_PER_HOUR)) for hour in (look, later))
        after = musts_need[:, then]
        needs = [_needed(floor, flow, first, then, after)[learn, 0] for flow in flows[1:]]
        shoulds_from, all_from = (_shown(_quantile(each, plan.wanted_chance)) for each in needs)
        rows.append(CardRow(look, all_from, shoulds_from))
    return rows


def _quantile(values: np.ndarray, share: float) -> float:
    """A quantile of values that may be infinite."""
    return float(np.quantile(values, share, method="higher"))


def _looks(needed_h: float) -> list[float]:
    """Hours of the looks, the first at the start."""
    step = max(LOOK_H, needed_h / MOST_ROWS)
    step = np.ceil(step * 2) / 2
    return [float(hour) for hour in np.arange(0.0, needed_h, step)]


def _from_the_start(course: Course, needed_h: float) -> Ahead:
    """Every draw of a plan at its start."""
    battery, count = course.plan.supply.battery, len(course.battery.capacity_wh)
    standing = Standing(
        course=course,
        hour=0.0,
        rows=np.arange(count),
        charge=np.full(count, battery.start_charge),
        floor=np.full(count, battery.floor),
        held_wh=course.battery.capacity_wh,
        level=np.ones(count),
        wander=np.zeros(count),
        sun=np.ones(count),
        other_wh=np.full(count, other_wh(course.plan)),
    )
    return standing.ahead(needed_h)


def _needed(
    floor: np.ndarray, flow: tuple[np.ndarray, np.ndarray], first: int, last: int, after: np.ndarray
) -> np.ndarray:
    """Charge needed at each quarter hour to have what is needed ``after`` the last, backwards.

    (draws, last - first + 1), infinite where no charge is enough: a full battery stores no more.
    """
    falls, stored = flow
    needed = np.empty((len(floor), last - first + 1))
    needed[:, -1] = after
    for quarter in range(last - 1, first - 1, -1):
        before = needed[:, quarter - first + 1] + falls[:, quarter]
        before = np.where(before > 1.0, np.inf, before - stored[:, quarter])
        needed[:, quarter - first] = np.maximum(floor, before)
    return needed


def bars_for(share: float, of: int) -> int | None:
    """Bars that must be lit for at least a charge; None where no number of bars is enough.

    The last bar that is lit may be nearly out: n of them are sure of n - 1.
    """
    lit = int(np.ceil(share * of - 1e-9)) + 1
    return lit if lit <= of else None


def _shown(charge: float) -> float | None:
    """A true charge as a display shows it, upwards to the percent; None beyond full."""
    if charge > 1.0:
        return None
    shown = float(charge_shown(charge, sum(KNEE) / 2)) + SHOWN_SD
    # Rounded in tenths of a percent first: what is 57 % is not 58.
    return min(1.0, float(np.ceil(np.round(100 * shown, 1))) / 100)


def _judged(
    ahead: Ahead, sets: Sequence[np.ndarray], rows: Sequence[CardRow], which: np.ndarray
) -> tuple[float, float]:
    """Share of draws in which the musts last, and of their wish that the others get, by a card."""
    standing = ahead.standing
    charge = standing.charge.copy()
    drawn = np.zeros_like(sets[0])
    noise = SHOWN_SD * np.random.default_rng(5).standard_normal((len(rows), len(charge)))
    for number, row in enumerate(rows):
        first = round(row.hour * QUARTERS_PER_HOUR)
        last = (
            round(rows[number + 1].hour * QUARTERS_PER_HOUR)
            if number + 1 < len(rows)
            else drawn.shape[1]
        )
        shown = charge_shown(charge, sum(KNEE) / 2) + noise[number]
        step = np.zeros(len(charge), dtype=int)
        step[shown >= (2.0 if row.shoulds_from is None else row.shoulds_from)] = 1
        step[shown >= (2.0 if row.all_from is None else row.all_from)] = 2
        for level, watts in enumerate(sets):
            drawn[step == level, first:last] = watts[step == level, first:last]
        course = ahead.charge(drawn)
        charge = course[:, last - 1]
    course = ahead.charge(drawn)
    runs = np.logical_and.accumulate(course >= standing.floor[:, None], axis=1)
    lasts = runs[:, -1][which]
    wanted = (sets[2] - sets[0])[which].sum()
    got = ((drawn - sets[0]) * runs)[which].sum()
    return float(lasts.mean()), float(got / wanted) if wanted > 0 else 1.0
