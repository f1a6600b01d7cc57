"""The watch of a trial document at an hour, as pages show it."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

from needle.message import Message
from needle.plan.documents.parse import parse_plan
from needle.trial.prediction import Range
from needle.trial.trial import MOST_H, parse_trial
from needle.watch.card import Card, card_of
from needle.watch.doings import Doing, doings
from needle.watch.watch import MaySwitchOn, Watch, WatchHelp

#: Hours to the next look at the charge.
LOOK_H = 2.0


@dataclass(frozen=True)
class LoadNow:
    """A load in an outage: whether it is on, and its W in the next hour."""

    name: str
    on: bool
    watts: Range
    must: bool
    safety_class: str


@dataclass(frozen=True)
class WatchSummary:
    """What stands at an hour of an outage.

    Attributes
    ----------
    hour, needed_h : float
        Now, and until when it is needed, hours since its start.
    stop_h, remaining_h, charge : Range
    most_h : float
        Hour up to which it was followed; a stop then means that, or later.
    chance, chance_musts : float
        Chance that everything that is on, and that the musts alone, reach the hour needed.
    loads : tuple of LoadNow
    doings : tuple of Doing
    helps : tuple of WatchHelp
    notices : tuple of Message
    look_h : float
        Hour of the next look at the charge.
    go_off, come_on : tuple of str
        Loads that would run until then and should go off now, so that the musts are safe; and those
        that are off and may come on.
    wanted : float
        Chance that the plan wants.
    cannot_run : dict of str to str
        Loads that are on and that the supply drops in most draws, with the reason.
    """

    hour: float
    needed_h: float
    stop_h: Range
    remaining_h: Range
    charge: Range
    chance: float
    chance_musts: float
    loads: tuple[LoadNow, ...]
    doings: tuple[Doing, ...]
    helps: tuple[WatchHelp, ...]
    notices: tuple[Message, ...]
    look_h: float = 0.0
    go_off: tuple[str, ...] = ()
    come_on: tuple[str, ...] = ()
    wanted: float = 0.9
    most_h: float = MOST_H
    cannot_run: Mapping[str, str] = field(default_factory=dict)

    @property
    def has_musts(self) -> bool:
        """Whether anything that is on must run."""
        return any(load.must and load.on for load in self.loads)


def summarise(document: dict[str, Any], hour: float, needed_h: float) -> WatchSummary:
    """Return what stands at an hour of a trial document.

    Raises
    ------
    DocumentError
    """
    watch = watched(document, hour, needed_h)
    plan = watch.plan
    look_h = watch.hour + LOOK_H
    off, on = watch.switches(look_h)
    stay = watch.announced(off)
    return WatchSummary(
        hour=watch.hour,
        needed_h=needed_h,
        stop_h=watch.forecast.stop_h,
        remaining_h=watch.forecast.remaining_h,
        charge=watch.forecast.charge,
        chance=watch.chance,
        chance_musts=watch.chance_musts,
        loads=tuple(
            LoadNow(
                load.name,
                load.name in watch.on,
                watch.watts(load.name),
                load.stays_on,
                load.safety_class,
            )
            for load in plan.loads
        ),
        doings=tuple(doings(plan, watch.hour, needed_h, stay, look_h)),
        helps=tuple(watch.helps()),
        cannot_run=watch.cannot_run,
        notices=tuple(watch.notices),
        look_h=look_h,
        go_off=tuple(off),
        come_on=tuple(on),
        wanted=plan.wanted_chance,
        most_h=watch.forecast.most_h,
    )


def may_switch_on(document: dict[str, Any], hour: float, needed_h: float, name: str) -> MaySwitchOn:
    """Return whether a load of a trial document may be switched on at an hour.

    Raises
    ------
    DocumentError
    """
    return watched(document, hour, needed_h).may(name)


def card_of_document(document: dict[str, Any]) -> Card:
    """Return the card of a plan document.

    Raises
    ------
    DocumentError
    """
    return card_of(parse_plan(document))


def watched(document: dict[str, Any], hour: float, needed_h: float) -> Watch:
    """Return the watch of a trial document at an hour.

    Raises
    ------
    DocumentError
    """
    return _watch(json.dumps(document, sort_keys=True), hour, needed_h)


@lru_cache(maxsize=8)
def _watch(text: str, hour: float, needed_h: float) -> Watch:
    """The watch of a document at an hour; whoever asks twice does not wait twice."""
    return Watch(parse_trial(json.loads(text)), hour, needed_h)
