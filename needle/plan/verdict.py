"""The verdict on a plan: whether it succeeds, with what chance, and what fails first.

A draw succeeds when every load that must or should run gets all the power it needs until the
needed hours: no empty battery, no trip, no failed start. Loads that are nice to have may be
dropped. Every page, the printed sheet and the headless command word this object.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Set
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from needle.estimate import Estimate
from needle.plan.energy.simulate import Outcome
from needle.plan.limits.trips import Trip
from needle.plan.load import AC, PlanLoad
from needle.supply.inverter import Inverter

#: From a chance of a half on a plan is likely; below, it does not hold.
LIKELY = 0.5
#: Troubles that no battery mends.
NOT_OF_BATTERY = ("overload", "start", "output", "volts", "no-ac", "rest")
#: Troubles of which more watts are no cure.
UNFIT = ("volts", "no-ac")


@dataclass(frozen=True)
class Failure:
    """The most common first failure.

    Attributes
    ----------
    why : str
        ``"empty"``, ``"cutoff"``, ``"overload"``, ``"start"``, ``"output"``, ``"volts"``
        (it is supplied with a voltage that it does not accept), ``"no-ac"`` (it runs on AC, and the
        supply has no inverter), or ``"rest"`` (a load that must
        run has no power while the inverter is switched off).
    load : str
        The load that fails; empty if the supply stops.
    minute : int
        Median over the draws in which this is the first failure.
    chance : float
        Share of all draws in which this is the first failure within the needed hours.
    """

    why: str
    load: str
    minute: int
    chance: float


@dataclass(frozen=True)
class BlockedLoad:
    """A load that the supply cannot run in most draws, and the limit that it exceeds.

    Attributes
    ----------
    load : str
    why : str
        As :attr:`Failure.why`, without the reasons that a larger battery would remove.
    needs, limit : float
        What it needs, median (including other loads at the time, unless ``alone``), and what the
        supply provides.
    needs_high : float
        What it needs, 90th percentile: the size of a supply that could run it.
    chance : float
        Share of draws in which it fails within the needed hours.
    unit : str
        ``"W"``, ``"VA"`` or ``"V"``; empty if no figure applies.
    alone : bool
        Whether it exceeds the limit by itself.
    route : str
        ``"ac"`` or the name of the output that it runs on.
    wanted : bool
        Whether it must or should run.
    minute : int
        Median minute of its first failure.
    """

    load: str
    why: str
    needs: float
    needs_high: float
    limit: float
    chance: float
    unit: str
    alone: bool
    route: str
    wanted: bool
    minute: int


@dataclass(frozen=True)
class Verdict:
    """Whether a plan succeeds.

    Attributes
    ----------
    state : str
        ``"covers"`` (at least the wanted chance), ``"likely"`` (at least one in two), or
        ``"does not"``.
    chance, wanted : float
        Share of draws that succeed, and the chance wanted.
    lasts_h : (low, likely, high)
        Hours to the supply's first stop.
    first_failure : Failure or None
        The most common first failure; None if nothing fails.
    blocked_loads : tuple of BlockedLoad
        Loads that the supply cannot run in most draws, the earliest first.
    chance_without : float
        Share of draws that succeed apart from the blocked loads.
    """

    state: str
    chance: float
    wanted: float
    lasts_h: tuple[float, float, float]
    first_failure: Failure | None
    blocked_loads: tuple[BlockedLoad, ...] = ()
    chance_without: float = 0.0

    @property
    def of_battery(self) -> bool:
        """Whether a larger battery would help."""
        return self.first_failure is not None and self.first_failure.why not in NOT_OF_BATTERY


@lru_cache(maxsize=8)
def verdict_of(outcome: Outcome) -> Verdict:
    """Return the verdict on an outcome; whoever asks again for the same one does not wait."""
    chance, wanted = outcome.chance, outcome.plan.wanted_chance
    state = "covers" if chance >= wanted else "likely" if chance >= LIKELY else "does not"
    blocked_loads = _blocked_loads(outcome)
    names = {blocked.load for blocked in blocked_loads}
    without = float(np.mean(~_others_fail(outcome, names)))
    return Verdict(
        state, chance, wanted, outcome.runtime, _first_failure(outcome), blocked_loads, without
    )


def _blocked_loads(outcome: Outcome) -> tuple[BlockedLoad, ...]:
    common: dict[str, Trip] = {}
    for trip in outcome.trips:
        if trip.load not in common or trip.chance > common[trip.load].chance:
            common[trip.load] = trip
    blocked_loads = [
        _blocked_load(outcome, load, common.get(load.name))
        for load in outcome.plan.loads
        if outcome.mostly_fails(load.name)
    ]
    return tuple(
        sorted(
            blocked_loads,
            key=lambda blocked: (blocked.minute, blocked.load),
        )
    )


def _blocked_load(outcome: Outcome, load: PlanLoad, trip: Trip | None) -> BlockedLoad:
    """What a load that fails in most draws needs, from its most common trip (None: no trip)."""
    minutes = outcome.failures_by_load[load.name]
    minute = int(np.median(minutes[np.isfinite(minutes)]))
    wanted, chance = not load.may_be_dropped, float(np.mean(outcome.fails(load.name)))
    if trip is None:
        return BlockedLoad(
            load=load.name,
            why="rest",
            needs=0.0,
            needs_high=0.0,
            limit=0.0,
            chance=chance,
            unit="",
            alone=True,
            route=load.route,
            wanted=wanted,
            minute=minute,
        )
    limit, own, spread = _needs_of(load, trip, outcome.plan.supply.inverter)
    unfit = trip.why in UNFIT
    alone = unfit or own > limit
    needs = own if alone and not unfit else trip.watts
    # A guess of that spread: its grade is of no matter here.
    more = 0.0 if unfit else Estimate(own, spread, "D").high - own
    return BlockedLoad(
        load=load.name,
        why=trip.why,
        needs=needs,
        needs_high=needs + more,
        limit=limit,
        chance=chance,
        unit=trip.unit,
        alone=alone,
        route=load.route,
        wanted=wanted,
        minute=minute,
    )


def _needs_of(load: PlanLoad, trip: Trip, inverter: Inverter | None) -> tuple[float, float, float]:
    """Limit that a load's trip exceeds, what the load itself needs, and the spread of that."""
    if trip.why == "start" and inverter is not None:
        # The rating, since a start may exceed it by luck.
        surge = load.draw.start_s <= inverter.surge_s
        limit = inverter.surge_va if surge else inverter.continuous_va
        return limit, load.draw.start_va, load.spreads.start
    own = load.most_w / load.draw.power_factor if trip.unit == "VA" else load.most_w
    return trip.limit_w, own, max(load.spreads.watts, load.spreads.mean)


