"""Patterns of a plan, and those in use in a block of minutes, as one array each.

With them a different load is dropped in each draw in one pass.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from needle.plan.draws.patterns import Pattern
from needle.plan.limits.sums import Limit, Sums

#: Cycle of a load that does not cycle: longer than any plan.
NO_CYCLE_MIN = 1e12


class Traits:
    """What trips depend on, of all patterns of a plan, by their numbers.

    Attributes
    ----------
    known : ndarray of bool, (patterns,)
        Whether the power factor is known.
    nonactive : ndarray, (patterns, draws)
        Non-active VA for each W; zero where the power factor is unknown.
    resting_w, cycle_min : ndarray, (patterns,)
    phase : ndarray, (patterns, draws)
        Of loads that cycle, as of :class:`needle.plan.draws.patterns.Pattern`.
    """

    def __init__(self, patterns: Sequence[Pattern], draws: int) -> None:
        self.patterns = patterns
        self.known = np.array([pattern.load.draw.power_factor_known for pattern in patterns], bool)
        self.resting_w = np.array([pattern.load.draw.resting_w for pattern in patterns], float)
        self.nonactive = np.zeros((len(patterns), draws), np.float32)
        self.cycle_min = np.full(len(patterns), NO_CYCLE_MIN)
        self.phase = np.zeros((len(patterns), draws), np.float32)
        for n, pattern in enumerate(patterns):
            if self.known[n] and pattern.nonactive is not None:
                self.nonactive[n] = pattern.nonactive
            if pattern.phase is not None:
                self.cycle_min[n], self.phase[n] = pattern.load.draw.cycle_min, pattern.phase


class Stack:
    """The patterns in use in a block of minutes, each at its place in all arrays.

    Parameters
    ----------
    traits : Traits
    first : int
        The block's first minute.
    powers : dict of int to ndarray, (draws, minutes)
        W of each pattern by its number.

    Attributes
    ----------
    places : ndarray, (patterns,)
        Where each pattern of the plan stands; -1 if it is not in use.
    watts : ndarray, (places, draws, minutes)
    uses, begins, ends : ndarray, (places, minutes)
        The use that each minute falls into, and that use's first minute and end.
    """

    def __init__(self, traits: Traits, first: int, powers: dict[int, np.ndarray]) -> None:
        self.traits, self.first, self.numbers = traits, first, np.array(list(powers))
        self.places = np.full(len(traits.patterns), -1)
        self.places[self.numbers] = np.arange(self.numbers.size)
        self.watts = np.stack(list(powers.values()))
        minutes = first + np.arange(self.watts.shape[2])
        patterns = [traits.patterns[n] for n in powers]
        self.uses = np.stack([np.maximum(p.use_at(minutes), 0) for p in patterns])
        self.begins, self.ends = (
            np.stack([p.uses[use, side] for p, use in zip(patterns, self.uses, strict=True)])
            for side in (0, 1)
        )

    def latest_on(self, members: Sequence[int], rows: np.ndarray, when: np.ndarray) -> np.ndarray:
        """Number of the pattern that switched on last by the end of a minute of each of some draws.

        Of several the largest; -1 if none of ``members`` is on.
        """
        places = self.places[members]
        places = places[places >= 0, None]
        if not places.size:
            return np.full(rows.size, -1)
        numbers = self.numbers[places]
        now = self.watts[places, rows, when]
        cycle_min, phase = self.traits.cycle_min[numbers], self.traits.phase[numbers, rows]
        # Whichever begins within the minute is on in it.
        cycles = np.ceil((self.first + when + 1) / cycle_min + phase - 1e-6) - 1
        since = np.maximum(self.begins[places, when], (cycles - phase) * cycle_min)
        since = np.where(now > 0, since, -np.inf)
        latest = since.max(axis=0)
        largest = np.where(since == latest, now, -np.inf).argmax(axis=0)
        return np.where(np.isfinite(latest), numbers[largest, 0], -1)


@dataclass
class Block:
    """A block of minutes whose trips are settled, with what is summed over its patterns.

    Attributes
    ----------
    traits : Traits
    first : int
        Its first minute.
    minutes : int
        Its length.
    powers : dict of int to ndarray, (draws, minutes)
        W of each pattern in use, by its number, reduced by what is dropped; its arrays are
        **replaced** once something is.
    asked : dict
        The same as limits see it, of a task its peak, before anything is dropped.
    limits : list of (Limit, Sums)
        Limits that could be exceeded in it; several may share their sums.
    beside : Sums or None
        Over all patterns on AC, without peaks; None if no start could trip.
    starters : list of int
        Patterns whose start could trip.
    edges : ndarray of bool, (starters, draws, minutes)
        Minutes in which they switch on.
    may_start : list of (ndarray, ndarray)
        Draws and minutes of each of them that ``edges`` may ever be true for, in order.
    """

    traits: Traits
    first: int
    minutes: int
    powers: dict[int, np.ndarray]
    asked: dict[int, np.ndarray] = field(default_factory=dict)
    limits: list[tuple[Limit, Sums]] = field(default_factory=list)
    beside: Sums | None = None
    starters: Sequence[int] = ()
    edges: np.ndarray = field(default_factory=lambda: np.zeros((0, 0, 0), bool))
    may_start: Sequence[tuple[np.ndarray, np.ndarray]] = ()

    @cached_property
    def stack(self) -> Stack:
        """The patterns in use; ``powers`` are views of it from now on."""
        stack = Stack(self.traits, self.first, self.powers)
        self.powers.update(zip(self.powers, stack.watts, strict=True))
        return stack

    @cached_property
    def _asked(self) -> np.ndarray:
        """What limits see of each pattern in use, W, (places, draws, minutes)."""
        return np.stack([self.asked[n] for n in self.powers])

    def to_blame(
        self, members: Sequence[int], most_w: np.ndarray, rows: np.ndarray, when: np.ndarray
    ) -> np.ndarray:
        """Number of the pattern that exceeds a limit in a minute of each of some draws.

        The largest of those that exceed it by themselves; else the one that switched on last.

        Parameters
        ----------
        members : sequence of int
            The patterns that the limit is for.
        most_w : ndarray, (patterns,)
            What it lets each of the plan's patterns have by itself, W.
        rows, when : ndarray
            The draws, and the minutes of the block.
        """
        numbers = self.stack.numbers
        asked_w = np.where(self.stack.watts[:, rows, when] > 0, self._asked[:, rows, when], 0.0)
        mine = _are_members(members, len(self.traits.patterns))[numbers]
        beyond = (asked_w > most_w[numbers, None]) & mine[:, None]
        latest = self.stack.latest_on(members, rows, when)
        largest = np.where(beyond, asked_w, 0.0).argmax(axis=0)
        return np.where(beyond.any(axis=0), numbers[largest], latest)

    def switch_off(
        self, numbers: np.ndarray, rows: np.ndarray, when: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]:
        """Switch one pattern off in each of some draws until the end of its use.

        Parameters
        ----------
        numbers, rows, when : ndarray
            The patterns, the draws and the minutes of the block.

        Returns
        -------
        uses, until : ndarray
            The uses that end, and the minutes at which they would have ended.
        """
        places = self.stack.places[numbers]
        until = self.stack.ends[places, when]
        which, minutes = _spans(when, np.minimum(until - self.first, self.minutes))
        cells = rows[which], minutes
        deep = places[which], *cells
        off = numbers[which]
        summed = {id(sums): sums for _, sums in self.limits}
        for sums in summed.values():
            self._take_out(sums, off, self._asked[deep], cells)
        if self.beside is not None and id(self.beside) not in summed:
            self._take_out(self.beside, off, self.stack.watts[deep], cells)
        self.stack.watts[deep] = 0.0
        self._move_edges(numbers, rows, off, cells, until - self.first)
        return self.stack.uses[places, when], until

    def _take_out(
        self, sums: Sums, off: np.ndarray, watts: np.ndarray, cells: tuple[np.ndarray, np.ndarray]
    ) -> None:
        """Take the W of patterns ``off`` out of what they are members of."""
        mine = _are_members(sums.members, len(self.traits.patterns))[off]
        if not mine.all():
            off, watts, cells = off[mine], watts[mine], (cells[0][mine], cells[1][mine])
        traits = self.traits
        sums.take_out(watts, traits.known[off], traits.nonactive[off, cells[0]], cells)

    def _move_edges(
        self,
        numbers: np.ndarray,
        rows: np.ndarray,
        off: np.ndarray,
        cells: tuple[np.ndarray, np.ndarray],
        until: np.ndarray,
    ) -> None:
        """What is off does not switch on; it may once its next use begins."""
        if not len(self.starters):
            return
        edge_of = np.full(len(self.traits.patterns), -1)
        edge_of[list(self.starters)] = np.arange(len(self.starters))
        starts = edge_of[off] >= 0
        self.edges[edge_of[off[starts]], cells[0][starts], cells[1][starts]] = False
        again = (edge_of[numbers] >= 0) & (until < self.minutes)
        numbers, rows, until = numbers[again], rows[again], until[again]
        watts = self.stack.watts[self.stack.places[numbers], rows, until]
        self.edges[edge_of[numbers], rows, until] = watts > self.traits.resting_w[numbers] + 1e-6


def _are_members(members: Sequence[int], patterns: int) -> np.ndarray:
    """Whether each of a plan's patterns is one of ``members``."""
    are = np.zeros(patterns, dtype=bool)
    are[list(members)] = True
    return are


def _spans(begins: np.ndarray, ends: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """All minutes from each first to before its end, and which of the spans they belong to."""
    lengths = np.maximum(0, ends - begins)
    before = np.cumsum(lengths) - lengths
    which = np.repeat(np.arange(lengths.size), lengths)
    return which, begins[which] + np.arange(which.size) - before[which]
