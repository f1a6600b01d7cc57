"""What a supply drops: sums beyond a limit and its overload curve, and starts that trip it.

A use that trips is dropped to its end and the plan goes on. Since dropping one changes what others
meet, the earliest trip of each draw is settled first, until none is left in the block.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from needle.decide.starting import GREY_FACTOR, SHORT_S, START_REAL, TESTED
from needle.plan.patterns import Pattern
from needle.plan.plan import AC, Plan, PlanLoad
from needle.supply.inverter import Inverter

#: Trips rarer than this are not told.
RARE = 0.02


@dataclass(frozen=True)
class Trip:
    """One use of a load that the supply drops.

    Attributes
    ----------
    load : str
    minute, until_minute : int
        Usual moment (median over the draws where it happens) and the end of that use.
    why : str
        ``"overload"`` or ``"start"``.
    watts, limit_w : float
        What was asked for (VA for a start) and what is carried.
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

    @property
    def unit(self) -> str:
        """What it was held against: VA for a start, else W."""
        return "VA" if self.why == "start" else "W"


@dataclass
class Limit:
    """A limit in W on the sum of some patterns, with an overload curve above it.

    ``above_for`` keeps, for each step of the curve, how many minutes each draw has been above it.
    """

    most_w: float
    members: list[int]
    why: str = "overload"
    curve: tuple[tuple[float, float], ...] = ()
    above_for: list[np.ndarray] = field(default_factory=list)

    def steps(self) -> list[tuple[float, int]]:
        """W above which a sum is carried for so many whole minutes only."""
        floors = [1.0, *(ratio for ratio, _ in self.curve)]
        carried = [*(int(seconds // 60) for _, seconds in self.curve), 0]
        return [
            (self.most_w * floor * (1 + 1e-6), minutes)
            for floor, minutes in zip(floors, carried, strict=True)
        ]


def limits_of(plan: Plan, patterns: Sequence[Pattern]) -> list[Limit]:
    """The limits of a plan's supply that its loads could meet at all."""
    supply = plan.supply
    limits = []
    if supply.inverter is not None:
        mine = [n for n, one in enumerate(patterns) if one.load.route == AC]
        limits.append(Limit(supply.inverter.continuous_w, mine, curve=supply.inverter.overload))
    for output in supply.outputs:
        mine = [n for n, one in enumerate(patterns) if one.load.route == output.name]
        limits.append(Limit(output.max_w, mine, "output"))
    limits.append(Limit(supply.total_max_w, list(range(len(patterns)))))
    return [limit for limit in limits if limit.members and np.isfinite(limit.most_w)]


def start_limit_va(load: PlanLoad, inverter: Inverter) -> float:
    """VA beyond which a start trips: grey ones may still start, and a test overrules both."""
    if load.start_tested:
        return 0.0 if TESTED[load.start_tested][0] == "trips" else np.inf
    limit = inverter.surge_va if load.start_s <= inverter.surge_s else inverter.continuous_w
    return limit * GREY_FACTOR if load.start_s < SHORT_S else limit


class Tripper:
    """Settles the trips of a plan, block after block.

    Parameters
    ----------
    plan : Plan
    patterns : sequence of Pattern
    draws : int
    """

    def __init__(self, plan: Plan, patterns: Sequence[Pattern], draws: int) -> None:
        self.patterns = patterns
        self.draws = draws
        self.limits = limits_of(plan, patterns)
        for limit in self.limits:
            limit.above_for = [np.zeros(draws, dtype=int) for _ in limit.steps()]
        self.inverter = plan.supply.inverter
        self.start_va = [
            np.full(draws, one.load.start_va, np.float32)
            if one.start_va is None
            else one.start_va.astype(np.float32)
            for one in patterns
        ]
        self.sags = plan.supply.battery.internal_ohm is not None
        self.on_ac = [n for n, one in enumerate(patterns) if one.load.route == AC]
        self.dropped_until = [np.zeros(draws, dtype=int) for _ in patterns]
        self.was_on = [np.zeros(draws, dtype=bool) for _ in patterns]
        #: The first drop of a load that is more than nice to have, of each draw: minute, pattern,
        #: and why.
        self.first_drop_min = np.full(draws, np.inf)
        self.first_drop = np.full(draws, -1)
        self.first_why = np.full(draws, "", dtype=object)
        self.events: dict[tuple[int, int, str], list[tuple[int, float, float]]] = {}

    def settle(self, first: int, powers: list[np.ndarray]) -> np.ndarray | None:
        """Drop what trips in a block.

        Returns W that starts ask of the battery on top, (draws, minutes), where sag makes them
        matter; else None.

        Parameters
        ----------
        first : int
            The block's first minute.
        powers : list of ndarray, (draws, minutes)
            W of each pattern; **reduced in place** by what is dropped.
        """
        if not powers:
            return None
        minutes = first + np.arange(powers[0].shape[1])
        for n, until in enumerate(self.dropped_until):
            if int(until.max()) > first:
                powers[n] *= minutes >= until[:, None]
        starters = self._starters(powers)
        on_at_end = [
            watts[:, -1] > one.load.resting_w + 1e-6
            for watts, one in zip(powers, self.patterns, strict=True)
        ]
        rows = np.arange(self.draws)
        while rows.size:
            rows = self._settle_first(first, powers, rows, starters)
        for limit in self.limits:
            self._remember(limit, powers)
        extra = self._start_extra(powers) if self.sags else None
        self.was_on = on_at_end
        return extra

    def _start_extra(self, powers: list[np.ndarray]) -> np.ndarray:
        """W beyond running in the minutes in which something starts; the largest of each."""
        extra = np.zeros_like(powers[0])
        for n in self.on_ac:
            more = START_REAL * self.start_va[n] - self.patterns[n].load.running_w
            if float(more.max()) > 0:
                np.maximum(extra, self._edges(n, powers[n]) * more[:, None], out=extra)
        return extra

    def _edges(
        self, n: int, mine: np.ndarray, rows: np.ndarray | slice = slice(None)
    ) -> np.ndarray:
        """Minutes in which a pattern switches on, of some draws."""
        on = mine > self.patterns[n].load.resting_w + 1e-6
        edges = on.copy()
        edges[:, 1:] &= ~on[:, :-1]
        edges[:, 0] &= ~self.was_on[n][rows]
        return edges

    def _pulse(
        self, members: Sequence[int], first: int, powers: list[np.ndarray], rows: np.ndarray
    ) -> np.ndarray | float:
        """W that tasks ask for beyond what they come to, in draws that did not drop them."""
        pulse_w: np.ndarray | float = 0.0
        for n in members:
            pattern = self.patterns[n]
            if pattern.peak_w is not None and pattern.peak_factor is not None:
                peak = pattern.peak_w[first : first + powers[n].shape[1]]
                if not peak.any():
                    continue
                watts = powers[n][rows]
                asked = pattern.peak_factor[rows, None] * peak
                pulse_w = pulse_w + np.where(watts > 0, asked - watts, 0.0)
        return pulse_w

    def _starters(self, powers: list[np.ndarray]) -> list[tuple[int, float]]:
        """Patterns whose start could trip at all in this block, with their limit in VA."""
        if self.inverter is None or not self.on_ac:
            return []
        most = float(_total(powers, self.on_ac).max())
        starters = []
        for n in self.on_ac:
            load = self.patterns[n].load
            limit = start_limit_va(load, self.inverter)
            if (
                float(self.start_va[n].max()) + most > limit
                and float(powers[n].max()) > load.resting_w + 1e-6
            ):
                starters.append((n, limit))
        return starters

    def _settle_first(
        self,
        first: int,
        powers: list[np.ndarray],
        rows: np.ndarray,
        starters: list[tuple[int, float]],
    ) -> np.ndarray:
        """Drop the earliest trip of each of these draws; returns the draws that had one."""
        size = powers[0].shape[1]
        at = np.full(rows.size, size)
        culprit = np.full(rows.size, -1)
        is_start = np.zeros(rows.size, dtype=bool)
        why = np.full(rows.size, "overload", dtype=object)
        asked, most = np.zeros(rows.size), np.zeros(rows.size)
        for limit in self.limits:
            total = _total(powers, limit.members, rows)
            total += self._pulse(limit.members, first, powers, rows)
            over = self._over(limit, total, rows)
            hit = np.flatnonzero(over.any(axis=1))
            if not hit.size:
                continue
            when = over[hit].argmax(axis=1)
            sooner = when < at[hit]
            hit, when = hit[sooner], when[sooner]
            at[hit], most[hit], asked[hit] = when, limit.most_w, total[hit, when]
            why[hit] = limit.why
            culprit[hit] = self._latest_on(limit.members, powers, rows[hit], when, first)
        if starters:
            total = _total(powers, self.on_ac, rows)
            for n, limit_va in starters:
                mine = powers[n][rows]
                start_va = self.start_va[n][rows]
                asks = total - mine + start_va[:, None]
                fails = self._edges(n, mine, rows) & (asks > limit_va)
                hit = np.flatnonzero(fails.any(axis=1))
                if not hit.size:
                    continue
                when = fails[hit].argmax(axis=1)
                sooner = when < at[hit]
                hit, when = hit[sooner], when[sooner]
                at[hit], culprit[hit], is_start[hit], most[hit] = when, n, True, limit_va
                asked[hit] = asks[hit, when]
        happened = np.flatnonzero(culprit >= 0)
        for n in np.unique(culprit[happened]):
            which = happened[culprit[happened] == n]
            self._remember_first(int(n), first, rows[which], at[which],
                                 np.where(is_start[which], "start", why[which]))  # fmt: skip
            self._drop(int(n), first, powers, rows[which], at[which],
                       (is_start[which], asked[which], most[which]))  # fmt: skip
        return rows[happened]

    def _remember_first(
        self, n: int, first: int, rows: np.ndarray, when: np.ndarray, why: np.ndarray
    ) -> None:
        if self.patterns[n].load.may_be_dropped:
            return
        sooner = first + when < self.first_drop_min[rows]
        rows, why = rows[sooner], why[sooner]
        self.first_drop_min[rows] = first + when[sooner]
        self.first_drop[rows], self.first_why[rows] = n, why

    def _over(self, limit: Limit, total: np.ndarray, rows: np.ndarray) -> np.ndarray:
        """Minutes at which a limit's curve runs out: booleans like ``total``.

        Between two points of the curve a sum is carried for the later point's time; a whole minute
        is the least that is told apart.
        """
        tripped = np.zeros(total.shape, dtype=bool)
        for (watts, carried), kept in zip(limit.steps(), limit.above_for, strict=True):
            above = total > watts
            if carried == 0 or not above.any():
                tripped |= above
            else:
                tripped |= _run_lengths(above, kept[rows]) > carried
        return tripped

    def _remember(self, limit: Limit, powers: list[np.ndarray]) -> None:
        """Carry over to the next block how long each draw has been above each step."""
        if not limit.curve:
            return
        total = _total(powers, limit.members)
        for number, (watts, carried) in enumerate(limit.steps()):
            if carried:
                above = total > watts
                limit.above_for[number] = _run_lengths(above, limit.above_for[number])[:, -1]

    def _latest_on(
        self,
        members: Sequence[int],
        powers: list[np.ndarray],
        rows: np.ndarray,
        when: np.ndarray,
        first: int,
    ) -> np.ndarray:
        """The pattern that switched on last before a moment; of several the largest."""
        best, since = np.full(rows.size, -1), np.full(rows.size, -np.inf)
        watts = np.zeros(rows.size)
        for n in members:
            now = powers[n][rows, when]
            mine = np.where(now > 0, self.patterns[n].on_since(rows, first + when), -np.inf)
            later = (mine > since) | ((mine == since) & (now > watts) & (now > 0))
            best[later], since[later], watts[later] = n, mine[later], now[later]
        return best

    def _drop(
        self,
        n: int,
        first: int,
        powers: list[np.ndarray],
        rows: np.ndarray,
        when: np.ndarray,
        told: tuple[np.ndarray, np.ndarray, np.ndarray],
    ) -> None:
        """Switch a pattern off in some draws to the end of the use that tripped."""
        pattern = self.patterns[n]
        uses = pattern.use_at(first + when)
        until = pattern.uses[uses, 1]
        self.dropped_until[n][rows] = until
        minutes = first + np.arange(powers[n].shape[1])
        off = (minutes >= (first + when)[:, None]) & (minutes < until[:, None])
        powers[n][rows] = np.where(off, 0.0, powers[n][rows])
        for use, at, start, asked, most in zip(uses, first + when, *told, strict=True):
            key = (n, int(use), "start" if start else "overload")
            self.events.setdefault(key, []).append((int(at), float(asked), float(most)))

    def trips(self) -> list[Trip]:
        """All that was dropped often enough to tell, by moment."""
        trips = []
        for (n, use, why), seen in self.events.items():
            chance = len(seen) / self.draws
            if chance >= RARE:
                at, asked, most = (float(np.median(column)) for column in zip(*seen, strict=True))
                pattern = self.patterns[n]
                until = int(pattern.uses[use, 1])
                trips.append(Trip(pattern.load.name, round(at), until, why, asked, most, chance))
        return sorted(trips, key=lambda trip: (trip.minute, trip.load))


def _total(
    powers: Sequence[np.ndarray], members: Sequence[int], rows: np.ndarray | None = None
) -> np.ndarray:
    """W of some patterns together, of all draws or of some."""
    total = np.zeros_like(powers[0] if rows is None else powers[0][rows])
    for n in members:
        total += powers[n] if rows is None else powers[n][rows]
    return total


def _run_lengths(above: np.ndarray, carried: np.ndarray) -> np.ndarray:
    """How many minutes in a row each draw has been above, carried in from the block before."""
    sums = np.cumsum(above, axis=1, dtype=int)
    resets = np.maximum.accumulate(np.where(above, 0, sums), axis=1)
    unbroken = np.logical_and.accumulate(above, axis=1)
    return np.where(above, sums - resets + unbroken * carried[:, None], 0)
