"""Running a plan many times over everything that is uncertain, minute by minute.

All draws advance together, in blocks of minutes that fit the processor's cache.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from needle.decide.starting import Verdict, as_tested, will_it_start
from needle.moments import in_windows
from needle.plan.bank import BLOCK, MINUTES_PER_HOUR, Bank, battery_draws
from needle.plan.likely import likely_run
from needle.plan.patterns import Pattern, patterns_of
from needle.plan.plan import AC, Plan, PlanLoad
from needle.plan.runs import conditioned
from needle.plan.side import BatterySide, other_wh
from needle.plan.trips import Trip, Tripper
from needle.plan.uncertain import Inputs
from needle.profile.temperature import scale_mean


@dataclass(frozen=True)
class PlannedStart:
    """A load's start in the plan: VA, W of the others at the worst moment, and the verdict."""

    load: str
    start_va: float
    others_w: float
    verdict: Verdict


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
    notices : list of str
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
    notices: list[str] = field(default_factory=list)

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
    plan, notices = _in_its_room(plan)
    minutes = round(plan.hours * MINUTES_PER_HOUR)
    inputs, misfits = conditioned(plan, draws, seed)
    notices += misfits
    patterns = [
        pattern for load in plan.loads for pattern in patterns_of(load, plan, minutes, inputs)
    ]
    bank = Bank(plan, battery_draws(plan, inputs), minutes, other_wh(plan))
    tripper = Tripper(plan, patterns, draws)
    side = BatterySide(plan, inputs, minutes)
    marks = _curve_minutes(minutes)
    charge = np.full((draws, len(marks)), plan.supply.battery.start_charge)
    peak, served_w = np.zeros(draws), np.zeros(draws)
    every_w = np.zeros((draws, minutes), np.float32)
    for first in range(0, minutes, BLOCK):
        last = min(minutes, first + BLOCK)
        powers = [
            pattern.power(first, last) * side.on(pattern, first, last) for pattern in patterns
        ]
        starting = tripper.settle(first, powers)
        routes = side.routes(patterns, powers, draws, last - first)
        total = sum(routes.values(), np.zeros((draws, last - first), np.float32))
        drawn = side.drawn_w(routes, first, last)
        flow = bank.advance(first, drawn, *side.offered(first, last), starting)
        np.maximum(peak, routes[AC].max(axis=1, initial=0.0), out=peak)
        served_w += (total * (np.arange(first, last) < bank.stop_min[:, None])).sum(axis=1)
        every_w[:, first:last] = total * flow.served
        inside = (marks > first) & (marks <= last)
        charge[:, inside] = flow.charge[:, marks[inside] - 1 - first]
    stop_min = np.minimum(bank.stop_min, minutes)
    usual = int(np.argmin(np.abs(stop_min - np.median(stop_min))))
    trips = tripper.trips()
    likely = likely_run(plan, trips, minutes)
    return Outcome(
        plan=plan,
        runtime_h=np.where(np.isinf(bank.stop_min), plan.hours, bank.stop_min / MINUTES_PER_HOUR),
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
        starts=_starts(plan, minutes, patterns),
        curve_h=marks / MINUTES_PER_HOUR,
        charge=np.quantile(charge, [0.1, 0.5, 0.9], axis=0),
        drawn_w=likely.drawn_w,
        sources_w=likely.sources_w,
        minute_w=every_w[usual].copy(),
        likely_charge=likely.charge,
        inputs=inputs,
        failures=_failures(plan, bank, tripper, minutes),
        notices=notices,
    )