def _others_fail(outcome: Outcome, blocked_loads: Set[str]) -> np.ndarray:
    """Draws in which anything but the blocked loads fails, (draws,)."""
    needed_h = outcome.plan.needed_hours - 1e-6
    fails = outcome.stops_by & (outcome.runtime_h < needed_h)
    for load in outcome.plan.loads:
        if load.name not in blocked_loads and not load.may_be_dropped:
            fails = fails | outcome.fails(load.name)
    return fails


def _first_failure(outcome: Outcome) -> Failure | None:
    failures = outcome.failures
    fails = np.flatnonzero(~outcome.holds)
    if not fails.size:
        return None
    kinds = Counter((failures.why[row], failures.load[row]) for row in fails)
    (why, load), count = max(kinds.items(), key=lambda item: (item[1], item[0]))
    mine = [row for row in fails if (failures.why[row], failures.load[row]) == (why, load)]
    minute = int(np.median(failures.minute[mine]))
    return Failure(why, load, minute, count / len(outcome.runtime_h))


def wanted_peak_w(outcome: Outcome, verdict: Verdict) -> float:
    """Highest AC power of a minute that the plan wants, W, including loads that trip."""
    refused = [
        blocked.needs
        for blocked in verdict.blocked_loads
        if blocked.route == AC and blocked.unit == "W"
    ]
    return max([outcome.peak_w, *refused])
