"""Lanes of the day plan: blocks of loads and sources that can be moved."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from django.urls import reverse

from needle.moments import moment_after
from needle.plan.advice.shift import Move
from needle.plan.draws.lanes import LoadLane, SourceLane, Span, load_lanes, source_lanes
from needle.plan.energy.simulate import Outcome
from needle.plan.load import PlanLoad
from needle.plan.plan import Plan as CorePlan
from needle.quantity import with_unit
from needle.usage.schedule import is_daily
from web.common.units import clock, day_clock, said
from web.drawing.svg import Attribute
from web.drawing.timeline import Frame, Lane, LaneBlock
from web.jobs.access import may_open
from web.plans.models import PlanSource
from web.plans.outcomes import Answer
from web.plans.used import UsedLoad

Ghosts = Sequence[Move]
#: Width below which cycles are drawn as one stretch, drawing units.
_LEAST_CYCLE = 4.0


def rows_drawn(
    answer: Answer, frame: Frame, ghosts: Ghosts
) -> tuple[list[Lane], list[tuple[int, LaneBlock]]]:
    """Lanes of an answered plan, and proposed blocks with the index of their lane."""
    outcome = answer.outcome
    assert outcome is not None
    plan = outcome.plan
    counted = [used_load for used_load in answer.used if used_load.counted]
    rows, drawn = [], load_lanes(plan)
    for used, lane in zip(counted, drawn, strict=True):
        rows.append(_load_row(answer, used, lane, outcome, frame))
    taken = [source for source in answer.draft.sources if source.taken_in]
    for source, own in zip(taken, source_lanes(plan), strict=True):
        rows.append(_source_row(source, own, plan))
    return rows, _ghost_blocks(ghosts, drawn, plan)


def _load_row(
    answer: Answer, used: UsedLoad, lane: LoadLane, outcome: Outcome, frame: Frame
) -> Lane:
    plan, load = outcome.plan, lane.load
    blocks = [
        LaneBlock(
            span.first / 60,
            span.last / 60,
            "of-load",
            _words(used.name, span, plan, _block(used.use, span.index)),
            _key("load", used.load.pk, span, f"{used.name}"),
            not load.use.moments,
        )
        for span in lane.uses
        if span.index >= 0
    ]
    crosses = [
        (trip.minute / 60, f"{trip.load} trips, {with_unit(trip.watts, 'W')}")
        for trip in outcome.trips
        if trip.load == load.name
    ]
    sub = _second_line(load, used.route)
    href = reverse("plans:entry", args=[answer.plan.job.pk, answer.plan.pk or 0, used.load.pk])
    return Lane(used.name, sub, _shown(href), [*blocks, *_on(lane, frame)], None, crosses)


def _shown(href: str) -> str:
    """A link, for those who may open it."""
    return href if may_open(href) else ""


def _second_line(load: PlanLoad, route: str) -> str:
    """What a load draws, and on which route or how many there are."""
    sub = f"{with_unit(load.mean_w * load.count, 'W')} mean"
    if load.use.steps:
        sub = f"{with_unit(load.use.task_wh, 'Wh')} a task"
    elif load.use.charge is not None:
        sub = f"{with_unit(load.use.charge.wall_wh, 'Wh')} a charge"
    elif load.draw.duty >= 0.999:
        sub = with_unit(load.mean_w * load.count, "W")
    if route != "ac":
        return f"{sub}, on {route}"
    return f"{sub}, {load.count} of them" if load.count > 1 else sub


def _on(lane: LoadLane, frame: Frame) -> list[LaneBlock]:
    """When it is on; cycles too narrow to draw become one block per use."""
    load = lane.load
    if load.use.moments:
        return []
    cycle_wide = load.draw.cycle_min / 60 / frame.span_h * frame.paper.plot
    if load.draw.duty < 0.999 and cycle_wide < _LEAST_CYCLE:
        return [LaneBlock(use.first / 60, use.last / 60, "on often") for use in lane.uses]
    return [LaneBlock(first / 60, last / 60, "on") for first, last in lane.on.tolist()]


def _source_row(source: PlanSource, lane: SourceLane, plan: CorePlan) -> Lane:
    core = lane.source
    href = _shown(reverse("plans:source", args=[source.plan.job_id, source.plan_id, source.pk]))
    if core.runs_down:
        sub = f"up to {with_unit(core.most_w, 'W')}"
        return Lane(source.name, sub, href, [LaneBlock(0, plan.hours, "offer")])
    if not core.windows:
        area = np.minimum(1.0, lane.offered_w / max(1.0, core.most_w))
        basis = [with_unit(core.rated_most_w, "W"), *filter(None, [said(core.basis)])]
        return Lane(source.name, ", ".join(basis), href, [], area)
    use = {"between": source.data.get("between", [])}
    blocks = [
        LaneBlock(
            span.first / 60,
            span.last / 60,
            "of-source",
            _words(source.name, span, plan, _block(use, span.index)),
            _key("source", source.pk, span, source.name),
            True,
        )
        for span in lane.uses
    ]
    return Lane(source.name, with_unit(core.most_w, "W"), href, blocks)


def _block(use: dict[str, Any], index: int) -> str:
    """The text of a block's start."""
    if use.get("tasks"):
        return str(use["tasks"][index])
    return str(use["between"][index][0])


def _words(name: str, span: Span, plan: CorePlan, begin: str) -> str:
    first, last = (moment_after(plan.start, minute / 60) for minute in (span.first, span.last))
    daily = ", every day" if is_daily(begin) and plan.hours > 24 else ""
    return f"{name}, {day_clock(first)} to {clock(last)}{daily}"


def _key(of: str, pk: int, span: Span, name: str) -> dict[str, Attribute]:
    return {
        "data_of": f"{of}s",
        "data_key": pk,
        "data_index": span.index,
        "data_name": name,
        "data_first": span.first,
        "data_last": span.last,
        "id": f"block-{of}-{pk}-{span.index}-{span.first // 1440}",
    }


def _ghost_blocks(
    ghosts: Ghosts, drawn: Sequence[LoadLane], plan: CorePlan
) -> list[tuple[int, LaneBlock]]:
    places = {lane.load.name: number for number, lane in enumerate(drawn)}
    blocks = []
    for move in ghosts:
        load = drawn[places[move.load]].load
        first = move.to_minute / 60
        blocks.append(
            (places[move.load], LaneBlock(first, first + load.use.task_min / 60, "ghost"))
        )
    return blocks
