"""Scheduling of measurements on meters: an exact solution over slots of time.

Meters of a class are interchangeable, so a class is a capacity; consecutive measurements can then
always be assigned to its meters (interval colouring in order of their end). One person has a
limited time in each slot. Solved as a mixed-integer programme by HiGHS (Q. Huangfu and J. A. J.
Hall, "Parallelizing the dual revised simplex method", Math. Prog. Comp. 10, 2018), which reports
the possible distance to the optimum.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from needle.round.candidate import Candidate
from needle.round.visit import Visit

if TYPE_CHECKING:
    from scipy.optimize import LinearConstraint

#: Longest that the choice is searched, s, and how near to the best it may stop.
_SEARCH_S, _GAP = 1.2, 0.01
#: Discount of a later end, a slot: of two equal rounds the one that ends first.
_SOONER = 1e-5


@dataclass(frozen=True)
class Placed:
    """A scheduled measurement: its candidate, and minutes of its meter's use."""

    candidate: Candidate
    first_min: float
    last_min: float


@dataclass(frozen=True)
class Choice:
    """A combination in order of start, and its possible distance to the best one (0…1)."""

    placed: list[Placed]
    gap: float


def choose(visit: Visit, offered: Sequence[Candidate], worths: Sequence[float]) -> Choice:
    """Return the combination of measurements with the highest total value that fits.

    Parameters
    ----------
    offered : sequence of Candidate
    worths : sequence of float
        Value of each, same length.
    """
    from scipy.optimize import Bounds, milp

    step, slots = visit.slot_min, visit.slots
    picks = _picks(offered, worths, step, slots)
    if not picks:
        return Choice([], 0.0)
    rows = _Rows(len(picks))
    _once_each(rows, offered, picks)
    _meters(rows, visit, offered, picks, step, slots)
    _hands(rows, offered, picks, step, slots)
    gains = np.array(
        [
            worths[number] * (1 - _SOONER * (slot + _length(offered[number], step)))
            for number, slot in picks
        ]
    )
    solved = milp(
        -gains,
        integrality=np.ones(len(picks)),
        bounds=Bounds(0, 1),
        constraints=rows.constraint(),
        options={"time_limit": _SEARCH_S, "mip_rel_gap": _GAP},
    )
    by_hand = _first_fit(visit, offered, worths, step, slots)
    chosen = by_hand
    if solved.x is not None:
        solved_picks = [pick for pick, taken in zip(picks, solved.x, strict=True) if taken > 0.5]
        chosen = max(solved_picks, by_hand, key=lambda some: _value(some, worths))
    placed = [_placed(offered[number], slot, step) for number, slot in chosen]
    placed.sort(key=lambda measurement: (measurement.first_min, measurement.last_min))
    value, bound = _value(chosen, worths), getattr(solved, "mip_dual_bound", None)
    best = at_most(offered, worths)
    if bound is not None:
        best = min(best, -float(bound))
    return Choice(placed, max(0.0, 1 - value / best) if best > 0 else 0.0)


def _picks(
    offered: Sequence[Candidate], worths: Sequence[float], step: int, slots: int
) -> list[tuple[int, int]]:
    """Every candidate of any value with every slot in which it may begin."""
    return [
        (number, slot)
        for number, candidate in enumerate(offered)
        if worths[number] > 0
        for slot in range(slots - _length(candidate, step) + 1)
    ]


def _placed(candidate: Candidate, slot: int, step: int) -> Placed:
    return Placed(candidate, float(slot * step), float((slot + _length(candidate, step)) * step))


def at_most(offered: Sequence[Candidate], worths: Sequence[float]) -> float:
    """Upper bound of any combination's value: the best of each tag, without limit of time."""
    best: dict[str, float] = {}
    for candidate, worth in zip(offered, worths, strict=True):
        best[candidate.excludes] = max(worth, best.get(candidate.excludes, 0.0))
    return sum(best.values())


def _value(chosen: Sequence[tuple[int, int]], worths: Sequence[float]) -> float:
    """Value of a combination, as the programme counts it."""
    return sum(worths[number] for number, _ in chosen)


