"""A planned visit: its steps, the range that each leaves, and what remains open."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from needle.message import Message, message
from needle.plan.advice.measurements import LEAST_SETTLED
from needle.plan.draws.inputs import InputKey
from needle.plan.energy.simulate import Outcome
from needle.plan.plan import Plan
from needle.round.candidate import Candidate, LeftAlone, combined
from needle.round.candidates import candidates, counter_for
from needle.round.choosing import GRADE_B_SPREAD, best_choice, count_of
from needle.round.of_load import PUT_IN_MIN, TAKE_OUT_MIN
from needle.round.schedule import Choice, Placed
from needle.round.visit import Visit, checked, with_what_is_there
from needle.round.worth import Worth, worth_of

#: Hours that people leave a meter in each load, where they do not ask which matters.
_USUAL_H = 1.0


@dataclass(frozen=True)
class Step:
    """One measurement of a round.

    Attributes
    ----------
    candidate : Candidate
    meter : str
        Name of the meter.
    first_min, last_min : float
        When the meter is in use, minutes of the visit.
    left_h : (low, likely, high)
        Hours of the plan after this step and all that end before it.
    settles : float
        Share of the doubt whether the plan holds that this step removes; 0 if there is little.
    """

    candidate: Candidate
    meter: str
    first_min: float
    last_min: float
    left_h: tuple[float, float, float]
    settles: float = 0.0


@dataclass(frozen=True)
class OtherWay:
    """Another common way to spend the same time, and the range that it would leave."""

    said: Message
    left_h: tuple[float, float, float]


@dataclass(frozen=True)
class Round:
    """A planned visit.

    Attributes
    ----------
    plan : Plan
    visit : Visit
    before_h : (low, likely, high)
        Hours of the plan now.
    steps : list of Step
        In order of their start.
    alone : list of LeftAlone
        What is not measured, and why.
    open : list of str
        Loads that the round does not measure, although they could be known better.
    others : list of OtherWay
    gap : float
        Possible distance to the best combination, 0…1.
    hands_min : float
        The person's time, min.
    """

    plan: Plan
    visit: Visit
    before_h: tuple[float, float, float]
    steps: list[Step]
    alone: list[LeftAlone]
    open: list[str]
    others: list[OtherWay]
    gap: float
    hands_min: float

    @property
    def after_h(self) -> tuple[float, float, float]:
        """Hours of the plan after all steps."""
        last = max(self.steps, key=lambda step: step.last_min, default=None)
        return last.left_h if last else self.before_h


def plan_round(outcome: Outcome, visit: Visit) -> Round:
    """Return a planned visit for an outcome.

    Raises
    ------
    DocumentError
        There is no time, or no meter.
    """
    visit = with_what_is_there(checked(visit))
    worth = worth_of(outcome)
    offered, alone = candidates(outcome, visit)
    choice = best_choice(offered, worth, outcome, visit)
    offered_steps = _steps(choice, visit, worth)
    steps = _telling(offered_steps, outcome.runtime, visit)
    count = count_of([step.candidate for step in steps])
    # What would be measured and narrows nothing is not open either.
    measured = {step.candidate.subject for step in offered_steps} | set(
        count.loads if count else ()
    )
    left_alone = {left.subject for left in alone}
    still_open = [
        load.name
        for load in outcome.plan.loads
        if load.name not in measured | left_alone and load.spreads.mean > GRADE_B_SPREAD
    ]
    return Round(
        plan=outcome.plan,
        visit=visit,
        before_h=outcome.runtime,
        steps=steps,
        alone=alone,
        open=still_open,
        others=_other_ways(outcome, visit, worth),
        gap=choice.gap,
        hands_min=sum(step.candidate.hands_min for step in steps),
    )


#: A step that narrows the range by less, h, is not listed.
_LEAST_NARROWED_H = 1 / 60


def _telling(
    steps: Sequence[Step], before_h: tuple[float, float, float], visit: Visit
) -> list[Step]:
    """Steps that narrow the plan's range, or settle a start or the plan; all steps for grades."""
    if visit.target == "grades":
        return list(steps)
    width, telling = before_h[2] - before_h[0], []
    for step in sorted(steps, key=lambda step: step.last_min):
        left = step.left_h[2] - step.left_h[0]
        settles = step.candidate.open_chance > 0 or step.settles > LEAST_SETTLED
        if width - left >= _LEAST_NARROWED_H or settles:
            telling.append(step)
            width = min(width, left)
    return [step for step in steps if step in telling]


