"""Figures from captures."""

from __future__ import annotations

import math
from collections.abc import Sequence

from needle.estimate import DEFAULT_SPREAD, Estimate, pool
from needle.measure.cycles import CYCLE_SPREAD
from needle.measure.readings import ProgrammeStep, Recorded, Start, Task
from needle.message import message
from needle.profile.energy import LONG_ENOUGH_H, STEADY_ENOUGH_H, Cycles, Watched
from needle.profile.states import State
from needle.profile.variation import UNSEEN_SPREAD, wander_spread

#: How the level of one run differs from another's (relative sd), and the least that many claim.
LEVEL_SPREAD, LEAST_LEVEL_SPREAD = 0.04, 0.02
#: Longest program that is one task, h.
_ONE_TASK_H = 6.0


def grade_of(capture: Recorded) -> str:
    """A for a day, or for two hours of a constant load; else B."""
    enough = STEADY_ENOUGH_H if capture.pattern == "steady" else LONG_ENOUGH_H
    return "A" if capture.covered_h >= enough else "B"


def is_task(capture: Recorded) -> bool:
    """Whether a capture is one task rather than days of use."""
    return capture.pattern == "program" and capture.covered_h < _ONE_TASK_H


def tasks_of(captures: Sequence[Recorded]) -> list[Task]:
    """Captures of one task each, as task readings."""
    return [
        Task(capture.wh, (capture.active_h or capture.covered_h) * 60, None, 1, capture.context)
        for capture in captures
        if is_task(capture) and capture.wh > 0
    ]


def programme_of(captures: Sequence[Recorded]) -> tuple[ProgrammeStep, ...]:
    """Steps of the newest capture of one task, or of one block; empty without one."""
    short = [capture for capture in captures if capture.steps and capture.covered_h < _ONE_TASK_H]
    stepped = [capture for capture in short if is_task(capture)] or short
    return stepped[-1].steps if stepped else ()


def block_of(captures: Sequence[Recorded]) -> Task | None:
    """The shortest capture as one task, whatever its pattern; None if all last for long."""
    short = [capture for capture in captures if capture.wh > 0 and capture.covered_h < _ONE_TASK_H]
    if not short:
        return None
    capture = min(short, key=lambda capture: capture.covered_h)
    minutes = (capture.active_h or capture.covered_h) * 60
    return Task(capture.wh, minutes, None, 1, capture.context)


def mean_of(captures: Sequence[Recorded], watched: Watched) -> Estimate | None:
    """Mean W over complete cycles if no rare state was recorded, else over the whole capture."""
    drawn = [capture for capture in captures if capture.wh > 0 and not is_task(capture)]
    means = [_mean(capture, watched) for capture in drawn]
    if not means:
        return None
    best = min(estimate.grade for estimate in means)
    total_h = sum(capture.covered_h for capture in captures)
    return pool([mean for mean in means if mean.grade == best], watched.span(total_h))


def _mean(capture: Recorded, watched: Watched) -> Estimate:
    hours = capture.covered_h
    whole = capture.cycle_mean_w is not None and not capture.rarer
    if whole:
        assert capture.cycle_mean_w is not None
        mean_w = capture.cycle_mean_w
        cycles = capture.duty_spread
        if cycles is None:
            cycles = CYCLE_SPREAD / math.sqrt(max(1, capture.whole_cycles))
    else:
        mean_w = capture.wh / hours
        cycles = watched.cut_off(hours) if capture.pattern == "cycling" else 0.0
    rarer = UNSEEN_SPREAD if capture.rarer and hours < LONG_ENOUGH_H else 0.0
    wander = wander_spread(hours) if capture.pattern == "modulating" else 0.0
    spread = math.sqrt(
        watched.span(hours) ** 2
        + cycles**2
        + rarer**2
        + wander**2
        + (capture.context.meter().limit / math.sqrt(3)) ** 2
    )
    cycles_seen = capture.whole_cycles or 0
    how = message("capture-mean", hours=hours, cycles=cycles_seen, mean_w=mean_w)
    return Estimate(mean_w, spread, grade_of(capture), (how,))


def states_of(captures: Sequence[Recorded]) -> list[State]:
    """Resting and running states of captures."""
    found_states = []
    for capture in captures:
        grade = grade_of(capture)
        spread = math.hypot(
            LEVEL_SPREAD / math.sqrt(max(1, capture.whole_cycles)),
            capture.context.meter().limit / math.sqrt(3),
        )
        spread = max(spread, LEAST_LEVEL_SPREAD)
        factor = None
        if capture.power_factor is not None:
            pf_how = (message("pf-recorded", power_factor=capture.power_factor),)
            factor = Estimate(capture.power_factor, 0.02, grade, pf_how, 1.0)
        high_w = capture.high_w if capture.pattern == "modulating" else None
        for name, watts in (("running", high_w or capture.running_w), ("resting", capture.idle_w)):
            # Nothing drawn all the time is no level of running.
            if watts is not None and (capture.wh > 0 or name == "resting"):
                how = (message("watts-recorded", watts=watts),)
                state = State(
                    name,
                    capture.context.setting,
                    Estimate(watts, spread, grade, how),
                    factor if name == "running" else None,
                )
                found_states.append(state)
    return found_states


def merged(read: Sequence[State], recorded: Sequence[State]) -> list[State]:
    """One state per name and setting: the best grade, then the narrowest range."""
    best: dict[tuple[str, str], State] = {}
    for state in sorted(
        (*read, *recorded),
        key=lambda state: (state.watts.grade, state.watts.spread, state.watts.value),
    ):
        best.setdefault((state.setting, state.name), state)
    return sorted(best.values(), key=lambda state: (state.setting, state.watts.value, state.name))


def cycles_of(captures: Sequence[Recorded]) -> Cycles | None:
    """Cycles of the capture with the most cycles."""
    seen = [
        capture
        for capture in captures
        if capture.duty is not None and capture.whole_cycles and capture.period_min
    ]
    if not seen:
        return None
    best = max(seen, key=lambda capture: (capture.whole_cycles, capture.covered_h))
    assert best.duty is not None and best.period_min is not None
    spread = DEFAULT_SPREAD["B"] if best.duty_spread is None else best.duty_spread
    how = (message("duty-recorded", cycles=best.whole_cycles, duty=best.duty),)
    duty = Estimate(best.duty, spread, grade_of(best), how, 1.0)
    return Cycles.of(duty, best.whole_cycles, best.period_min)


def starts_of(captures: Sequence[Recorded]) -> list[Start]:
    """Recorded peaks as start readings; a logger misses peaks shorter than its interval."""
    return [
        Start(watts=capture.start_peak_w, context=capture.context)
        for capture in captures
        if capture.start_peak_w
    ]
