"""What comes next in an outage, by the clock: loads by their hours, chargers, looks."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass

import numpy as np

from needle.message import Message, message
from needle.moments import occurrences
from needle.plan.load import PlanLoad
from needle.plan.plan import Plan, in_use
from needle.plan.sources.mains import Mains
from needle.plan.sources.registry import ChargeWindow

#: Hours ahead in which doings are listed, and how late one is still named.
AHEAD_H, LATE_H = 14.0, 1.5


@dataclass(frozen=True)
class Doing:
    """Something to do at an hour of the trial.

    Attributes
    ----------
    hour : float
    said : Message
    caution : Message or None
    """

    hour: float
    said: Message
    caution: Message | None = None

    @property
    def name(self) -> str:
        """The load or the source that it is about; empty for a look."""
        figures = dict(self.said.figures)
        return str(figures.get("load") or figures.get("source") or "")

    def late(self, hour: float) -> bool:
        """Whether it lies before an hour by more than a few minutes."""
        return self.hour < hour - 0.1


def doings(
    plan: Plan, hour: float, until_h: float, on: Collection[str], look_h: float
) -> list[Doing]:
    """Return what comes next, in order of time; what is a little late comes first.

    Parameters
    ----------
    plan : Plan
    hour, until_h, look_h : float
        Now, until when it is needed, and the next look at the charge, hours since its start.
    on : collection of str
        Loads that are on.
    """
    first, last = max(0.0, hour - LATE_H), min(hour + AHEAD_H, max(until_h, hour + 1))
    found = [*_of_loads(plan, first, last, on), *_of_chargers(plan, first, last)]
    found.append(Doing(look_h, message("look-at-charge")))
    return sorted(found, key=lambda doing: doing.hour)


def _of_loads(plan: Plan, first: float, last: float, on: Collection[str]) -> Iterator[Doing]:
    """Loads that are switched by their hours, and tasks that begin."""
    for load in plan.loads:
        if load.name not in on:
            continue
        if load.use.by_moments and load.use.uses_per_day is None:
            minutes = round(last * 60)
            for minute in occurrences(load.use.moments, plan.start, minutes):
                if first <= minute / 60:
                    yield Doing(minute / 60, message("begin-task", load=load.name))
        elif load.use.windows:
            yield from _switched(plan, load, first, last)


def _switched(plan: Plan, load: PlanLoad, first: float, last: float) -> Iterator[Doing]:
    used = in_use(load, plan.start, round(last * 60)).astype(int)
    for minute in np.flatnonzero(np.diff(used)) + 1:
        # What a life hangs on is never told to go off.
        if first <= minute / 60 and (used[minute] or load.safety_class != "life"):
            code = "switch-on" if used[minute] else "switch-off"
            yield Doing(float(minute) / 60, message(code, load=load.name))


def _of_chargers(plan: Plan, first: float, last: float) -> Iterator[Doing]:
    for source in plan.sources:
        if isinstance(source, Mains):
            yield from _of_mains(plan, source, first, last)
        if not isinstance(source, ChargeWindow):
            continue
        # Far enough to see how long it runs.
        minutes = round((last + 24) * 60)
        runs = (source.power_w(plan.start, minutes) > 0).astype(int)
        for begin in np.flatnonzero(np.diff(runs, prepend=0) > 0):
            length = int((runs[begin:] == 0).argmax()) or minutes - int(begin)
            if first <= begin / 60 < last:
                litres = source.watts * length / 60 / 1000 * source.litres_per_kwh
                caution = message("burns-fuel", litres=litres) if litres > 0 else None
                said = message("run-source", source=source.name, hours=length / 60)
                yield Doing(float(begin) / 60, said, caution)


def _of_mains(plan: Plan, source: Mains, first: float, last: float) -> Iterator[Doing]:
    """When mains should come and go."""
    on = source.on(plan.start, round(last * 60)).astype(int)
    for minute in np.flatnonzero(np.diff(on)) + 1:
        if first <= minute / 60:
            code = "mains-come" if on[minute] else "mains-go"
            yield Doing(float(minute) / 60, message(code, source=source.name))
