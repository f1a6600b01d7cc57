"""Trips: loads that a supply drops, by sums above a limit and its overload curve, or by a start.

A use that trips is dropped to its end and the plan continues. Since dropping one changes the
others' sum, the earliest trip of each draw is settled first, until none is left in the block. Sums
are made once a block, in double precision, and what is dropped is taken out of them.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from needle.decide.starting import START_REAL, carried_va, required_va, start_factor
from needle.percentiles import median
from needle.plan.draws.inputs import GREY, Inputs
from needle.plan.draws.patterns import Pattern
from needle.plan.limits.stack import Block, Traits
from needle.plan.limits.sums import Drops, Limit, Sums, limits_of
from needle.plan.limits.unfit import unfit_patterns
from needle.plan.load import AC
from needle.plan.plan import Plan, carried_by_mains

#: Least chance of a trip that is shown.
RARE = 0.02
#: What is dropped in more than this share of the draws does not run in the plan.
MOSTLY = 0.5
#: Draws with a use that say how it goes when a load is used; in fewer it may trip by chance.
ENOUGH_USED = 10


@dataclass(frozen=True)
class Trip:
    """One use of a load that the supply drops.

    Attributes
    ----------
    load : str
    minute, until_minute : int
        Median moment over the draws in which it happens, and the end of that use.
    why : str
        ``"overload"``, ``"start"``, ``"output"``, ``"volts"`` or ``"no-ac"``.
    watts, limit_w : float
        What the loads need, and the limit, in ``unit``.
    unit : str
        ``"W"``, ``"VA"`` or ``"V"``.
    chance : float
        Share of draws in which it happens.
    """

    load: str
    minute: int
    until_minute: int
    why: str
    watts: float
    limit_w: float
    chance: float
    unit: str = "W"


class TripSimulator:
    """Finds the trips of a plan, block after block.

    Parameters
    ----------
    plan : Plan
    patterns : sequence of Pattern
    inputs : Inputs
    """

    def __init__(self, plan: Plan, patterns: Sequence[Pattern], inputs: Inputs) -> None:
        self.plan, self.patterns, self.inputs = plan, patterns, inputs
        self.draws = draws = inputs.draws
        self.traits = Traits(patterns, draws)
        self.limits = limits_of(plan, patterns)
        for limit in self.limits:
            limit.above_for = [np.zeros(draws, dtype=int) for _ in limit.steps()]
        self.inverter = plan.supply.inverter
        self.start_va = [
            np.full(draws, pattern.load.draw.start_va, np.float32)
            if pattern.start_va is None
            else pattern.start_va.astype(np.float32)
            for pattern in patterns
        ]
        #: The most VA for each W of a pattern.
        self.most_va = np.array([np.max(_va_for_each_w(pattern)) for pattern in patterns])
        #: VA beyond which each pattern's start trips, (draws,).
        self.carried_va = [
            self._carried(pattern, start_va, inputs)
            for pattern, start_va in zip(patterns, self.start_va, strict=True)
        ]
        #: Patterns that cannot run on their route at all, by their numbers.
        self.unfit = unfit_patterns(plan, patterns)
        # Where mains run the loads on AC, they have it without an inverter.
        self.has_ac = carried_by_mains(plan, round(plan.hours * 60) if self.unfit else 0)
        self.sags = plan.supply.battery.internal_ohm is not None
        self.on_ac = [n for n, pattern in enumerate(patterns) if pattern.load.route == AC]
        #: End of the last use of each pattern that was dropped, min, (patterns, draws).
        self.dropped_until = np.zeros((len(patterns), draws), dtype=int)
        #: Draws in which a pattern was on at the end of the block before, by its number.
        self.was_on: dict[int, np.ndarray] = {}
        #: The first drop of each pattern in each draw, (patterns, draws): minute (infinite: none)
        #: and why.
        self.first_drops_min = np.full((len(patterns), draws), np.inf)
        self.first_whys = np.full((len(patterns), draws), "", dtype=object)
        #: What was dropped: numbers of patterns and of their uses, minutes, and why.
        self.events: list[tuple[np.ndarray, np.ndarray, np.ndarray, Drops]] = []

    def _carried(self, pattern: Pattern, start_va: np.ndarray, inputs: Inputs) -> np.ndarray:
        if self.inverter is None or pattern.load.route != AC:
            return np.full(self.draws, np.inf)
        load = pattern.load
        grey = inputs.uniform(GREY, load.name)
        return carried_va(self.inverter, start_va, load.draw.start_s, grey, load.tried)

    def settle(self, first: int, minutes: int, powers: dict[int, np.ndarray]) -> np.ndarray | None:
        """Drop the loads that trip in a block.

        Parameters
        ----------
        first : int
            The block's first minute.
        minutes : int
            Its length.
        powers : dict of int to ndarray, (draws, minutes)
            W of each pattern in use, by its number; its arrays are **reduced or replaced** by what
            is dropped.

        Returns
        -------
        ndarray or None
            Additional W during start-up surges, (draws, minutes); None without voltage sag.
        """
        self._keep_dropped(first, minutes, powers)
        block = Block(self.traits, first, minutes, powers)
        self._drop_unfit(block)
        block.asked = asked = {n: self._asked(n, block) for n in powers}
        most_w = {n: float(watts.max()) for n, watts in asked.items()}
        starters = self._starters(most_w)
        limits = [limit for limit in self.limits if self._could_exceed(limit, most_w)]
        on_at_end = {
            n: watts[:, -1] > self.traits.resting_w[n] + 1e-6 for n, watts in powers.items()
        }
        self._sum_up(block, limits, starters)
        rows = np.arange(self.draws if limits or starters else 0)
        while rows.size:
            rows = self._settle_first(block, rows)
        totals = {id(limit): sums.of(limit) for limit, sums in block.limits}
        for limit in self.limits:
            limit.remember(totals.get(id(limit)), self.draws)
        extra = self._start_extra(block) if self.sags else None
        self.was_on = on_at_end
        return extra

    def count_unused(self, before: int) -> None:
        """Let what cannot run when it is used fail as often in draws without a use.

        A run in which nobody used it is no evidence that the supply can run it. To be called once
        the needed hours are settled; again changes nothing.

        Parameters
        ----------
        before : int
            The needed hours, min.
        """
        for n, pattern in enumerate(self.patterns):
            if pattern.load.use.uses_per_day is None or pattern.stretch is None:
                continue
            minutes, whys = self.first_drops_min[n], self.first_whys[n]
            used, dropped = pattern.used_before(before), minutes < before
            if used.sum() < ENOUGH_USED or dropped[~used].any():
                continue
            share = float(dropped[used].mean())
            if share <= MOSTLY:
                continue
            unused = np.flatnonzero(~used)
            fails = unused[np.arange(unused.size) * share % 1 < share]
            minutes[fails], whys[fails] = round(median(minutes[dropped])), _commonest(whys[dropped])

    def keeps_off(self, n: int, until: int) -> bool:
        """Whether a pattern that was dropped stays off until a minute, in every draw."""
        return int(self.dropped_until[n].min()) >= until

    def _keep_dropped(self, first: int, minutes: int, powers: dict[int, np.ndarray]) -> None:
        """Set to zero, in place, uses that were dropped in an earlier block."""
        last = first + minutes
        for n, watts in powers.items():
            until = self.dropped_until[n]
            watts[until >= last] = 0.0
            partly = np.flatnonzero((until > first) & (until < last))
            if partly.size:
                watts[partly] *= np.arange(first, last) >= until[partly, None]

    def _drop_unfit(self, block: Block) -> None:
        """Drop loads that cannot run on their route, from their first use on."""
        for n in self.unfit.keys() & block.powers.keys():
            unfit = self.unfit[n]
            used = block.powers[n] > 0
            if unfit.why == "no-ac":
                used &= ~self.has_ac[block.first : block.first + block.minutes]
            rows = np.flatnonzero(used.any(axis=1))
            if rows.size:
                when = used[rows].argmax(axis=1)
                asks, given = (np.full(rows.size, each) for each in (unfit.asks, unfit.given))
                why, unit = (
                    np.full(rows.size, word, dtype=object) for word in (unfit.why, unfit.unit)
                )
                numbers = np.full(rows.size, n)
                self._drop(block, numbers, rows, when, Drops(why, unit, asks, given))

    def _start_extra(self, block: Block) -> np.ndarray:
        """Additional W in minutes with starts; the largest start of each minute."""
        extra = np.zeros((self.draws, block.minutes), np.float32)
        for n, watts in block.powers.items():
            more = START_REAL * self.start_va[n] - self.patterns[n].load.draw.running_w
            if self.patterns[n].load.route == AC and float(more.max()) > 0:
                np.maximum(extra, self._edges(n, watts) * more[:, None], out=extra)
        return extra

    def _edges(self, n: int, mine: np.ndarray) -> np.ndarray:
        """Minutes in which a pattern switches on."""
        on = mine > self.traits.resting_w[n] + 1e-6
        edges: np.ndarray = np.empty_like(on)
        np.greater(on[:, 1:], on[:, :-1], out=edges[:, 1:])
        edges[:, 0] = on[:, 0] & ~self.was_on.get(n, np.False_)
        return edges

    def _could_exceed(self, limit: Limit, most_w: dict[int, float]) -> bool:
        """Whether a limit could be exceeded if all patterns were at their highest power at once."""
        members = [n for n in limit.members if n in most_w]
        if limit.unit == "VA":
            return bool(sum(most_w[n] * self.most_va[n] for n in members) > limit.most)
        return sum(most_w[n] for n in members) > limit.most

    def _asked(self, n: int, block: Block) -> np.ndarray:
        """A pattern's power as a limit sees it, W: for a task its peak, else while it is on."""
        pattern, watts = self.patterns[n], block.powers[n]
        if pattern.load.use.uses_per_day is not None and pattern.duty is not None:
            # A use of less than a minute has less than its W on the mean of that minute.
            on_w = (pattern.rest_w + pattern.extra_w).astype(np.float32)[:, None]
            return np.where(watts > self.traits.resting_w[n] + 1e-6, on_w, watts)
        peak = self._peak(n, block)
        if peak is None or pattern.peak_factor is None:
            return watts
        asked: np.ndarray = pattern.peak_factor[:, None].astype(np.float32) * peak
        asked *= watts > 0
        return asked

    def _peak(self, n: int, block: Block) -> np.ndarray | None:
        """A task's peak in each minute of a block, W; None if it has none there."""
        peak_w = self.patterns[n].peak_w
        if peak_w is None:
            return None
        peak = peak_w[block.first : block.first + block.minutes]
        return peak.astype(np.float32) if peak.any() else None

    def _sums(self, members: Sequence[int], asked: Mapping[int, np.ndarray], in_va: bool) -> Sums:
        """What some patterns ask for together; ``asked`` is of all patterns in use."""
        shape = next(iter(asked.values())).shape
        empty = np.zeros(0)
        sums = Sums(tuple(members), np.zeros(shape, np.float32), empty, empty, empty)
        if in_va:
            sums.known, sums.nonactive, sums.va = (np.zeros(shape, np.float32) for _ in range(3))
        for n in members:
            if n not in asked:
                continue
            pattern, mine = self.patterns[n], asked[n]
            sums.watts += mine
            if in_va and pattern.load.draw.power_factor_known:
                sums.known += mine
                if pattern.nonactive is not None:
                    sums.nonactive += mine * pattern.nonactive[:, None].astype(np.float32)
        if in_va:
            sums.add_up(...)
        return sums

    def _sum_up(self, block: Block, limits: Sequence[Limit], starters: Sequence[int]) -> None:
        """Make the sums of a block; limits on the same patterns share theirs."""
        made: dict[tuple[int, ...], Sums] = {}
        on_ac = tuple(self.on_ac)
        in_va = {tuple(limit.members) for limit in limits if limit.unit == "VA"}
        plain = all(block.asked[n] is watts for n, watts in block.powers.items())
        if starters and plain:
            in_va.add(on_ac)
        for limit in limits:
            members = tuple(limit.members)
            if members not in made:
                made[members] = self._sums(members, block.asked, members in in_va)
            block.limits.append((limit, made[members]))
        if starters:
            block.starters = starters
            block.edges = np.stack([self._edges(n, block.powers[n]) for n in starters])
            block.may_start = [
                _may_start(edges, self.patterns[n].uses[:, 1] - block.first)
                for n, edges in zip(starters, block.edges, strict=True)
            ]
            if plain and on_ac in made:
                block.beside = made[on_ac]
            else:
                block.beside = self._sums(on_ac, block.powers, True)

    def _starters(self, most_w: dict[int, float]) -> list[int]:
        """Patterns whose start could trip in this block."""
        if self.inverter is None:
            return []
        on_ac = [n for n in self.on_ac if n in most_w]
        most_va = sum(most_w[n] * self.most_va[n] for n in on_ac)
        return [
            n
            for n in on_ac
            if bool((self.start_va[n] + most_va > self.carried_va[n]).any())
            and most_w[n] > self.patterns[n].load.draw.resting_w + 1e-6
        ]

    def _settle_first(self, block: Block, rows: np.ndarray) -> np.ndarray:
        """Drop the earliest trip of each of these draws; return the draws that had one."""
        at = np.full(rows.size, block.minutes)
        blocked = np.full(rows.size, -1)
        drops = Drops.none(rows.size)
        for limit, sums in block.limits:
            total = sums.of(limit) if rows.size == self.draws else sums.of(limit)[rows]
            over = limit.runs_out(total, rows)
            hit = np.flatnonzero(over.any(axis=1))
            when = over[hit].argmax(axis=1)
            sooner = when < at[hit]
            hit, when = hit[sooner], when[sooner]
            at[hit] = when
            drops.put(hit, limit.why, limit.unit, total[hit, when], limit.most)
            if hit.size:
                each_va = self.most_va if limit.unit == "VA" else np.ones_like(self.most_va)
                most_w = limit.most / each_va
                blocked[hit] = block.to_blame(limit.members, most_w, rows[hit], when)
        if block.beside is not None:
            most_va = block.beside.va[rows].max(axis=1)
            for place, n in enumerate(block.starters):
                # No start asks for more than its VA beside the most that runs.
                close = self.start_va[n][rows] + most_va > self.carried_va[n][rows]
                if not close.any():
                    continue
                before = np.zeros(self.draws, dtype=int)
                before[rows[close]] = at[close]
                draw, when, asked = self._failed_starts(place, block, block.beside, before)
                hit = np.searchsorted(rows, draw)
                at[hit], blocked[hit] = when, n
                drops.put(hit, "start", "VA", asked, self.carried_va[n][rows[hit]])
        happened = np.flatnonzero(blocked >= 0)
        if happened.size:
            self._drop(block, blocked[happened], rows[happened], at[happened], drops.of(happened))
        return rows[happened]

    def _failed_starts(
        self, place: int, block: Block, beside: Sums, before: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """The first start of a pattern that trips in each draw.

        Parameters
        ----------
        place : int
            Place of the pattern in the block's edges.
        before : ndarray, (draws,)
            Minute of the block before which starts are looked at.

        Returns
        -------
        draw, when, asked : ndarray
            The draws that have one, in order, its minute and its VA.
        """
        n = block.starters[place]
        draw, minute = block.may_start[place]
        starts = block.edges[place, draw, minute] & (minute < before[draw])
        there = draw, minute = draw[starts], minute[starts]
        known, nonactive = beside.known[there], beside.nonactive[there]
        plain = beside.watts[there] - known
        asks = self._asks_at_start(n, draw, block.powers[n][there], known, nonactive, plain)
        fails = asks > self.carried_va[n][draw]
        found, first_of = np.unique(draw[fails], return_index=True)
        return found, minute[fails][first_of], asks[fails][first_of]

    def _asks_at_start(
        self,
        n: int,
        rows: np.ndarray,
        mine: np.ndarray,
        watts: np.ndarray,
        nonactive: np.ndarray,
        plain: np.ndarray,
    ) -> np.ndarray:
        """VA of a pattern's start together with all others, at some moments of draws ``rows``.

        The others' sums, which include the pattern's own W ``mine``, are of those moments.
        """
        pattern = self.patterns[n]
        start_va = self.start_va[n][rows]
        if not pattern.load.draw.power_factor_known:
            return required_va(start_va, None, watts, nonactive, plain - mine)
        own = 0.0 if pattern.nonactive is None else mine * pattern.nonactive[rows]
        factor = start_factor(pattern.load.draw.power_factor)
        return required_va(start_va, factor, watts - mine, nonactive - own, plain)

    def _remember_first(
        self, numbers: np.ndarray, rows: np.ndarray, at: np.ndarray, why: np.ndarray
    ) -> None:
        sooner = at < self.first_drops_min[numbers, rows]
        first = numbers[sooner], rows[sooner]
        self.first_drops_min[first], self.first_whys[first] = at[sooner], why[sooner]

    def _drop(
        self, block: Block, numbers: np.ndarray, rows: np.ndarray, when: np.ndarray, drops: Drops
    ) -> None:
        """Switch one pattern off in each of some draws, until the end of the use that tripped.

        ``numbers`` are those of the patterns, ``when`` the minutes of the block.
        """
        at = block.first + when
        self._remember_first(numbers, rows, at, drops.why)
        uses, self.dropped_until[numbers, rows] = block.switch_off(numbers, rows, when)
        self.events.append((numbers, uses, at, drops))

    def drops(self) -> dict[str, tuple[float, str]]:
        """Loads that are dropped: share of the draws in which, and the most common first reason."""
        found: dict[str, tuple[float, str]] = {}
        for n, minute in enumerate(self.first_drops_min):
            dropped = np.isfinite(minute)
            if not dropped.any():
                continue
            mine = float(dropped.mean()), _commonest(self.first_whys[n][dropped])
            name = self.patterns[n].load.name
            found[name] = max(mine, found.get(name, mine))
        return found

    def trips(self) -> list[Trip]:
        """Trips by moment: common ones, and all of what is seldom used and cannot run then."""
        if not self.events:
            return []
        numbers, uses, at = (np.concatenate([event[i] for event in self.events]) for i in range(3))
        drops = Drops.joined([drops for *_, drops in self.events])
        kinds = list(zip(drops.why, drops.unit, strict=True))
        known = {kind: number for number, kind in enumerate(dict.fromkeys(kinds))}
        of_kind = np.array([known[kind] for kind in kinds])
        order = np.lexsort((of_kind, uses, numbers))
        same = np.diff(np.stack([numbers, uses, of_kind])[:, order], axis=1).any(axis=0)
        mostly = np.isfinite(self.first_drops_min).mean(axis=1) > MOSTLY
        trips = []
        for group in np.split(order, np.flatnonzero(same) + 1):
            chance = group.size / self.draws
            pattern = self.patterns[numbers[group[0]]]
            by_use = pattern.load.use.uses_per_day is not None
            if chance >= RARE or (by_use and mostly[numbers[group[0]]]):
                why, unit = kinds[group[0]]
                when, asked, most = (
                    median(values[group]) for values in (at, drops.asked, drops.most)
                )
                until = int(pattern.uses[uses[group[0]], 1])
                trips.append(
                    Trip(pattern.load.name, round(when), until, why, asked, most, chance, unit)
                )
        return sorted(trips, key=lambda trip: (trip.minute, trip.load))


def _may_start(edges: np.ndarray, ends: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Draws and minutes of a block in which a pattern switches on, or may once a use was dropped.

    Parameters
    ----------
    edges : ndarray of bool, (draws, minutes)
        Minutes in which it switches on.
    ends : ndarray
        Minutes of the block at which its uses end, and another may begin.
    """
    possible = edges.copy()
    possible[:, ends[(ends >= 0) & (ends < edges.shape[1])]] = True
    draw, minute = np.nonzero(possible)
    return draw, minute


def _commonest(words: np.ndarray) -> str:
    known, counts = np.unique(words.astype(str), return_counts=True)
    return str(known[counts.argmax()])


def _va_for_each_w(pattern: Pattern) -> np.ndarray | float:
    return 1.0 if pattern.nonactive is None else np.sqrt(1 + pattern.nonactive**2)
