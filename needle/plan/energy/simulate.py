"""Simulation of a plan in many random draws, minute by minute.

All draws advance together, in blocks of minutes that fit the processor's cache.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from needle.message import Message
from needle.percentiles import median, range_of, ranges_of
from needle.plan.draws.inputs import Inputs
from needle.plan.energy.bank import MINUTES_PER_HOUR, Bank
from needle.plan.energy.battery_draws import battery_draws
from needle.plan.energy.battery_side import other_wh
from needle.plan.energy.demand import Demand
from needle.plan.energy.ends import Failures, first_failures
from needle.plan.energy.likely import Likely, likely_run
from needle.plan.energy.runs import as_conditioned
from needle.plan.energy.turns import fills_of
from needle.plan.limits.starts import PlannedStart, planned_starts
from needle.plan.limits.trips import MOSTLY, Trip
from needle.plan.load import AC
from needle.plan.plan import Plan


# Compared by identity: nobody asks whether two results of simulations are equal.
@dataclass(frozen=True, eq=False)
class Outcome:
    """The result of simulating a plan.

    Attributes
    ----------
    plan : Plan
        The plan as simulated, with duties adjusted to its room temperature.
    runtime_h : ndarray
        Hours to the first stop in each draw; the plan's hours if it never stops.
    stops_by : ndarray of bool
        Draws that stop within the plan's hours.
    cut_off : ndarray of bool
        Draws that stop because the terminal voltage sags below the cut-off.
    peak_w : float
        Highest W of any minute on AC, or on all outputs where there is no inverter: 90th percentile
        over draws.
    mean_ac_w : ndarray
        Mean power of all loads until the stop, W, (draws,).
    trips : list of Trip
    starts : list of PlannedStart
    curve_h : ndarray
        Hours of the points of the charge curve.
    charge : ndarray
        State of charge, share of the real capacity, shape (3, points): 10th, 50th, 90th percentile.
    minute_w : ndarray
        Power of all loads by the minute, W, of the draw nearest to the median hours.
    inputs : Inputs
        The random draws, for ranking what matters most.
    failures : Failures
    failures_by_load : dict
        Minute at which each load first lacks power, by its name, (draws,), infinite if never: it is
        dropped, or must run while the inverter is off. Only loads that ever do.
    notices : list of Message
    inconsistent_runs : tuple of int
        Indices of the plan's runs that contradict all draws, and are not used.
    """

    plan: Plan
    runtime_h: np.ndarray
    stops_by: np.ndarray
    cut_off: np.ndarray
    peak_w: float
    mean_ac_w: np.ndarray
    trips: list[Trip]
    starts: list[PlannedStart]
    curve_h: np.ndarray
    charge: np.ndarray
    minute_w: np.ndarray
    inputs: Inputs
    failures: Failures
    failures_by_load: dict[str, np.ndarray] = field(default_factory=dict)
    notices: list[Message] = field(default_factory=list)
    inconsistent_runs: tuple[int, ...] = ()

    @cached_property
    def likely(self) -> Likely:
        """The median run: its energies, course of charge, and hours."""
        minutes = round(self.plan.hours * MINUTES_PER_HOUR)
        return likely_run(as_conditioned(self.plan, self.inputs), self.trips, minutes)

    @cached_property
    def runtime(self) -> tuple[float, float, float]:
        """10th, 50th and 90th percentile of the hours to the first stop."""
        return range_of(self.runtime_h)

    @property
    def holds(self) -> np.ndarray:
        """Draws in which nothing that must or should run fails within the needed hours."""
        return self.failures.minute >= MINUTES_PER_HOUR * (self.plan.needed_hours - 1e-6)

    @property
    def chance(self) -> float:
        """Share of draws that succeed."""
        return float(np.mean(self.holds))

    def fails(self, load: str) -> np.ndarray:
        """Draws in which a load lacks power within the needed hours, boolean, (draws,)."""
        minute = self.failures_by_load.get(load)
        if minute is None:
            return np.zeros(len(self.runtime_h), dtype=bool)
        return minute < MINUTES_PER_HOUR * (self.plan.needed_hours - 1e-6)

    def mostly_fails(self, load: str) -> bool:
        """Whether a load lacks power in most draws: it cannot run here."""
        return float(np.mean(self.fails(load))) > MOSTLY

    @property
    def capped(self) -> bool:
        """Whether the median runtime is longer than the plan."""
        return self.runtime[1] >= self.plan.hours - 1e-6


def simulate(plan: Plan, draws: int = 400, seed: int = 1) -> Outcome:
    """Simulate a plan in random draws of all its uncertain inputs.

    Parameters
    ----------
    plan : Plan
    draws : int
        Number of draws.
    seed : int
        Seed of the random streams; the same seed gives the same answer.

    Returns
    -------
    Outcome
    """
    demand = Demand(plan, draws, seed)
    plan, minutes = demand.plan, demand.minutes
    bank = Bank(plan, battery_draws(plan, demand.inputs), minutes, other_wh(plan))
    marks = _curve_minutes(minutes)
    charge = np.full((len(marks), draws), plan.supply.battery.start_charge, np.float32)
    peak, served_w = np.zeros(draws), np.zeros(draws)
    every_w: list[np.ndarray] = []
    for block in demand.blocks():
        flow = block.apply_to(bank)
        loads_w = block.loads_w
        first, last = block.first, block.first + loads_w.shape[1]
        on_ac_w = block.routes_w[AC]
        at_once_w = on_ac_w if plan.supply.inverter else loads_w - on_ac_w
        np.maximum(peak, at_once_w.max(axis=1, initial=0.0), out=peak)
        served_w += _sum_before(loads_w, bank.stop_min - first)
        every_w.append(np.multiply(loads_w, flow.served, dtype=np.float32))
        inside = (marks > first) & (marks <= last)
        charge[inside] = flow.charge[:, marks[inside] - 1 - first].T
    stop_min = np.minimum(bank.stop_min, minutes)
    usual = int(np.argmin(np.abs(stop_min - median(stop_min))))
    ranges = ranges_of(charge).astype(float)
    return Outcome(
        plan=plan,
        # Hours that are no whole minutes end within the last one.
        runtime_h=np.minimum(plan.hours, bank.stop_min / MINUTES_PER_HOUR),
        stops_by=np.isfinite(bank.stop_min),
        cut_off=bank.cut_off,
        peak_w=float(np.quantile(peak, 0.9)),
        mean_ac_w=served_w / np.maximum(1.0, np.ceil(stop_min)),
        trips=demand.trips.trips(),
        starts=planned_starts(demand.trips, demand.minutes),
        curve_h=marks / MINUTES_PER_HOUR,
        charge=ranges,
        minute_w=np.concatenate([watts[usual] for watts in every_w]),
        inputs=demand.inputs,
        failures=first_failures(bank, demand),
        failures_by_load=demand.failures_by_load(),
        notices=[*demand.notices, *fills_of(plan, marks / MINUTES_PER_HOUR, ranges)],
        inconsistent_runs=demand.inconsistent_runs,
    )


def _sum_before(watts: np.ndarray, end: np.ndarray) -> np.ndarray:
    """Sum of the minutes that begin before each draw's end, (draws,)."""
    size = watts.shape[1]
    sums = np.where(end > 0, watts.sum(axis=1), 0.0)
    within = np.flatnonzero((end > 0) & (end < size))
    sums[within] = (watts[within] * (np.arange(size) < end[within, None])).sum(axis=1)
    return sums


def _curve_minutes(minutes: int) -> np.ndarray:
    """At most about 400 regular moments: every 5, 10, 15, 30 or 60 min."""
    step = next(size for size in (5, 10, 15, 30, 60) if minutes / size <= 400 or size == 60)
    return np.arange(0, minutes + 1, step)
