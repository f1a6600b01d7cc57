"""How a measuring round would use a drill's time."""

from __future__ import annotations

from datetime import datetime, timedelta

from needle.drill.answer import plan_of, the_clients
from needle.drill.drill import HOURS, Drill
from needle.drill.session import begin
from needle.message import Message
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate
from needle.round.planning import plan_round
from needle.round.report import begin_of
from needle.round.visit import MOST_ROUND_H, Visit, carried

_DRAWS = 200


def advised(drill: Drill) -> list[tuple[datetime, Message]]:
    """Times and actions of a round planned from the labels; empty except for hours."""
    if drill.ask != HOURS:
        return []
    plan = parse_plan(plan_of(begin(drill), the_clients(drill)))
    ends = plan.start
    day = ends - timedelta(minutes=min(drill.minutes, MOST_ROUND_H * 60))
    planned = plan_round(simulate(plan, _DRAWS), Visit(day, ends, carried(drill.meters)))
    visit = planned.visit
    return [
        (visit.after(step.first_min), begin_of(step, visit.after(step.last_min)))
        for step in planned.steps
    ]
