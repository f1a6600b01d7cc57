"""The one verdict on a plan: whether it holds, at which odds, and what fails first.

In a draw a plan holds when, from its start to the hours needed, every load that must or should run
gets all that it wants: no stop, no drop, no failed start. Loads that are nice to have may be
dropped. Every page, the sheet and the headless command word this object.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Set
from dataclasses import dataclass

import numpy as np

from needle.estimate import Estimate
from needle.plan.plan import AC, PlanLoad
from needle.plan.simulate import Outcome

#: From even odds on a plan is likely; below, it does not hold.
LIKELY = 0.5
#: Troubles that no battery mends.
NOT_OF_BATTERY = ("overload", "start", "output", "volts", "rest")


@dataclass(frozen=True)
class Trouble:
    """What fails first.

    Attributes
    ----------
    why : str
        ``"empty"``, ``"cutoff"``, ``"overload"``, ``"start"``, ``"output"``, ``"volts"`` (others
        than it is given), or ``"rest"`` (what must run has none while the inverter rests).
    load : str
        That is dropped; empty where the supply stops.
    minute : int
        Median of the draws where it comes first.
    chance : float
        Share of all draws where it does, within the hours needed.
    """

    why: str
    load: str
    minute: int
    chance: float


@dataclass(frozen=True)
class Culprit:
    """A load that the supply does not run in most draws, and the limit that it exceeds.

    Attributes
    ----------
    load : str
    why : str
        As :attr:`Trouble.why`, of those that no battery mends.
    needs, limit : float
        What it likely asks for (with what runs beside it, unless ``alone``) and what the supply
        gives.
    needs_high : float
        What it asks for at the most, 90th percentile: what another supply would have to give.
    chance : float
        Share of draws in which it fails within the hours needed.
    unit : str
        ``"W"``, ``"VA"`` or ``"V"``; empty where it is no matter of a figure.
    alone : bool
        Whether it exceeds the limit by itself.
    route : str
        ``"ac"`` or the name of the output that it runs on.
    wanted : bool
        Whether it must or should run; else it is only nice to have.
    minute : int
        Median of its first failure.
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
    """Whether a plan holds.

    Attributes
    ----------
    state : str
        ``"covers"`` at the odds wanted, ``"likely"`` from even odds on, or ``"does not"``.
    chance, wanted : float
        Share of draws that hold, and the odds wanted.
    lasts_h : (low, likely, high)
        Hours to the supply's first stop.
    trouble : Trouble or None
        The commonest that comes first; None where nothing fails.
    culprits : tuple of Culprit
        Loads that the supply does not run in most draws, the earliest first.
    chance_without : float
        Share of draws in which all but the culprits hold.
    """

    state: str
    chance: float
    wanted: float
    lasts_h: tuple[float, float, float]
    trouble: Trouble | None
    culprits: tuple[Culprit, ...] = ()
    chance_without: float = 0.0

    @property
    def of_battery(self) -> bool:
        """Whether a larger battery is what it wants."""
        return self.trouble is not None and self.trouble.why not in NOT_OF_BATTERY


def verdict_of(outcome: Outcome) -> Verdict:
    """Judge an outcome."""
    chance, wanted = outcome.chance, outcome.plan.odds
    state = "covers" if chance >= wanted else "likely" if chance >= LIKELY else "does not"
    culprits = _culprits(outcome)
    without = float(np.mean(~_others_fail(outcome, {culprit.load for culprit in culprits})))
    return Verdict(state, chance, wanted, outcome.runtime, _trouble(outcome), culprits, without)


def _culprits(outcome: Outcome) -> tuple[Culprit, ...]:
    culprits = [
        _culprit(outcome, load)
        for load in outcome.plan.loads
        if float(np.mean(outcome.fails(load.name))) > LIKELY
    ]
    return tuple(sorted(culprits, key=lambda culprit: (culprit.minute, culprit.load)))


def _culprit(outcome: Outcome, load: PlanLoad) -> Culprit:
    """What a load that fails in most draws asks for, by its commonest trip."""
    minutes = outcome.failures_by_load[load.name]
    minute = int(np.median(minutes[np.isfinite(minutes)]))
    trip = max(
        (trip for trip in outcome.trips if trip.load == load.name),
        key=lambda trip: trip.chance,
        default=None,
    )
    wanted, chance = not load.may_be_dropped, float(np.mean(outcome.fails(load.name)))
    if trip is None:
        return Culprit(
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
    limit, own, spread = trip.limit_w, load.most_w, max(load.watts_spread, load.spread)
    inverter = outcome.plan.supply.inverter
    if trip.why == "start" and inverter is not None:
        # As it is rated: what a start may pass it by is a matter of luck.
        limit = inverter.surge_va if load.start_s <= inverter.surge_s else inverter.continuous_va
        own, spread = load.start_va, load.start_spread
    elif trip.unit == "VA":
        own /= load.power_factor
    alone = trip.why == "volts" or own > limit
    needs = own if alone and trip.why != "volts" else trip.watts
    # A guess of that spread: its grade is of no matter here.
    more = 0.0 if trip.why == "volts" else Estimate(own, spread, "D").high - own
    return Culprit(
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


def _others_fail(outcome: Outcome, culprits: Set[str]) -> np.ndarray:
    """Draws in which the supply stops, or a wanted load that is no culprit fails, (draws,)."""
    needed_h = outcome.plan.needed_hours - 1e-6
    fails = outcome.stops_by & (outcome.runtime_h < needed_h)
    for load in outcome.plan.loads:
        if load.name not in culprits and not load.may_be_dropped:
            fails = fails | outcome.fails(load.name)
    return fails


def _trouble(outcome: Outcome) -> Trouble | None:
    failures = outcome.failures
    fails = np.flatnonzero(~outcome.holds)
    if not fails.size:
        return None
    kinds = Counter((failures.why[row], failures.load[row]) for row in fails)
    (why, load), count = max(kinds.items(), key=lambda item: (item[1], item[0]))
    mine = [row for row in fails if (failures.why[row], failures.load[row]) == (why, load)]
    minute = int(np.median(failures.minute[mine]))
    return Trouble(why, load, minute, count / len(outcome.runtime_h))


def wanted_peak_w(outcome: Outcome, verdict: Verdict) -> float:
    """Highest AC W of a minute that the plan wants: what the inverter does not carry among it."""
    refused = [
        culprit.needs for culprit in verdict.culprits if culprit.route == AC and culprit.unit == "W"
    ]
    return max([outcome.peak_w, *refused])
