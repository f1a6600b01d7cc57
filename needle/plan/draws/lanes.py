"""When each load and source of a plan is active, for drawing the plan over time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from needle.moments import Moment, Window, in_windows, occurrences
from needle.plan.draws.inputs import likely
from needle.plan.draws.patterns import patterns_of, runs
from needle.plan.load import PlanLoad
from needle.plan.plan import Plan
from needle.plan.sources.source import Source


@dataclass(frozen=True)
class Span:
    """Minutes from a plan's start, and the index of the load's window or moment they belong to.

    ``index`` is -1 for a load that is always in use.
    """

    first: int
    last: int
    index: int = -1


@dataclass(frozen=True)
class LoadLane:
    """A load's times of use, and when it is on in one of the simulated runs.

    ``on`` has shape (spans, 2), minutes; a load that does not cycle is on while in use.
    """

    load: PlanLoad
    uses: list[Span]
    on: np.ndarray


@dataclass(frozen=True)
class SourceLane:
    """A source's windows, and the power it offers in each minute, W, shape (minutes,)."""

    source: Source
    uses: list[Span]
    offered_w: np.ndarray


def load_lanes(plan: Plan) -> list[LoadLane]:
    """Return a lane for each load of a plan, in its order."""
    minutes = round(plan.hours * 60)
    inputs = likely(plan)
    lanes = []
    for load in plan.loads:
        pattern = patterns_of(load, plan, minutes, inputs)[0]
        watts = pattern.power(0, minutes)[0]
        least = load.draw.resting_w + 0.5 * (load.draw.running_w - load.draw.resting_w)
        on = watts > (0.0 if load.use.moments else least)
        length = int(np.diff(pattern.uses[0])[0]) if load.use.moments and len(pattern.uses) else 0
        lanes.append(LoadLane(load, _uses(load, plan, minutes, length), runs(on)))
    return lanes


def source_lanes(plan: Plan) -> list[SourceLane]:
    """Return a lane for each source of a plan, in its order."""
    minutes = round(plan.hours * 60)
    lanes = []
    for source in plan.sources:
        offered = np.zeros(minutes)
        if not source.runs_down:
            offered = np.minimum(source.limit_w, source.power_w(plan.start, minutes))
        lanes.append(SourceLane(source, _spans(source.windows, plan, minutes), offered))
    return lanes


def _uses(load: PlanLoad, plan: Plan, minutes: int, length: int) -> list[Span]:
    if load.use.moments:
        return _begun(load.use.moments, plan, minutes, length)
    if load.use.windows:
        return _spans(load.use.windows, plan, minutes)
    return [Span(0, minutes)]


def _begun(moments: Sequence[Moment], plan: Plan, minutes: int, length: int) -> list[Span]:
    return [
        Span(at, min(minutes, at + length), index)
        for index, moment in enumerate(moments)
        for at in occurrences([moment], plan.start, minutes)
    ]


def _spans(windows: Sequence[Window], plan: Plan, minutes: int) -> list[Span]:
    return [
        Span(int(first), int(last), index)
        for index, window in enumerate(windows)
        for first, last in runs(in_windows([window], plan.start, minutes))
    ]
