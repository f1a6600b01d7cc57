"""Running a plan many times over everything that is uncertain, minute by minute.

All draws advance together, in blocks of minutes that fit the processor's cache.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from needle.plan.asked import Asked
from needle.plan.bank import MINUTES_PER_HOUR, Bank, battery_draws
from needle.plan.likely import likely_run
from needle.plan.plan import AC, Plan
from needle.plan.runs import as_conditioned
from needle.plan.side import other_wh
from needle.plan.starts import PlannedStart, planned_starts
from needle.plan.trips import Trip
from needle.plan.uncertain import Inputs


@dataclass(frozen=True)
class Failures:
    """What fails first in each draw, (draws,) each: minute (infinite: nothing), why, which load.

    Whys are those of :class:`needle.plan.verdict.Trouble`; the load is empty where the supply
    stops.
    """

    minute: np.ndarray
    why: np.ndarray
    load: np.ndarray


@dataclass(frozen=True)
class Outcome:
    """What a plan comes to.

    Attributes
    ----------
    plan : Plan
        As run: duties carried to the plan's room.
    runtime_h : ndarray
        Hours to the first stop in each draw; the plan's hours where it never stops.
    never_cycles_off_h : float
        Hours if no load ever cycled off.
    stops_by : ndarray of bool
        Draws that stop within the plan's hours.
    cut_off : ndarray of bool
        Those of them that stop because the terminal voltage sags under the cut-off.
    until_h : float
        Hours that the energies speak of: those needed, or to the likely run's first stop.
    energy_wh : dict
        Of the likely run so far: loads (by name), inverter_idle, outputs_idle, conversion, sources,
        battery_out, battery_in, stored_change. Wh.
    by_source_wh : dict
        Wh that each source gave in the likely run so far.
    fuel_l : float
        Litres that generators burnt for it.
    wanted_wh, unserved_wh : dict
        Wh that each load wants over the hours needed, and does not get of it in the likely run.
    peak_w : float
        Highest AC W of any minute: 90th percentile over draws.
    mean_ac_w : ndarray
        W of all loads in each draw, mean until it stops.
    trips : list of Trip
    starts : list of PlannedStart
    curve_h : ndarray
        Hours of the curve's points.
    charge : ndarray
        Share of the real capacity, shape (3, points): 10th, 50th, 90th percentile.
    drawn_w, sources_w : ndarray
        DC W drawn, and W taken from sources, of the likely run in each hour.
    minute_w : ndarray
        AC and DC W of all loads by the minute, of the draw nearest to the likely hours.
    likely_charge : ndarray
        Share at the end of each minute of the likely run.
    inputs : Inputs
        What was drawn, for telling which matters most.
    failures : Failures
    failures_by_load : dict
        Minute at which each load first lacks what it wants, by its name, (draws,), infinite where
        it never does: dropped, or a must while the inverter rests. Without loads that never do.
    notices : list of str
    misfits : tuple of int
        Numbers of the plan's runs that fit nothing, and do not count.
    """

    plan: Plan
    runtime_h: np.ndarray
    never_cycles_off_h: float
    stops_by: np.ndarray
    cut_off: np.ndarray
    until_h: float
    energy_wh: dict[str, Any]
    by_source_wh: dict[str, float]
    fuel_l: float
    wanted_wh: dict[str, float]
    unserved_wh: dict[str, float]
    peak_w: float
    mean_ac_w: np.ndarray
    trips: list[Trip]
    starts: list[PlannedStart]
    curve_h: np.ndarray
    charge: np.ndarray
    drawn_w: np.ndarray
    sources_w: np.ndarray
    minute_w: np.ndarray
    likely_charge: np.ndarray
    inputs: Inputs
    failures: Failures
    failures_by_load: dict[str, np.ndarray] = field(default_factory=dict)
    notices: list[str] = field(default_factory=list)
    misfits: tuple[int, ...] = ()

    @property
    def runtime(self) -> tuple[float, float, float]:
        """10th, 50th and 90th percentile of the hours."""
        low, mid, high = np.quantile(self.runtime_h, [0.1, 0.5, 0.9])
        return float(low), float(mid), float(high)

    @property
    def holds(self) -> np.ndarray:
        """Draws in which nothing that must or should run fails within the needed hours."""
        return self.failures.minute >= MINUTES_PER_HOUR * (self.plan.needed_hours - 1e-6)

    @property
    def chance(self) -> float:
        """Share of draws that hold."""
        return float(np.mean(self.holds))

    def fails(self, load: str) -> np.ndarray:
        """Draws in which a load lacks what it wants within the needed hours, (draws,) booleans."""
        minute = self.failures_by_load.get(load)
        if minute is None:
            return np.zeros(len(self.runtime_h), dtype=bool)
        return minute < MINUTES_PER_HOUR * (self.plan.needed_hours - 1e-6)

    @property
    def capped(self) -> bool:
        """Whether the likely runtime lies beyond the plan's hours."""
        return self.runtime[1] >= self.plan.hours - 1e-6


