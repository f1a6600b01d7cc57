"""A plan's whole answer: how it runs, what would narrow it, what would help, and sizes.

Pure functions of a document, so that another process may work them out.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from needle.plan.advice import Narrowing, measure_next
from needle.plan.alone import Alone, alone
from needle.plan.document import parse_plan
from needle.plan.likely import likely_hours
from needle.plan.plan import MOST_HOURS, Plan
from needle.plan.simulate import Outcome, simulate
from needle.plan.sizing import (
    BatterySize,
    InverterSize,
    MoreTasks,
    Nights,
    battery_for,
    inverter_for,
    more_tasks,
    nights_covered,
)
from needle.plan.suggestions import Suggestion, suggestions

#: Cells (loads times minutes times draws) that one answer may cost, and a quick one.
MOST_CELLS, QUICK_CELLS = 60e6, 3e6
#: Draws of an answer, and of a quick one that is shown while something is being moved.
MOST_DRAWS, QUICK_DRAWS, LEAST_DRAWS = 400, 40, 30


@dataclass(frozen=True)
class Worked:
    """What a plan comes to; a quick one has fewer draws and no advice."""

    outcome: Outcome
    narrowings: Sequence[Narrowing] = ()
    suggestions: Sequence[Suggestion] = ()


def work_out(document: dict[str, Any], advice: bool = True) -> Worked:
    """The answer to a plan document, looked at far enough that its high end is seen.

    Without ``advice``, what would narrow it or help is left out.

    Raises
    ------
    DocumentError
    """
    plan = _with_horizon(parse_plan(document))
    outcome = simulate(plan, draws_for(plan))
    if not advice:
        return Worked(outcome)
    return Worked(outcome, measure_next(outcome), suggestions(outcome))


def work_out_quickly(document: dict[str, Any]) -> Worked:
    """With few draws and no advice, for what is being moved.

    Raises
    ------
    DocumentError
    """
    plan = parse_plan(document)
    plan = _looking(plan, 1.5 * plan.needed_hours + 2)
    return Worked(simulate(plan, draws_for(plan, QUICK_DRAWS, QUICK_CELLS)))


def each_alone(document: dict[str, Any]) -> list[Alone]:
    """Every load of a plan document by itself, on each route it can take.

    Raises
    ------
    DocumentError
    """
    return alone(parse_plan(document))


def _with_horizon(plan: Plan) -> Plan:
    """Look far enough ahead that the high end of the answer is seen, where it can be."""
    ahead = min(MOST_HOURS, 2 * plan.needed_hours)
    while (likely := likely_hours(replace(plan, hours=ahead))) >= ahead < MOST_HOURS:
        ahead = min(MOST_HOURS, 3 * ahead)
    return _looking(plan, max(plan.needed_hours * 1.1, likely * 1.6 + 2))


def _looking(plan: Plan, hours: float) -> Plan:
    """The plan as far as so many hours."""
    return replace(plan, hours=min(MOST_HOURS, float(math.ceil(hours))))


def draws_for(plan: Plan, most: int | None = None, cells: float = MOST_CELLS) -> int:
    """How many draws an answer to a plan may cost."""
    most = MOST_DRAWS if most is None else most
    cost = plan.hours * 60 * max(1, sum(load.count for load in plan.loads))
    return int(min(most, max(min(most, LEAST_DRAWS), cells / cost)))


@dataclass(frozen=True)
class Sizes:
    """Battery and inverter for the needed hours, what people would have computed, what more fits.

    ``labels_w`` is the sum of the labels, None where a load has none.
    """

    battery: BatterySize
    inverters: list[InverterSize]
    more: list[MoreTasks]
    nights: list[Nights]
    labels_w: float | None


def size_up(outcome: Outcome, odds: float, labels_w: float | None) -> Sizes:
    """Sizes for a plan that was run, at the odds wanted."""
    return Sizes(
        battery=battery_for(outcome, odds, labels_w),
        inverters=inverter_for(outcome),
        more=more_tasks(outcome),
        nights=nights_covered(outcome),
        labels_w=labels_w,
    )
