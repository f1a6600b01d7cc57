"""What an inverter drops: running sums beyond its overload curve, and starts that trip it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from needle.decide.starting import GREY_FACTOR, SHORT_S, TESTED
from needle.plan.plan import PlanLoad
from needle.supply.inverter import Inverter

#: A load (one of its count), when it is in use, and its W in every draw.
Running = tuple[PlanLoad, np.ndarray, Callable[[], np.ndarray]]
#: Trips rarer than this are not told.
RARE = 0.02


@dataclass(frozen=True)
class Trip:
    """One use of a load that the inverter drops.

    Attributes
    ----------
    load : str
    minute, until_minute : int
        Usual moment (median over the draws where it happens) and the end of that use.
    why : str
        ``"overload"`` or ``"start"``.
    watts, limit_w : float
        What was asked for (VA for a start) and what the inverter carries.
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


def find_trips(total: np.ndarray, loads: Sequence[Running], inverter: Inverter) -> list[Trip]:
    """Drop what trips, and tell it.

    A use that trips is dropped to its end and the plan goes on; since dropping one changes what
    others meet, the earliest trip of each draw is settled first, until none is left.

    Parameters
    ----------
    total : ndarray, shape (draws, minutes)
        AC W of all loads; **reduced in place** by what is dropped.
    loads : sequence
        See :data:`Running`.
    inverter : Inverter

    Returns
    -------
    list of Trip
        By moment.
    """
    starters = [index for index, one in enumerate(loads) if _may_trip(one[0], total, inverter)]
    if not starters and float(total.max(initial=0.0)) <= inverter.continuous_w:
        return []
    watts = [get() for _, _, get in loads]
    uses = [_uses(mask) for _, mask, _ in loads]
    events: dict[tuple[int, int, str], list[tuple[int, float, float]]] = {}
    open_rows = np.arange(total.shape[0])
    for _ in range(sum(len(one) for one in uses) + 1):
        if not open_rows.size:
            break
        minute, culprit, why, asked, limit = _first_trips(
            total[open_rows], [one[open_rows] for one in watts], loads, starters, inverter
        )
        happened = culprit >= 0
        open_rows = open_rows[happened]
        for row, at, index, kind, much, most in zip(
            open_rows, minute[happened], culprit[happened], why[happened], asked[happened],
            limit[happened], strict=True,
        ):  # fmt: skip
            number = next(n for n, (first, last) in enumerate(uses[index]) if first <= at < last)
            last = uses[index][number][1]
            total[row, at:last] -= watts[index][row, at:last]
            watts[index][row, at:last] = 0.0
            key = (int(index), number, "start" if kind else "overload")
            events.setdefault(key, []).append((int(at), float(much), float(most)))
    return _told(events, loads, uses, total.shape[0])


def _may_trip(load: PlanLoad, total: np.ndarray, inverter: Inverter) -> bool:
    """Whether a start could trip at all, were every other load at its most."""
    return load.start_va + float(total.max(initial=0.0)) > _start_limit(load, inverter)


def _start_limit(load: PlanLoad, inverter: Inverter) -> float:
    """VA beyond which a start trips: grey ones may still start, and a test overrules both."""
    if load.start_tested:
        return 0.0 if TESTED[load.start_tested][0] == "trips" else np.inf
    limit = inverter.surge_va if load.start_s <= inverter.surge_s else inverter.continuous_w
    return limit * GREY_FACTOR if load.start_s < SHORT_S else limit


def _uses(mask: np.ndarray) -> list[tuple[int, int]]:
    """Runs of minutes in use, as (first, past the last)."""
    edges = np.flatnonzero(np.diff(np.concatenate(([0], mask.astype(np.int8), [0]))))
    return [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]


def _first_trips(
    total: np.ndarray,
    watts: Sequence[np.ndarray],
    loads: Sequence[Running],
    starters: Sequence[int],
    inverter: Inverter,
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Of each draw the earliest trip: minute, load (-1 for none), whether a start, asked, limit."""
    draws, minutes = total.shape
    minute = np.full(draws, minutes)
    culprit = np.full(draws, -1)
    is_start = np.zeros(draws, dtype=bool)
    asked, limit = np.zeros(draws), np.full(draws, inverter.continuous_w)
    rows = np.arange(draws)
    over = _overloaded(total, inverter)
    hit = over.any(axis=1)
    minute[hit] = over[hit].argmax(axis=1)
    at = np.minimum(minute, minutes - 1)
    asked[hit] = total[rows[hit], at[hit]]
    culprit[hit] = _latest_on(rows[hit], at[hit], watts)
    for index in starters:
        load = loads[index][0]
        most = _start_limit(load, inverter)
        mine = watts[index]
        on = mine > load.resting_w + 1e-6
        edges = on.copy()
        edges[:, 1:] &= ~on[:, :-1]
        fails = edges & (total - mine + load.start_va > most)
        first = np.where(fails.any(axis=1), fails.argmax(axis=1), minutes)
        sooner = first < minute
        minute[sooner], culprit[sooner], is_start[sooner] = first[sooner], index, True
        where = rows[sooner], first[sooner]
        asked[sooner] = total[where] - mine[where] + load.start_va
        limit[sooner] = most
    return minute, culprit, is_start, asked, limit


def _overloaded(total: np.ndarray, inverter: Inverter) -> np.ndarray:
    """Minutes at which the overload curve runs out: booleans like ``total``.

    Between two points of the curve a sum is carried for the later point's time; a whole minute is
    the least that is told apart.
    """
    tripped = np.zeros(total.shape, dtype=bool)
    floor = 1.0
    for ratio, seconds in (*inverter.overload, (np.inf, 0.0)):
        above = total > inverter.continuous_w * floor * (1 + 1e-6)
        carried = int(seconds // 60)
        if carried == 0:
            tripped |= above
        elif above.any() and carried < total.shape[1]:
            run = np.cumsum(above, axis=1, dtype=np.int32)
            window = run[:, carried:].copy()
            window[:, 1:] -= run[:, : -carried - 1]
            tripped[:, carried:] |= window == carried + 1
        floor = ratio
    return tripped


def _latest_on(rows: np.ndarray, at: np.ndarray, watts: Sequence[np.ndarray]) -> np.ndarray:
    """The load that switched on last before a moment; of several the largest."""
    best = np.full(rows.size, -1)
    best_key = np.full((rows.size, 2), -np.inf)
    for index, mine in enumerate(watts):
        for number, (row, minute) in enumerate(zip(rows, at, strict=True)):
            now = mine[row, minute]
            if now <= 0:
                continue
            below = np.flatnonzero(mine[row, :minute] < now * 0.999)
            key = (below[-1] + 1 if below.size else 0, now)
            if key > tuple(best_key[number]):
                best[number], best_key[number] = index, key
    return best


def _told(
    events: dict[tuple[int, int, str], list[tuple[int, float, float]]],
    loads: Sequence[Running],
    uses: Sequence[Sequence[tuple[int, int]]],
    draws: int,
) -> list[Trip]:
    found = []
    for (index, number, why), seen in events.items():
        chance = len(seen) / draws
        if chance >= RARE:
            at, asked, limit = (float(np.median(column)) for column in zip(*seen, strict=True))
            last = uses[index][number][1]
            found.append(Trip(loads[index][0].name, round(at), last, why, asked, limit, chance))
    return sorted(found, key=lambda trip: (trip.minute, trip.load))
