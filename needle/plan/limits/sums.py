"""Limits of a supply, and what the loads on it ask for together in a block of minutes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from types import EllipsisType

import numpy as np

from needle.plan.draws.patterns import Pattern
from needle.plan.load import AC
from needle.plan.plan import Plan


@dataclass
class Limit:
    """A limit in W or VA on the sum of some patterns, with an overload curve above it.

    ``above_for`` has, for each step of the curve, the minutes that each draw has been above it.
    """

    most: float
    members: list[int]
    unit: str = "W"
    why: str = "overload"
    curve: tuple[tuple[float, float], ...] = ()
    above_for: list[np.ndarray] = field(default_factory=list)

    def steps(self) -> list[tuple[float, int]]:
        """Sums in W or VA, each with the whole minutes for which it is supported."""
        floors = [1.0, *(ratio for ratio, _ in self.curve)]
        carried = [*(int(seconds // 60) for _, seconds in self.curve), 0]
        return [
            (self.most * floor * (1 + 1e-6), minutes)
            for floor, minutes in zip(floors, carried, strict=True)
        ]

    def runs_out(self, total: np.ndarray, rows: np.ndarray) -> np.ndarray:
        """Minutes in which the overload time of some draws runs out, booleans like ``total``.

        Between two points of the curve the shorter time applies; the resolution is a whole minute.
        """
        steps = self.steps()
        tripped: np.ndarray = total > min(watts for watts, carried in steps if not carried)
        # Only draws that are above the lowest step have times to count.
        counted = np.flatnonzero((total > steps[0][0]).any(axis=1)) if len(steps) > 1 else rows[:0]
        if counted.size:
            theirs = total[counted]
            for (watts, carried), kept in zip(steps, self.above_for, strict=True):
                if carried:
                    lengths = _run_lengths(theirs > watts, kept[rows[counted]])
                    tripped[counted] |= lengths > carried
        return tripped

    def remember(self, total: np.ndarray | None, draws: int) -> None:
        """Carry the minutes that each draw has been above each step over to the next block.

        ``total`` is None if it could not be exceeded in this block.
        """
        if not self.curve:
            return
        if total is None:
            self.above_for = [np.zeros(draws, dtype=int) for _ in self.above_for]
            return
        for number, (watts, carried) in enumerate(self.steps()):
            if carried:
                self.above_for[number] = _run_lengths(total > watts, self.above_for[number])[:, -1]


def _run_lengths(above: np.ndarray, carried: np.ndarray) -> np.ndarray:
    """Consecutive minutes that each draw has been above, continued from the previous block."""
    sums = np.cumsum(above, axis=1, dtype=int)
    resets = np.maximum.accumulate(np.where(above, 0, sums), axis=1)
    unbroken = np.logical_and.accumulate(above, axis=1)
    return np.where(above, sums - resets + unbroken * carried[:, None], 0)


def _on_route(patterns: Sequence[Pattern], route: str) -> list[int]:
    """Indices of the patterns on a route."""
    return [n for n, pattern in enumerate(patterns) if pattern.load.route == route]


def limits_of(plan: Plan, patterns: Sequence[Pattern]) -> list[Limit]:
    """Return the limits of a plan's supply that its loads could reach at all."""
    supply = plan.supply
    limits = []
    if supply.inverter is not None:
        mine = _on_route(patterns, AC)
        inverter = supply.inverter
        limits.append(Limit(inverter.continuous_w, mine, curve=inverter.overload))
        if any(patterns[n].nonactive is not None for n in mine):
            limits.append(Limit(inverter.continuous_va, mine, "VA", curve=inverter.overload))
    for output in supply.outputs:
        limits.append(Limit(output.max_w, _on_route(patterns, output.name), why="output"))
    limits.append(Limit(supply.total_max_w, list(range(len(patterns)))))
    return [limit for limit in limits if limit.members and np.isfinite(limit.most)]


@dataclass(frozen=True)
class Drops:
    """The limit that each of some draws exceeds, and by what, (draws,) each."""

    why: np.ndarray
    unit: np.ndarray
    asked: np.ndarray
    most: np.ndarray

    @classmethod
    def none(cls, draws: int) -> Drops:
        why, unit = np.full(draws, "", dtype=object), np.full(draws, "", dtype=object)
        return cls(why, unit, np.zeros(draws), np.zeros(draws))

    def put(
        self, rows: np.ndarray, why: str, unit: str, asked: np.ndarray, most: np.ndarray | float
    ) -> None:
        self.why[rows], self.unit[rows] = why, unit
        self.asked[rows], self.most[rows] = asked, most

    @classmethod
    def joined(cls, several: Sequence[Drops]) -> Drops:
        fields = ("why", "unit", "asked", "most")
        return cls(
            *(np.concatenate([getattr(drops, name) for drops in several]) for name in fields)
        )

    def of(self, rows: np.ndarray) -> Drops:
        return Drops(self.why[rows], self.unit[rows], self.asked[rows], self.most[rows])


@dataclass
class Sums:
    """What some patterns ask for together, (draws, minutes) each.

    Attributes
    ----------
    members : tuple of int
        Numbers of the patterns.
    watts : ndarray
        W of all of them.
    known, nonactive : ndarray
        W and non-active VA of those whose power factor is known.
    va : ndarray
        VA of all; like the two before it as empty as that is if nobody asks for it.
    """

    members: tuple[int, ...]
    watts: np.ndarray
    known: np.ndarray
    nonactive: np.ndarray
    va: np.ndarray

    def of(self, limit: Limit) -> np.ndarray:
        """The sum in a limit's unit."""
        return self.watts if limit.unit == "W" else self.va

    def add_up(self, cells: tuple[np.ndarray, np.ndarray] | EllipsisType) -> None:
        """Work out the VA of some cells anew."""
        known = self.known[cells]
        self.va[cells] = np.hypot(known, self.nonactive[cells]) + (self.watts[cells] - known)

    def take_out(
        self,
        watts: np.ndarray,
        known: np.ndarray,
        nonactive: np.ndarray,
        cells: tuple[np.ndarray, np.ndarray],
    ) -> None:
        """Take W and, of what is ``known``, non-active VA for each W out of some cells."""
        self.watts[cells] -= watts
        if self.va.size:
            watts = watts * known
            self.known[cells] -= watts
            self.nonactive[cells] -= watts * nonactive
            self.add_up(cells)
