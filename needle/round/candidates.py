"""All possible measurements of a visit: meter, duration, and the accuracy afterwards."""

from __future__ import annotations

from needle.message import Message, message
from needle.plan.energy.simulate import Outcome
from needle.plan.load import PlanLoad
from needle.round.candidate import Candidate, LeftAlone
from needle.round.of_all import together
from needle.round.of_load import Socket, of_load
from needle.round.of_supply import of_supply
from needle.round.visit import Visit


def candidates(outcome: Outcome, visit: Visit) -> tuple[list[Candidate], list[LeftAlone]]:
    """Return what can be measured in the visit, and what cannot, with the reason."""
    offered, alone, movable = [], [], []
    for load in outcome.plan.loads:
        why = _hands_off(load, visit)
        if why:
            alone.append(LeftAlone(load.name, why))
        else:
            movable.append(load)
        offered += list(of_load(load, outcome, visit, unplugs=not why))
    offered += of_supply(outcome, visit)
    offered += together(outcome, visit, movable)
    return [
        candidate.worthwhile()
        for candidate in offered
        if candidate.meter_min <= visit.minutes and candidate.key not in visit.impossible
    ], alone


def _hands_off(load: PlanLoad, visit: Visit) -> Message | None:
    """Why a load must not be unplugged; None if it may be."""
    if load.read_in_panel and not visit.qualified:
        return message("hard-wired" if load.wired else "both-legs")
    if load.name in visit.keep_plugged:
        return message("plug-stays-in")
    return None


def counter_for(load: PlanLoad, outcome: Outcome, visit: Visit, hours: float) -> Candidate | None:
    """An energy run of a load over a number of hours; None if no meter can read it."""
    if load.use.by_moments or _hands_off(load, visit):
        return None
    socket = next(Socket.each_of(load, outcome, visit), None)
    return None if socket is None else socket.counter(hours)