def _steps(choice: Choice, visit: Visit, worth: Worth) -> list[Step]:
    """Measurements assigned to meters, in order, with the range that each leaves."""
    free = _free_from(visit)
    classes = {meter.name: meter.instrument.key for meter in visit.meters}
    mine = 0.0
    dealt: list[tuple[Placed, str, float]] = []
    for placed in choice.placed:
        fitting = [name for name in free if classes[name] == placed.candidate.meter_key]
        name = min(fitting, key=lambda meter: (free[meter] > placed.first_min + 1e-6, free[meter]))
        first = max(placed.first_min, mine)
        mine = first + placed.candidate.before_min
        free[name] = placed.last_min
        dealt.append((placed, name, first))
    known: dict[InputKey, float] = {}
    left: dict[int, tuple[float, float, float]] = {}
    count, narrowest = None, worth.left({})
    for number in sorted(range(len(dealt)), key=lambda index: dealt[index][0].last_min):
        measured = dealt[number][0].candidate
        known, count = combined(known, measured.leaves), measured.count or count
        told = worth.left(known, count)
        # Others add little to a count, and never take from it.
        narrowest = min(narrowest, told, key=lambda hours: hours[2] - hours[0])
        left[number] = narrowest
    return [
        Step(
            placed.candidate,
            name,
            first,
            placed.last_min,
            left[number],
            worth.settled(
                {} if placed.candidate.count else placed.candidate.leaves, placed.candidate.count
            ),
        )
        for number, (placed, name, first) in enumerate(dealt)
    ]


def _free_from(visit: Visit) -> dict[str, float]:
    """Minute of the visit from which each meter is free, by name."""
    free = {meter.name: 0.0 for meter in visit.meters}
    for name, until in visit.busy:
        # A meter that was removed since is still in use, but gets no further step.
        if name in free:
            free[name] = max(0.0, (until - visit.begins).total_seconds() / 60)
    return free


def _other_ways(outcome: Outcome, visit: Visit, worth: Worth) -> list[OtherWay]:
    """Ranges that the same time would leave in other common ways."""
    told = []
    for code, measured in usual_ways(outcome, visit).items():
        known: dict[InputKey, float] = {}
        for candidate in measured:
            known = combined(known, candidate.leaves)
        told.append(OtherWay(message(code), worth.left(known)))
    return told


def usual_ways(outcome: Outcome, visit: Visit) -> dict[str, list[Candidate]]:
    """Other common ways to spend a visit: counters in turn, by label, evenly, or as listed."""
    loads = [
        load
        for load in outcome.plan.loads
        if counter_for(load, outcome, visit, _USUAL_H) is not None
    ]
    if not loads:
        return {}
    meters = sum(meter.instrument.key in ("plug", "logger") for meter in visit.meters)
    turns = max(1, int(visit.minutes // (60 * _USUAL_H + PUT_IN_MIN + TAKE_OUT_MIN))) * meters
    biggest = sorted(loads, key=lambda load: -load.draw.running_w)
    each_min = visit.minutes * meters / len(loads) - PUT_IN_MIN - TAKE_OUT_MIN
    return {
        code: [
            counter
            for load in chosen
            if (counter := counter_for(load, outcome, visit, hours)) is not None
        ]
        for code, chosen, hours in (
            ("biggest-first", biggest[:turns], _USUAL_H),
            ("same-time-each", loads, max(0.1, each_min / 60)),
            ("in-order", loads[:turns], _USUAL_H),
        )
    }
