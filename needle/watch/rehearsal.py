"""An outage rehearsed on a simulated household: what truly happens, with a surprise in it.

The truth is one draw of the plan, other than those that the watch follows, with the loads that are
on at each time; its display errs as displays do. Afterwards the same outage is gone through by
other rules, so that what was done can be judged.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from needle.plan.documents.parse import parse_plan
from needle.plan.energy.battery_side import other_wh
from needle.plan.plan import Plan
from needle.supply.display import charge_shown
from needle.watch.card import Card, card_of
from needle.watch.course import QUARTERS_PER_HOUR, course_of
from needle.watch.standing import Ahead, Standing

#: How many times as fast as the clock a rehearsal goes.
SPEED = 60
#: Draws of which one is the truth, and their seed.
_DRAWS, _SEED = 24, 4711
#: What may come as a surprise: little sun, a load that takes more than it should, a display that
#: sticks.
CLOUDS, RUNS_ON, STICKS = "clouds", "runs on", "sticks"
#: Share of the sun that clouds leave, and how many times its power a load takes that runs on.
_SUN_LEFT, _TIMES = 0.3, 2.5
#: Charge at which a display sticks, and for how long, h.
_STICKS_AT, _STICKS_H = 0.7, 4.0
#: Loads that are on from an hour on.
Switch = tuple[float, Collection[str]]


@dataclass(frozen=True)
class Judged:
    """How an outage went by some rule.

    Attributes
    ----------
    rule : str
        ``"done"``, ``"card"``, ``"everything"`` or ``"musts"``.
    lasts_h : float
        Hours until the battery was empty; the hours needed if it was not.
    kept : bool
        Whether all that must run had power until then.
    served : float
        Share of its hours that the rest had.
    """

    rule: str
    lasts_h: float
    kept: bool
    served: float


class Rehearsal:
    """One rehearsed outage: its truth, whatever is switched.

    Parameters
    ----------
    plan : Plan
    needed_h : float
    seed : int
        The same seed is the same outage.
    """

    def __init__(self, plan: Plan, needed_h: float, seed: int) -> None:
        self.course = course_of(plan, _DRAWS, _SEED)
        self.plan, self.needed_h, self.seed = self.course.plan, needed_h, seed
        self.names = [load.name for load in self.plan.loads]
        self.musts = [load.name for load in self.plan.loads if load.stays_on]
        rng = np.random.default_rng([seed, 60])
        self.surprise, self.load = self._surprise(rng)
        self.knee, self.bow = float(rng.uniform(0.12, 0.25)), float(rng.normal(0, 0.015))
        self._ahead = self._truth(int(rng.integers(_DRAWS)))

    def _surprise(self, rng: np.random.Generator) -> tuple[str, str]:
        """What comes as a surprise in this outage, and the load that it is about."""
        others = [load for load in self.plan.loads if not load.stays_on]
        possible = [STICKS]
        if others:
            possible.append(RUNS_ON)
        if float(self.course.fed_w.max(initial=0.0)) > 0:
            possible.append(CLOUDS)
        surprise = possible[int(rng.integers(len(possible)))]
        largest = max(others, key=lambda load: load.mean_w, default=None)
        return surprise, largest.name if surprise == RUNS_ON and largest is not None else ""

    def _truth(self, row: int) -> Ahead:
        """The quarter hours of one draw, from the start on."""
        battery, course = self.plan.supply.battery, self.course
        one = np.ones(1)
        standing = Standing(
            course=course,
            hour=0.0,
            rows=np.array([row]),
            charge=battery.start_charge * one,
            floor=battery.floor * one,
            held_wh=course.battery.capacity_wh[[row]],
            level=one,
            wander=np.zeros(1),
            sun=one * (_SUN_LEFT if self.surprise == CLOUDS else 1.0),
            other_wh=np.full(1, other_wh(self.plan)),
        )
        return standing.ahead(self.needed_h)

    def _drawn_w(self, on: Collection[str]) -> np.ndarray:
        drawn = self._ahead.drawn_w(on)
        if self.load in on:
            drawn = drawn + (_TIMES - 1) * (drawn - self._ahead.drawn_w(set(on) - {self.load}))
        return drawn

    def charge(self, switches: Sequence[Switch]) -> np.ndarray:
        """True charge after each quarter hour, share, (quarters,), with what was switched."""
        drawn = self._drawn_w(self.names)
        for hour, on in switches:
            first = round(hour * QUARTERS_PER_HOUR)
            drawn[:, first:] = self._drawn_w(on)[:, first:]
        return np.asarray(self._ahead.charge(drawn)[0])

    def empty_h(self, switches: Sequence[Switch]) -> float:
        """Hours until the battery is empty; infinite if it lasts for the hours needed."""
        used_up = self.charge(switches) <= self.plan.supply.battery.floor
        return (int(used_up.argmax()) + 1) / QUARTERS_PER_HOUR if used_up.any() else np.inf

    def shown(self, switches: Sequence[Switch], hour: float) -> float:
        """Charge that the display shows at an hour, share, to the percent."""
        quarters = np.arange(len(self._ahead.columns) + 1)
        true = np.append(self.plan.supply.battery.start_charge, self.charge(switches))
        seen = charge_shown(true, self.knee, self.bow)
        if self.surprise == STICKS and (seen <= _STICKS_AT).any():
            stuck = int((seen <= _STICKS_AT).argmax())
            until = stuck + round(_STICKS_H * QUARTERS_PER_HOUR)
            seen[stuck:until] = seen[stuck]
        now = float(np.interp(hour * QUARTERS_PER_HOUR, quarters, seen))
        return round(float(np.clip(now, 0.0, 1.0)), 2)

    def judge(self, switches: Sequence[Switch]) -> list[Judged]:
        """How it went, and how it would have gone by the card, with everything, and musts only."""
        rules = {
            "done": switches,
            "card": self._by_card(),
            "everything": [(0.0, self.names)],
            "musts": [(0.0, self.musts)],
        }
        return [self._judged(rule, made) for rule, made in rules.items()]

    def _judged(self, rule: str, switches: Sequence[Switch]) -> Judged:
        lasts_h = min(self.needed_h, self.empty_h(switches))
        hours = np.arange(round(self.needed_h * QUARTERS_PER_HOUR)) / QUARTERS_PER_HOUR
        others = set(self.names) - set(self.musts)
        had = np.array([len(others & set(_on_at(switches, self.names, hour))) for hour in hours])
        missed = [
            hour
            for hour in hours[hours < lasts_h]
            if set(self.musts) - set(_on_at(switches, self.names, hour))
        ]
        served = float((had * (hours < lasts_h)).sum()) / max(1, len(others) * len(hours))
        return Judged(rule, lasts_h, lasts_h >= self.needed_h - 1e-9 and not missed, served)

    def _by_card(self) -> list[Switch]:
        """What a person does who follows the card at its looks."""
        card = _card(self.plan, self.needed_h)
        switches: list[Switch] = []
        for row in card.rows:
            shown = self.shown(switches, row.hour)
            on: list[str] = [*card.musts]
            if row.shoulds_from is not None and shown >= row.shoulds_from:
                on += card.shoulds
            if row.all_from is not None and shown >= row.all_from:
                on += card.nice
            switches.append((row.hour, on))
        return switches


@lru_cache(maxsize=4)
def rehearsal_of(text: str, needed_h: float, seed: int) -> Rehearsal:
    """The rehearsal of a plan document, as text; recent ones are cached.

    Raises
    ------
    DocumentError
    """
    return Rehearsal(parse_plan(json.loads(text)), needed_h, seed)


def judge_document(
    text: str, needed_h: float, seed: int, switches: Sequence[Switch]
) -> tuple[list[Judged], str, str]:
    """How a rehearsal of a plan document went, its surprise, and the load that it was about."""
    made = rehearsal_of(text, needed_h, seed)
    return made.judge(switches), made.surprise, made.load


def _on_at(switches: Sequence[Switch], every: Collection[str], hour: float) -> Collection[str]:
    """Loads that are on at an hour."""
    on = every
    for begins, names in switches:
        if begins <= hour + 1e-9:
            on = names
    return on


@lru_cache(maxsize=2)
def _card(plan: Plan, needed_h: float) -> Card:
    return card_of(plan)
