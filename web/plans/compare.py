"""Two plans side by side, or one plan on two supplies."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from django.utils.safestring import SafeString

from needle.moments import moment_after
from needle.plan.energy.simulate import Outcome
from needle.quantity import chance_text, hours_text, with_unit
from web.common.units import moment
from web.drawing.dial import dial
from web.drawing.timeline import Frame, Paper
from web.jobs.models import Job
from web.plans.charts import charts_of
from web.plans.draft import Draft, draft_of
from web.plans.models import Plan
from web.plans.outcomes import Answer, energies_until
from web.supplies.models import Supply, supplies_of


@dataclass(frozen=True)
class PlanChoice:
    """A plan to compare with: another plan, or the same one on another supply."""

    key: str
    words: str
    plan: Plan
    supply: Supply | None = None

    def draft(self) -> Draft:
        draft = draft_of(self.plan)
        return draft.on(self.supply) if self.supply else draft


@dataclass(frozen=True)
class PlanSide:
    """One side: names, dial, charts, and figures in the order of the rows."""

    plan: Plan
    supply: Supply | None
    trouble: str
    dial: SafeString | None
    charts: SafeString | None
    figures: list[str]


@dataclass(frozen=True)
class Sides:
    """Both sides, row names, differing conditions, and whether the hours differ significantly."""

    sides: list[PlanSide]
    rows: list[tuple[str, list[str]]]
    differs: list[str]
    verdict: str


def choices_of(job: Job, plan: Plan) -> dict[str, PlanChoice]:
    """All plans that this one can be compared with."""
    choices = [
        PlanChoice(f"plan-{other.pk}", other.name, other)
        for other in job.plans.live().select_related("supply")
        if other.pk != plan.pk
    ]
    for choice in choices:
        choice.plan.job = job
    mine = draft_of(plan).supply
    choices += [
        PlanChoice(f"supply-{part.pk}", f"{plan.name} on {part.name}", plan, part)
        for part in supplies_of(job)
        if mine is None or part.pk != mine.pk
    ]
    return {choice.key: choice for choice in choices}


_ROWS = (
    "lasts, likely",
    "between",
    "all that should run does",
    "needed",
    "runs empty",
    "energy drawn",
    "of it idle and conversion",
    "from sources",
    "trips",
    "left unserved",
)


def compared(answers: list[Answer], paper: Paper) -> Sides:
    """Return the comparison of answers on one time scale, in this layout."""
    hours = max((answer.outcome.runtime[2] for answer in answers if answer.outcome), default=1.0)
    span = max([hours * 1.05, *(answer.plan.needed_hours * 1.05 for answer in answers)])
    sides = [_side(answer, span, paper) for answer in answers]
    rows = [(name, [side.figures[index] for side in sides]) for index, name in enumerate(_ROWS)]
    return Sides(sides, rows, _differs(answers), _verdict(answers))


def _side(answer: Answer, span_h: float, paper: Paper) -> PlanSide:
    outcome = answer.outcome
    if outcome is None:
        return PlanSide(answer.plan, answer.supply, answer.words, None, None, ["–"] * len(_ROWS))
    low, mid, high = outcome.runtime
    name = answer.supply.name if answer.supply else ""
    frame = Frame(outcome.plan.start, 0.0, min(span_h, outcome.plan.hours), paper=paper)
    energy = outcome.likely.energy_wh
    lost = energy["inverter_idle"] + energy["outputs_idle"] + energy["conversion"]
    more = "more than " if outcome.capped else ""
    empty = (
        "no"
        if outcome.capped
        else moment(moment_after(outcome.plan.start, mid, 10), outcome.plan.start)
    )
    return PlanSide(
        answer.plan,
        answer.supply,
        "",
        dial(
            (low, mid, high),
            outcome.plan.needed_hours,
            lambda hour: f"{hour:.3g}",
            "Hours covered",
            f"likely {hours_text(mid)}",
        ),
        charts_of(outcome, frame, name),
        [
            f"{more}{hours_text(mid)}",
            f"{hours_text(low)} and {hours_text(high)}",
            chance_text(outcome.chance),
            hours_text(outcome.plan.needed_hours),
            empty,
            f"{with_unit(sum(energy['loads'].values()) + lost, 'Wh')} {energies_until(outcome)}",
            with_unit(lost, "Wh"),
            with_unit(energy["sources"], "Wh") if outcome.plan.sources else "none",
            ", ".join(_tripped(outcome)) or "none",
            with_unit(sum(outcome.likely.unserved_wh.values()), "Wh"),
        ],
    )


def _tripped(outcome: Outcome) -> list[str]:
    """Loads that are dropped in most runs."""
    mostly = (trip.load for trip in outcome.trips if outcome.mostly_fails(trip.load))
    return list(dict.fromkeys(mostly))


def _differs(answers: list[Answer]) -> list[str]:
    """Differing conditions, which make the comparison unfair."""
    if len(answers) < 2:
        return []
    first, second = (_conditions(answer) for answer in answers)
    return [name for name, value in first.items() if value != second[name]]


def _conditions(answer: Answer) -> dict[str, Any]:
    """Conditions of an answer, by name."""
    plan, outcome = answer.plan, answer.outcome
    return {
        "room": plan.room_c,
        "hours needed": plan.needed_hours,
        "charge at the start": plan.start_charge,
        "floor": None if outcome is None else outcome.plan.supply.battery.floor,
        "begin": plan.start,
        "loads": [used.name for used in answer.used if used.counted],
    }


def _differ_in_hours(outcome: Outcome, other: Outcome) -> bool:
    """Whether nine in ten pairs of draws agree on which lasts longer.

    Shared inputs have the same draws in both. Limited to the shorter simulation.
    """
    draws = min(len(outcome.runtime_h), len(other.runtime_h))
    ahead = min(outcome.plan.hours, other.plan.hours)
    won = np.minimum(outcome.runtime_h[:draws], ahead) - np.minimum(other.runtime_h[:draws], ahead)
    low, high = np.quantile(won, [0.1, 0.9])
    return bool(low > 0 or high < 0)


def _verdict(answers: list[Answer]) -> str:
    """Which lasts longer, that there is no significant difference, or why there is no answer."""
    runs = [answer.outcome.runtime for answer in answers if answer.outcome]
    if len(runs) < 2:
        return ""
    (_, mid, _), (_, other, _) = runs
    if not _differ_in_hours(*(answer.outcome for answer in answers if answer.outcome)):
        return "No real difference in hours: either may last longer."
    longer = 0 if mid > other else 1
    names = [f"{answer.plan.name} on {answer.supply}" for answer in answers]
    dropped = [_tripped(answer.outcome) for answer in answers if answer.outcome]
    if dropped[0] != dropped[1]:
        worse = 0 if len(dropped[0]) > len(dropped[1]) else 1
        return f"The hours do not compare: {names[worse]} drops {', '.join(dropped[worse])}."
    return f"{names[longer]} lasts {hours_text(abs(mid - other))} longer."
