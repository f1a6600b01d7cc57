"""The whole answer to a plan: simulation, measurements, suggestions and sizes.

Pure functions of a document, so that another process may work them out.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from needle.plan.advice.alone import Alone, alone
from needle.plan.advice.measurements import Narrowing, measure_next
from needle.plan.advice.sizing import (
    BatterySize,
    InverterSize,
    MoreTasks,
    Nights,
    battery_for,
    inverter_for,
    more_tasks,
    nights_covered,
)
from needle.plan.advice.suggestions import Suggestion, suggestions
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.likely import likely_hours
from needle.plan.energy.simulate import Outcome, simulate
from needle.plan.plan import MOST_HOURS, Plan

#: Cells (loads times minutes times draws) that one answer may cost, and a quick one.
MOST_CELLS, QUICK_CELLS = 60e6, 3e6
#: Draws of an answer, and of a quick one that is shown while something is being moved.
MOST_DRAWS, QUICK_DRAWS, LEAST_DRAWS = 400, 40, 30


@dataclass(frozen=True)
class Worked:
    """The answer to a plan; a quick answer has fewer draws and no advice."""

    outcome: Outcome
    narrowings: Sequence[Narrowing] = ()
    suggestions: Sequence[Suggestion] = ()


def work_out(document: dict[str, Any], advice: bool = True) -> Worked:
    """Return the answer to a plan document, simulated far enough to see its high end.

    Parameters
    ----------
    document : dict
    advice : bool
        Whether measurements and suggestions are worked out too.

    Raises
    ------
    DocumentError
        The document is not a valid plan.
    """
    plan = _with_horizon(parse_plan(document))
    outcome = simulate(plan, draws_for(plan))
    # Worked out with the answer, and kept with it: every page of the plan shows it.
    _ = outcome.likely
    if not advice:
        return Worked(outcome)
    return Worked(outcome, measure_next(outcome), suggestions(outcome))


def work_out_quickly(document: dict[str, Any]) -> Worked:
    """Return an answer of few draws and without advice, for use while a plan is being edited.

    Raises
    ------
    DocumentError
        The document is not a valid plan.
    """
    plan = parse_plan(document)
    plan = _looking(plan, 1.5 * plan.needed_hours + 2)
    return Worked(simulate(plan, draws_for(plan, QUICK_DRAWS, QUICK_CELLS)))


def each_alone(document: dict[str, Any]) -> list[Alone]:
    """Return how long each load of a plan document runs by itself, on each possible route.

    Raises
    ------
    DocumentError
        The document is not a valid plan.
    """
    return alone(parse_plan(document))


def _with_horizon(plan: Plan) -> Plan:
    """The plan, long enough for the high end of the answer to be seen, where that is possible."""
    ahead = min(MOST_HOURS, 2 * plan.needed_hours)
    while (likely := likely_hours(replace(plan, hours=ahead))) >= ahead < MOST_HOURS:
        ahead = min(MOST_HOURS, 3 * ahead)
    return _looking(plan, max(plan.needed_hours * 1.1, likely * 1.6 + 2))


def _looking(plan: Plan, hours: float) -> Plan:
    """The plan with another length, h."""
    return replace(plan, hours=min(MOST_HOURS, float(math.ceil(hours))))


def draws_for(plan: Plan, most: int | None = None, cells: float = MOST_CELLS) -> int:
    """Number of draws that keeps the cost of an answer within a limit of cells."""
    most = MOST_DRAWS if most is None else most
    cost = plan.hours * 60 * max(1, sum(load.count for load in plan.loads))
    return int(min(most, max(min(most, LEAST_DRAWS), cells / cost)))


@dataclass(frozen=True)
class Sizes:
    """Battery and inverter sizes, common estimates beside them, and further tasks that fit.

    ``labels_w`` is the sum of the label W, None if any load has no label.
    """

    battery: BatterySize
    inverters: list[InverterSize]
    more: list[MoreTasks]
    nights: list[Nights]
    labels_w: float | None


def size_up(outcome: Outcome, wanted_chance: float, labels_w: float | None) -> Sizes:
    """Return sizes for a simulated plan, at the chance wanted."""
    return Sizes(
        battery=battery_for(outcome, wanted_chance, labels_w),
        inverters=inverter_for(outcome),
        more=more_tasks(outcome),
        nights=nights_covered(outcome),
        labels_w=labels_w,
    )