def simulate(plan: Plan, draws: int = 400, seed: int = 1) -> Outcome:
    """Run a plan over every spread.

    Parameters
    ----------
    plan : Plan
    draws : int
        How many times.
    seed : int
        Of the random streams; the same seed gives the same answer.

    Returns
    -------
    Outcome
    """
    asked = Asked(plan, draws, seed)
    plan, minutes = asked.plan, asked.minutes
    bank = Bank(plan, battery_draws(plan, asked.inputs), minutes, other_wh(plan))
    marks = _curve_minutes(minutes)
    charge = np.full((draws, len(marks)), plan.supply.battery.start_charge)
    peak, served_w = np.zeros(draws), np.zeros(draws)
    every_w = np.zeros((draws, minutes), np.float32)
    for block in asked.blocks():
        flow = block.through(bank)
        loads_w = block.loads_w
        first, last = block.first, block.first + loads_w.shape[1]
        np.maximum(peak, block.routes_w[AC].max(axis=1, initial=0.0), out=peak)
        before_stop = np.arange(first, last) < bank.stop_min[:, None]
        served_w += (loads_w * before_stop).sum(axis=1)
        every_w[:, first:last] = loads_w * flow.served
        inside = (marks > first) & (marks <= last)
        charge[:, inside] = flow.charge[:, marks[inside] - 1 - first]
    stop_min = np.minimum(bank.stop_min, minutes)
    usual = int(np.argmin(np.abs(stop_min - np.median(stop_min))))
    trips = asked.tripper.trips()
    likely = likely_run(as_conditioned(plan, asked.inputs), trips, minutes)
    return Outcome(
        plan=plan,
        # Hours that are no whole minutes end within the last one.
        runtime_h=np.minimum(plan.hours, bank.stop_min / MINUTES_PER_HOUR),
        never_cycles_off_h=likely.never_off_h,
        stops_by=np.isfinite(bank.stop_min),
        cut_off=bank.cut_off,
        until_h=likely.until_h,
        energy_wh=likely.energy_wh,
        by_source_wh=likely.by_source_wh,
        fuel_l=likely.fuel_l,
        wanted_wh=likely.wanted_wh,
        unserved_wh=likely.unserved_wh,
        peak_w=float(np.quantile(peak, 0.9)),
        mean_ac_w=served_w / np.maximum(1.0, np.ceil(stop_min)),
        trips=trips,
        starts=planned_starts(asked),
        curve_h=marks / MINUTES_PER_HOUR,
        charge=np.quantile(charge, [0.1, 0.5, 0.9], axis=0),
        drawn_w=likely.drawn_w,
        sources_w=likely.sources_w,
        minute_w=every_w[usual].copy(),
        likely_charge=likely.charge,
        inputs=asked.inputs,
        failures=_failures(bank, asked),
        failures_by_load=asked.failures_by_load(),
        notices=asked.notices,
        misfits=asked.misfits,
    )


@dataclass(frozen=True)
class Ends:
    """When each draw of a plan first stops and fails, (draws,) each; infinite where it never does.

    Attributes
    ----------
    stops_h : ndarray
        Hours to the supply's first stop; the plan's hours where there is none.
    fails_h : ndarray
        Hours to the first failure of anything that must or should run.
    failures_by_load : dict
        As :attr:`Outcome.failures_by_load` has them, min.
    """

    stops_h: np.ndarray
    fails_h: np.ndarray
    failures_by_load: dict[str, np.ndarray]


def first_ends(plan: Plan, draws: int, seed: int = 1) -> Ends:
    """The ends of a plan's draws, as :func:`simulate` has them, without all the rest."""
    asked = Asked(plan, draws, seed)
    bank = Bank(asked.plan, battery_draws(asked.plan, asked.inputs), asked.minutes, other_wh(plan))
    for block in asked.blocks():
        block.through(bank)
    return Ends(
        np.minimum(plan.hours, bank.stop_min / MINUTES_PER_HOUR),
        _failures(bank, asked).minute / MINUTES_PER_HOUR,
        asked.failures_by_load(),
    )


def _failures(bank: Bank, asked: Asked) -> Failures:
    """The earliest of each draw's stop, drop, and must that has no power at rest."""
    minute, why, load = asked.first_failures()
    stops = bank.stop_min <= minute
    minute[stops] = bank.stop_min[stops]
    why[stops] = np.where(bank.cut_off, "cutoff", "empty")[stops]
    load[stops] = ""
    return Failures(minute, why, load)


def _curve_minutes(minutes: int) -> np.ndarray:
    """Regular moments, at most some 400 of them: every 5, 10, 15, 30 or 60 min."""
    step = next(size for size in (5, 10, 15, 30, 60) if minutes / size <= 400 or size == 60)
    return np.arange(0, minutes + 1, step)