def _first_fit(
    visit: Visit, offered: Sequence[Candidate], worths: Sequence[float], step: int, slots: int
) -> list[tuple[int, int]]:
    """Greedy solution: most value per time first, each where it first fits."""
    free = {
        key: _free(visit, key, step, slots)
        for key in dict.fromkeys(meter.instrument.key for meter in visit.meters)
    }
    hands = np.full(slots, float(step))
    told: set[str] = set()
    chosen = []
    order = sorted(
        (number for number, worth in enumerate(worths) if worth > 0),
        key=lambda number: -worths[number] / _length(offered[number], step),
    )
    for number in order:
        candidate = offered[number]
        length = _length(candidate, step)
        keys = [key for key in (candidate.meter_key, candidate.also) if key]
        if candidate.excludes in told:
            continue
        for slot in range(slots - length + 1):
            mine = np.zeros(slots)
            for at, minutes in _hands_at(candidate, slot, step, slots):
                mine[at] += minutes
            meters_free = all(free[key][slot : slot + length].min() >= 1 for key in keys)
            if meters_free and (mine <= hands + 1e-9).all():
                hands -= mine
                for key in keys:
                    free[key][slot : slot + length] -= 1
                told.add(candidate.excludes)
                chosen.append((number, slot))
                break
    return chosen


def _free(visit: Visit, key: str, step: int, slots: int) -> np.ndarray:
    """Number of free meters of a class in each slot."""
    names = {meter.name: meter.instrument.key for meter in visit.meters}
    have = sum(other == key for other in names.values())
    until = [end for name, end in visit.busy if names.get(name) == key and end > visit.begins]
    return np.array(
        [
            max(0, have - sum(end > visit.after(slot * step) for end in until))
            for slot in range(slots)
        ]
    )


def _hands_at(candidate: Candidate, slot: int, step: int, slots: int) -> list[tuple[int, float]]:
    """The person's minutes in each slot, if a candidate begins in this one."""
    taken = []
    left, at = candidate.before_min, slot
    while left > 0 and at < slots:
        taken.append((at, min(left, step)))
        left, at = left - step, at + 1
    if candidate.after_min:
        taken.append((slot + _length(candidate, step) - 1, min(candidate.after_min, step)))
    return taken


def _length(candidate: Candidate, step: int) -> int:
    """Number of slots for which a meter is in use."""
    return max(1, math.ceil((candidate.meter_min - 1e-6) / step))


class _Rows:
    """Rows of a sparse system of upper-bound constraints."""

    def __init__(self, columns: int) -> None:
        self.columns = columns
        self.places: list[tuple[int, int]] = []
        self.values: list[float] = []
        self.most: list[float] = []

    def add(self, entries: Sequence[tuple[int, float]], most: float) -> None:
        """Add a row: columns with their coefficients, and the upper bound of their sum."""
        row = len(self.most)
        self.places += [(row, column) for column, _ in entries]
        self.values += [value for _, value in entries]
        self.most.append(most)

    def constraint(self) -> LinearConstraint:
        from scipy.optimize import LinearConstraint
        from scipy.sparse import coo_matrix

        rows, columns = zip(*self.places, strict=True)
        shape = (len(self.most), self.columns)
        matrix = coo_matrix((self.values, (rows, columns)), shape=shape).tocsr()
        return LinearConstraint(matrix, -np.inf, np.array(self.most))


def _once_each(rows: _Rows, offered: Sequence[Candidate], picks: Sequence[tuple[int, int]]) -> None:
    """At most one of the candidates with the same tag."""
    tags: dict[str, list[tuple[int, float]]] = {}
    for column, (number, _) in enumerate(picks):
        tags.setdefault(offered[number].excludes, []).append((column, 1.0))
    for entries in tags.values():
        rows.add(entries, 1.0)


def _meters(
    rows: _Rows,
    visit: Visit,
    offered: Sequence[Candidate],
    picks: Sequence[tuple[int, int]],
    step: int,
    slots: int,
) -> None:
    """At most as many uses of a meter class at a time as there are meters of it."""
    for key in dict.fromkeys(meter.instrument.key for meter in visit.meters):
        taken: list[list[tuple[int, float]]] = [[] for _ in range(slots)]
        for column, (number, slot) in enumerate(picks):
            candidate = offered[number]
            if key in (candidate.meter_key, candidate.also):
                for at in range(slot, slot + _length(candidate, step)):
                    taken[at].append((column, 1.0))
        for entries, free in zip(taken, _free(visit, key, step, slots), strict=True):
            if entries:
                rows.add(entries, float(free))


def _hands(
    rows: _Rows,
    offered: Sequence[Candidate],
    picks: Sequence[tuple[int, int]],
    step: int,
    slots: int,
) -> None:
    """Limit of the person's minutes in each slot."""
    minutes: list[list[tuple[int, float]]] = [[] for _ in range(slots)]
    for column, (number, slot) in enumerate(picks):
        for at, mine in _hands_at(offered[number], slot, step, slots):
            minutes[at].append((column, mine))
    for entries in minutes:
        if entries:
            rows.add(entries, float(step))