def _in_its_room(plan: Plan) -> tuple[Plan, list[str]]:
    """Carry duties from the room where they were measured to the plan's room."""
    loads, notices = [], []
    for load in plan.loads:
        moved = load
        if None not in (plan.room_c, load.set_c, load.measured_room_c):
            assert plan.room_c is not None and load.set_c is not None
            assert load.measured_room_c is not None
            heats = load.set_c > load.measured_room_c
            try:
                scaling = scale_mean(
                    load.set_c, load.measured_room_c, plan.room_c, heats, load.measured_set_c
                )
            except ValueError as error:
                notices.append(f"{load.name}: not corrected for the room: {error}.")
            else:
                moved = _scaled(load, scaling.factor)
                if scaling.factor * load.duty > 1 and load.duty < 1:
                    notices.append(
                        f"{load.name}: in a room of {plan.room_c:g} °C it would never cycle off, "
                        "and may not reach its set point."
                    )
                moved = replace(
                    moved,
                    measured_room_c=plan.room_c,
                    measured_set_c=load.set_c,
                    spread=float(np.hypot(load.spread, scaling.spread)),
                )
        loads.append(moved)
    return replace(plan, loads=tuple(loads)), notices


def _scaled(load: PlanLoad, factor: float) -> PlanLoad:
    """A load that moves another share of heat: by its duty, up to never pausing.

    A box that runs at a fixed speed cannot draw more than running; one whose watts follow the need
    (which counts as never pausing) draws more.
    """
    if load.duty >= 1:
        return replace(load, running_w=load.running_w * factor)
    return replace(load, duty=min(1.0, load.duty * factor))


def _failures(plan: Plan, bank: Bank, tripper: Tripper, minutes: int) -> Failures:
    """The earliest of each draw's stop, drop, and must that has no power at rest."""
    minute = bank.stop_min.copy()
    why = np.where(bank.cut_off, "cutoff", "empty").astype(object)
    load = np.full(len(minute), "", dtype=object)
    drops = tripper.first_drop_min < minute
    names = np.array([pattern.load.name for pattern in tripper.patterns] or [""], dtype=object)
    minute[drops], why[drops] = tripper.first_drop_min[drops], tripper.first_why[drops]
    load[drops] = names[tripper.first_drop[drops]]
    rest_min, name = _must_at_rest(plan, tripper.patterns, minutes)
    rests = rest_min < minute
    minute[rests], why[rests], load[rests] = rest_min, "rest", name
    return Failures(minute, why, load)


def _must_at_rest(plan: Plan, patterns: Sequence[Pattern], minutes: int) -> tuple[float, str]:
    """First minute at which what must run on AC wants power while the inverter rests; and which."""
    inverter = plan.supply.inverter
    if inverter is None or not inverter.off:
        return np.inf, ""
    off = in_windows(inverter.off, plan.start, minutes)
    first, name = np.inf, ""
    for pattern in patterns:
        if pattern.load.route == AC and pattern.load.must_run:
            at = np.flatnonzero(off & (pattern.shape > 0))
            if at.size and at[0] < first:
                first, name = float(at[0]), pattern.load.name
    return first, name


def _curve_minutes(minutes: int) -> np.ndarray:
    """Regular moments, at most some 400 of them: every 5, 10, 15, 30 or 60 min."""
    step = next(size for size in (5, 10, 15, 30, 60) if minutes / size <= 400 or size == 60)
    return np.arange(0, minutes + 1, step)


def _starts(plan: Plan, minutes: int, patterns: Sequence[Pattern]) -> list[PlannedStart]:
    """Each load's start at the moment when the others in use add up to most."""
    inverter = plan.supply.inverter
    if inverter is None:
        return []
    first: dict[str, Pattern] = {}
    for pattern in patterns:
        if pattern.load.route == AC:
            first.setdefault(pattern.load.name, pattern)
    in_use = {name: one.shape > 0 for name, one in first.items()}
    running = sum(
        (in_use[name] * (one.load.running_w * one.load.count) for name, one in first.items()),
        np.zeros(minutes),
    )
    starts = []
    for name, one in first.items():
        if in_use[name].any():
            load = one.load
            others = max(0.0, float(running[in_use[name]].max()) - load.running_w)
            verdict = will_it_start(load.start_va, load.start_s, load.running_w, others, inverter)
            if load.start_tested:
                verdict = as_tested(verdict, load.start_tested)
            starts.append(PlannedStart(name, load.start_va, others, verdict))
    return starts
