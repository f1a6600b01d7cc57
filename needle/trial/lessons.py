"""What a finished run taught: what its plan rested on, before it and after it."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from needle.estimate import Z90
from needle.message import Message, message
from needle.plan.advice.measurements import Narrowing, measure_next
from needle.plan.answering import work_out
from needle.plan.draws.inputs import INVERTER_EFFICIENCY, INVERTER_IDLE, OUTPUT, Inputs
from needle.plan.draws.patterns import mean_w
from needle.plan.energy.battery_draws import battery_draws
from needle.plan.energy.runs import effective, weighed
from needle.plan.plan import Plan
from needle.trial.prediction import Range, weighted_range

#: Least part of a range that goes, and least move of its middle, that is a lesson (shares).
LEAST_NARROWED, LEAST_MOVED = 0.05, 0.01
#: Seed of the draws, as of every answer; how many are weighed; and how far quantiles of equal
#: things differ by chance, over the root of their number.
SEED, SAMPLES, BY_CHANCE = 1, 40_000, 4.0
#: Measurements that are named for what stays open.
MOST_OPEN = 3


@dataclass(frozen=True)
class Lesson:
    """A figure before and after a run; ranges are 10th, 50th and 90th percentile.

    Attributes
    ----------
    said : Message
        What the figure is.
    unit : str
        ``"h"``, ``"Wh"``, ``"W"``, or ``"share"``.
    before, after : Range
    load : str
        Name of the load that it belongs to; empty for the supply and the plan.
    """

    said: Message
    unit: str
    before: Range
    after: Range
    load: str = ""

    @property
    def narrowed(self) -> float:
        """Part of the range that is gone, relative to its middle; negative if it widened."""
        wide, now = (high / low if low > 0 else 1.0 for low, _, high in (self.before, self.after))
        return 1 - math.log(now) / math.log(wide) if wide > 1 else 0.0

    @property
    def moved(self) -> float:
        """How far the middle moved, as a share of what it was."""
        return self.after[1] / self.before[1] - 1 if self.before[1] > 0 else 0.0

    def tells(self, by_chance: float) -> bool:
        """Whether the run changed the figure by more than chance does (logarithm, per spread)."""
        low, _, high = self.before
        spread = math.log(high / low) / (2 * Z90) if high > low > 0 else 0.0
        moved = max(LEAST_MOVED, by_chance * spread)
        return self.narrowed >= max(LEAST_NARROWED, by_chance) or abs(self.moved) >= moved


@dataclass(frozen=True)
class RunLessons:
    """What a run taught, the plan's hours first, and what would narrow them now.

    ``used`` is whether it counts: one that contradicts all that is known does not.
    """

    hours: Lesson
    lessons: tuple[Lesson, ...]
    open: tuple[Narrowing, ...]
    used: bool


def lessons_of(document: dict[str, Any], run: dict[str, Any]) -> RunLessons:
    """Return what a run taught about a plan that is made again.

    Parameters
    ----------
    document : dict
        The plan's document as it was before the run.
    run : dict
        The run, as one of ``runs`` in that document.

    Raises
    ------
    DocumentError
    """
    known = len(document.get("runs", ()))
    runs = [*document.get("runs", ()), run]
    before = work_out(document, advice=False).outcome
    after = work_out({**document, "runs": runs}, advice=False).outcome
    # The same samples, weighed without the run and with it: nothing differs by chance.
    samples, last, _ = weighed(after.plan, SEED, SAMPLES)
    first = weighed(replace(after.plan, runs=after.plan.runs[:known]), SEED, SAMPLES)[1]
    by_chance = BY_CHANCE / math.sqrt(min(effective(first), effective(last)))
    told = [
        Lesson(said, unit, weighted_range(values, first), weighted_range(values, last), load)
        for said, unit, load, values in _figures(after.plan, samples)
    ]
    told = [lesson for lesson in told if lesson.tells(by_chance)]
    return RunLessons(
        hours=Lesson(message("lesson-hours"), "h", before.runtime, after.runtime),
        lessons=tuple(sorted(told, key=lambda lesson: -lesson.narrowed)),
        open=tuple(measure_next(after)[:MOST_OPEN]),
        used=known not in after.inconsistent_runs,
    )


def _figures(plan: Plan, inputs: Inputs) -> Iterator[tuple[Message, str, str, np.ndarray]]:
    """Each figure that a run can teach about: what it is, its unit, its load, and its draws."""
    yield message("lesson-battery"), "Wh", "", battery_draws(plan, inputs).capacity_wh
    inverter = plan.supply.inverter
    if inverter is not None:
        idle_w = inverter.idle_w.value * inputs.factor(INVERTER_IDLE)
        efficiency = inverter.efficiency.value * inputs.factor(INVERTER_EFFICIENCY)
        yield message("lesson-idle"), "W", "", idle_w
        yield message("lesson-efficiency"), "share", "", np.minimum(1.0, efficiency)
    for output in plan.supply.outputs:
        passes = output.efficiency.value * inputs.factor(OUTPUT, output.name)
        yield message("lesson-output", output=output.name), "share", "", np.minimum(1.0, passes)
    for load in plan.loads:
        watts = mean_w(load, inputs) * load.count
        yield message("lesson-load", load=load.name), "W", load.name, watts
