"""Outages of unknown length in simulated homes: who keeps the musts alive, and what else is served.

``python -m tools.evenings [HOMES] [FIRST_SEED]`` prints, for each way to go through an evening, the
share of evenings in which every must had power until the end, and the share of their hours that the
other loads had; and of the chances that the watch said at its looks, how many came true. The homes
and their physics are those of :mod:`tools.homes`.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from multiprocessing import Pool
from typing import Any

import numpy as np

from needle.plan.documents.parse import parse_plan
from needle.supply.display import charge_shown
from needle.trial.trial import parse_trial
from needle.watch.card import Card, card_of
from needle.watch.summary import LOOK_H
from needle.watch.watch import Watch
from tools.homes import BEFORE_MIN, Home, home
from tools.scores import reliability

#: Longest outage that is reckoned with, h; the shortest.
MOST_H, LEAST_H = 48.0, 8.0
#: Draws of a card.
CARD_DRAWS = 200
PRIORITIES = ("must", "should", "nice", "nice", "nice")
#: Which loads stay on at a look: by the hour, the charge shown, and those that are on.
Rule = Callable[["Evening", float, float, list[int]], list[int]]


@dataclass
class Evening:
    """A home in an outage, with its plan document, its display, and how long it really lasts."""

    made: Home
    document: dict[str, Any]
    lasts_h: float
    knee: float
    bow: float
    card: Card | None = None
    seen: list[dict[str, Any]] | None = None
    said: tuple[float, float] | None = None
    came_true: list[tuple[float, bool]] = field(default_factory=list)

    @cached_property
    def musts(self) -> list[int]:
        """Numbers of what must run, and of contents that must be kept."""
        loads = parse_plan(self.document).loads
        return [n for n, load in enumerate(loads) if load.must_run]

    def names(self, on: Sequence[int]) -> list[str]:
        return [self.document["loads"][n]["name"] for n in on]


def evening(seed: int) -> Evening | None:
    """An outage in a home; None where it has too little to decide."""
    made, rng = home(seed), np.random.default_rng([seed, 77])
    loads = [{**load, "priority": PRIORITIES[n]} for n, load in enumerate(made.document["loads"])]
    document = {**made.document, "loads": loads, "hours": MOST_H + 6, "needed_hours": MOST_H}
    lasts_h = float(np.exp(rng.uniform(np.log(LEAST_H), np.log(MOST_H))))
    knee, bow = float(rng.uniform(0.1, 0.25)), float(rng.normal(0, 0.02))
    this = Evening(made, document, lasts_h, knee, bow)
    # Where nothing may go off there is nothing to decide.
    return this if len(this.musts) < len(made.parts) - 1 else None


def go_through(this: Evening, rule: Rule) -> tuple[bool, float]:
    """Whether the musts lasted, and the share of their hours that the others had, by a rule."""
    made, rng = this.made, np.random.default_rng(int(this.lasts_h * 1000))
    start = int(made.document["start"][11:13]) * 60 + int(made.document["start"][14:16])
    charge, minute, end = 1.0, 0, round(60 * this.lasts_h)
    on = list(range(len(made.parts)))
    others, had = len(on) - len(this.musts), 0.0
    this.seen = []
    while minute < end:
        shown = float(charge_shown(charge, this.knee, this.bow)) + 0.012 * rng.standard_normal()
        before = on
        on = rule(this, minute / 60, float(np.clip(shown, 0.0, 1.0)), on)
        if this.said is not None:
            for said, running in zip(this.said, (before, this.musts), strict=True):
                this.came_true.append((said, _reaches(made, start, minute, charge, running)))
            this.said = None
        last = min(end, minute + round(60 * LOOK_H))
        at = slice(BEFORE_MIN + start + minute, BEFORE_MIN + start + last)
        drawn = np.sum([made.parts[n].watts[at] for n in on], axis=0)
        course = charge - np.cumsum(made.bank.falls(made.idle_w + drawn / made.efficiency))
        dead = np.flatnonzero(course <= made.floor)
        lived = int(dead[0]) if len(dead) else last - minute
        had += lived * (len(on) - len(this.musts))
        if len(dead):
            return False, had / (others * end)
        charge, minute = float(course[-1]), last
    return True, had / (others * end)


def _reaches(made: Home, start: int, minute: int, charge: float, on: Sequence[int]) -> bool:
    """Whether what is on would truly run to the hour reckoned with, if nothing changed."""
    at = slice(BEFORE_MIN + start + minute, BEFORE_MIN + start + round(60 * MOST_H))
    drawn = np.sum([made.parts[n].watts[at] for n in on], axis=0)
    falls = made.bank.falls(made.idle_w + drawn / made.efficiency)
    return bool(charge - falls.sum() > made.floor)


def all_on(this: Evening, hour: float, shown: float, on: list[int]) -> list[int]:
    return on


def musts_only(this: Evening, hour: float, shown: float, on: list[int]) -> list[int]:
    return this.musts


def biggest_off_at_half(this: Evening, hour: float, shown: float, on: list[int]) -> list[int]:
    """Everything until half is left, then without the largest of what need not run."""
    if shown > 0.5:
        return on
    others = [n for n in range(len(this.made.parts)) if n not in this.musts]
    largest = max(others, key=lambda n: float(this.made.parts[n].watts[:BEFORE_MIN].mean()))
    return [n for n in on if n != largest]


def by_the_card(this: Evening, hour: float, shown: float, on: list[int]) -> list[int]:
    """What the card allows at its last look before this hour; it may come on again."""
    if this.card is None:
        this.card = card_of(parse_plan(this.document), CARD_DRAWS)
    row = [row for row in this.card.rows if row.hour <= hour + 1e-6][-1]
    every = range(len(this.made.parts))
    if row.all_from is not None and shown >= row.all_from:
        return list(every)
    if row.shoulds_from is not None and shown >= row.shoulds_from:
        nice = this.names(every), this.card.nice
        return [n for n in every if nice[0][n] not in nice[1]]
    return this.musts


def by_the_watch(this: Evening, hour: float, shown: float, on: list[int]) -> list[int]:
    """What the watch says may stay on until the next look; what is off comes on if it may."""
    assert this.seen is not None
    every = list(range(len(this.made.parts)))
    now = {"h": round(hour, 3), "percent": round(100 * shown)}
    if hour > 0:
        this.seen.append(now)
    watch = Watch(parse_trial({"plan": this.document, "check_ins": this.seen}), hour, MOST_H)
    this.said = watch.chance, watch.chance_musts
    off, comes = watch.switches(hour + LOOK_H)
    names = [name for name in (*watch.on, *comes) if name not in off]
    kept = [n for n, name in enumerate(this.names(every)) if name in names]
    if kept != on:
        this.seen.append({"h": round(hour + 1e-3, 4), "on": this.names(kept)})
    return kept


RULES: dict[str, Rule] = {
    "musts only from the start": musts_only,
    "everything until it stops": all_on,
    "the biggest off at half": biggest_off_at_half,
    "by the card": by_the_card,
    "by the watch": by_the_watch,
}


def judge(seed: int) -> tuple[dict[str, tuple[bool, float]], list[tuple[float, bool]]]:
    """How each rule went through the evening of a seed, and the chances that the watch said.

    Both empty where there is none.
    """
    this = evening(seed)
    if this is None:
        return {}, []
    return {name: go_through(this, rule) for name, rule in RULES.items()}, this.came_true


def table(count: int, first: int) -> None:
    """Print how each rule went through a number of evenings."""
    found: list[dict[str, tuple[bool, float]]] = []
    chances: list[tuple[float, bool]] = []
    with Pool(os.cpu_count() or 1) as pool:
        for each, said in pool.imap(judge, range(first, first + 4 * count)):
            found += [each] if each else []
            chances += said
            if len(found) == count:
                break
    print(f"{len(found)} evenings of {LEAST_H:g} to {MOST_H:g} h")
    for name in RULES:
        kept = np.mean([each[name][0] for each in found])
        served = np.mean([each[name][1] for each in found])
        print(f"  {name:28s} musts kept {100 * kept:5.1f} %   others served {100 * served:5.1f} %")
    for share, came, number in reliability(chances):
        print(f"  chance said {share:.2f}   came true {came:.2f}   looks {number}")


if __name__ == "__main__":
    given = [int(text) for text in sys.argv[1:]]
    table(*(given + [40, 9000][len(given) :])[:2])
