"""The expected course of a trial in every draw of its plan, minute by minute."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from functools import cached_property, lru_cache

import numpy as np

from needle.moments import DAY_MIN
from needle.plan.answering import MOST_DRAWS, draws_for
from needle.plan.draws.inputs import InputKey, draw, normals, stream_of
from needle.plan.energy.bank import BLOCK, MINUTES_PER_HOUR, Bank, peukert_w
from needle.plan.energy.battery_draws import BatteryDraws, battery_draws
from needle.plan.energy.battery_side import other_wh
from needle.plan.energy.demand import Block, Demand, concatenate
from needle.plan.limits.trips import MOSTLY
from needle.plan.plan import Plan
from needle.trial.trial import MOST_H, Trial

#: Where nothing is expected: hours that a full battery is taken to last, and the spread (logarithm)
#: of what is drawn.
BLIND_H, BLIND_SPREAD = 24.0, 1.2
#: Draws times minutes that are kept at the most.
MOST_CELLS = 8.1e6
LEAST_DRAWS = 50
CURVE_POINTS = 97
#: A start for runs of which only watts are expected.
ANY_DAY = datetime(2000, 1, 1, tzinfo=UTC)


@dataclass(frozen=True)
class Expected:
    """The expected course of a trial.

    Attributes
    ----------
    plan : Plan
    battery : BatteryDraws
        (draws,) each.
    demand : Block
        The whole run, (draws, minutes); after its last minute its last day repeats.
    stop_h : ndarray, (draws,)
        Hours to the first stop; the plan's hours if it never stops.
    curve_min : ndarray, (points,)
        Minutes of the points of ``charge``.
    charge : ndarray, (draws, points)
        Expected state of charge, share.
    drops : dict of str to tuple
        Loads that the supply drops at some time: share of the draws, and the most common reason.
    """

    plan: Plan
    battery: BatteryDraws
    demand: Block
    stop_h: np.ndarray
    curve_min: np.ndarray
    charge: np.ndarray
    drops: Mapping[str, tuple[float, str]] = field(default_factory=dict)

    @property
    def draws(self) -> int:
        return len(self.stop_h)

    @property
    def minutes(self) -> int:
        return int(self.demand.drawn_w.shape[1])

    @property
    def mostly_dropped(self) -> dict[str, str]:
        """Loads that the supply drops in most draws: their names and the reason."""
        return {name: why for name, (chance, why) in self.drops.items() if chance > MOSTLY}

    @cached_property
    def log_level(self) -> np.ndarray:
        """Logarithm of each draw's mean demand at the battery in W, (draws,)."""
        return np.asarray(np.log(np.maximum(self.demand.drawn_w.mean(axis=1, dtype=float), 1e-6)))

    @cached_property
    def log_sun(self) -> np.ndarray:
        """Logarithm of each draw's mean source power in W, (draws,); zeros without sources."""
        sources = self.demand.sources_w
        if sources is None:
            return np.zeros(self.draws)
        mean = np.log(np.maximum(sources.mean(axis=1), 1e-6))
        return np.asarray(np.broadcast_to(mean, self.draws))

    @cached_property
    def drawn_wh(self) -> Running:
        """Running sum of the demand at the battery, Wh."""
        return Running(self.demand.drawn_w)

    @cached_property
    def counted_wh(self) -> dict[str, Running]:
        """Running sums on the routes where energy is counted, Wh."""
        return {route: Running(watts) for route, watts in self.demand.routes_w.items()}

    @cached_property
    def costs_wh(self) -> Running:
        """Running sum of the charge used, Wh, with Peukert's law."""
        if self.plan.supply.battery.peukert_n <= 1:
            return self.drawn_wh
        drawn = self.battery
        capacity, n, slow = (
            values[:, None] for values in (drawn.capacity_wh, drawn.peukert_n, drawn.slow)
        )
        battery = self.plan.supply.battery
        return Running(peukert_w(battery, self.demand.drawn_w, capacity, n, slow))

    @cached_property
    def peak_w(self) -> np.ndarray:
        """Highest demand at the battery in each hour, with start-up surges, W, (draws, hours)."""
        starts_w = self.demand.starts_w
        most = self.demand.drawn_w if starts_w is None else self.demand.drawn_w + starts_w
        return np.maximum.reduceat(most, np.arange(0, self.minutes, MINUTES_PER_HOUR), axis=1)

    def is_fed(self, first: int, last: int) -> bool:
        """Whether any source gives power within some minutes."""
        places, sources = self.places(first, last), self.demand.sources_w
        return self.demand.other_w is not None or (
            sources is not None and bool(sources[:, places].any())
        )

    def places(self, first: int, last: int) -> slice | np.ndarray:
        """Columns of the minutes from ``first`` to before ``last``."""
        if last <= self.minutes:
            return slice(first, last)
        return _again(np.arange(first, last), self.minutes)[0]

    def block(self, first: int, last: int, rows: np.ndarray) -> Block:
        """Some minutes of some draws, as a block."""
        return self.demand.part(rows, self.places(first, last), first)

    def bank(self, rows: np.ndarray) -> Bank:
        """The battery at the start, in some draws, with the longest duration of a trial."""
        battery = self.battery.take(rows)
        return Bank(self.plan, battery, int(MOST_H * MINUTES_PER_HOUR) + 1, other_wh(self.plan))


def with_charging(expected: Expected, trial: Trial) -> Expected:
    """The expected course with the charging that was read, if the plan has no sources.

    W in are interpolated between check-ins; after the last one nothing is assumed.
    """
    if expected.plan.sources or expected.demand.sources_w is not None:
        return expected
    hours, watts, last_h, last_wh = [0.0], [0.0], 0.0, 0.0
    for check_in in trial.check_ins:
        if check_in.wh_in is not None and check_in.h > last_h:
            mean = max(0.0, check_in.wh_in - last_wh) / (check_in.h - last_h)
            hours += [last_h + 1e-3, check_in.h]
            watts += [mean, mean]
            last_h, last_wh = check_in.h, check_in.wh_in
        elif check_in.watts_in is not None and check_in.h >= hours[-1]:
            hours.append(check_in.h)
            watts.append(check_in.watts_in)
    if not any(watts):
        return expected
    hour = np.arange(max(expected.minutes, 1)) / MINUTES_PER_HOUR
    sources_w = np.interp(hour, hours, watts, right=0.0)[None]
    return replace(expected, demand=replace(expected.demand, sources_w=sources_w))


class Running:
    """Running sums of powers from the start, Wh; built from W, (draws, minutes)."""

    def __init__(self, watts: np.ndarray) -> None:
        self.minutes = watts.shape[1]
        self.wh = np.zeros((len(watts), self.minutes + 1), np.float32)
        self.wh[:, 1:] = np.cumsum(watts, axis=1, dtype=np.float64) / MINUTES_PER_HOUR

    def between(self, rows: np.ndarray, first: int, last: int) -> np.ndarray:
        """Energy between two minutes in some draws, Wh."""
        return np.asarray(self._by(rows, last) - self._by(rows, first))

    def _by(self, rows: np.ndarray, minute: int) -> np.ndarray:
        if minute <= self.minutes:
            return np.asarray(self.wh[rows, minute].astype(float))
        (place,), (times,) = _again(np.array([minute]), self.minutes)
        whole, period = self.wh[rows, -1].astype(float), min(DAY_MIN, self.minutes)
        day = whole - self.wh[rows, self.minutes - period]
        return np.asarray(whole + (times - 1) * day + self.wh[rows, place] - (whole - day))


def _again(minute: np.ndarray, minutes: int) -> tuple[np.ndarray, np.ndarray]:
    """Position of minutes in a run whose last day repeats, and the number of repetitions."""
    period = min(DAY_MIN, minutes)
    past = minute - minutes
    over = minutes - period + past % period
    return np.where(past < 0, minute, over), np.where(past < 0, 0, past // period + 1)


def expected_of(trial: Trial, draws: int | None = None, seed: int = 1) -> Expected:
    """Return what is expected of a trial: by its plan, or else by the watts that were expected.

    ``draws`` None: as many as the plan's answer has.
    """
    if trial.plan is not None:
        plan = trial.plan_of(trial.on)
        return of_plan(plan, trial.places, draws or draws_for(trial.plan), seed)
    return _of_watts(trial, draws or MOST_DRAWS, seed)


@lru_cache(maxsize=8)
def of_plan(plan: Plan, places: frozenset[str], draws: int, seed: int = 1) -> Expected:
    """A plan's draws and stops, as in :func:`needle.plan.energy.simulate.simulate`.

    Only the routes in ``places`` are kept. Recent results are cached, since a trial is updated
    often.
    """
    draws = int(min(draws, max(LEAST_DRAWS, MOST_CELLS / (plan.hours * MINUTES_PER_HOUR))))
    demand = Demand(plan, draws, seed)
    blocks = [
        replace(
            block, routes_w={route: block.routes_w[route] for route in places & set(block.routes_w)}
        )
        for block in demand.blocks()
    ]
    expected = _expected(demand.plan, battery_draws(demand.plan, demand.inputs), blocks)
    return replace(expected, drops=demand.trips.drops())


def _expected(plan: Plan, battery: BatteryDraws, blocks: Sequence[Block]) -> Expected:
    minutes = sum(block.drawn_w.shape[1] for block in blocks)
    bank = Bank(plan, battery, minutes, other_wh(plan))
    curve_min = np.unique(np.linspace(0, minutes, CURVE_POINTS).round().astype(int))
    charge = np.full((len(battery.capacity_wh), len(curve_min)), plan.supply.battery.start_charge)
    for block in blocks:
        flow = block.apply_to(bank)
        at = curve_min - 1 - block.first
        inside = (at >= 0) & (at < flow.charge.shape[1])
        charge[:, inside] = flow.charge[:, at[inside]]
    stop_h = np.where(np.isinf(bank.stop_min), plan.hours, bank.stop_min / MINUTES_PER_HOUR)
    return Expected(plan, battery, concatenate(blocks), stop_h, curve_min, charge)


def _of_watts(trial: Trial, draws: int, seed: int) -> Expected:
    """Expected W at the battery by the hour; each draw has its own level."""
    plan = _without_loads(trial)
    inputs = draw(plan, draws, seed)
    battery = battery_draws(plan, inputs)
    hourly = np.array(trial.expected_w or (float(np.median(battery.capacity_wh)) / BLIND_H,))
    sigma = np.log1p(trial.expected_spread**2) ** 0.5 if trial.expected_w else BLIND_SPREAD
    level = np.exp(sigma * normals(stream_of(seed, InputKey("expected watts")), draws))
    hours = max(len(hourly), 24)
    hourly = np.concatenate([hourly, np.full(hours - len(hourly), hourly.mean())])
    watts = np.repeat(hourly, MINUTES_PER_HOUR).astype(np.float32)
    drawn_w = np.maximum(watts, 0) * level[:, None].astype(np.float32)
    # What was expected may be net of sources.
    sources_w = None if watts.min() >= 0 else np.maximum(-watts, 0)[None]
    blocks = [
        Block(
            first=first,
            routes_w={},
            drawn_w=drawn_w[:, first : first + BLOCK],
            starts_w=None,
            sources_w=None if sources_w is None else sources_w[:, first : first + BLOCK],
            other_w=None,
        )
        for first in range(0, len(watts), BLOCK)
    ]
    once = _expected(replace(plan, hours=float(hours)), battery, blocks)
    return replace(once, stop_h=_stops(once))


def _stops(expected: Expected) -> np.ndarray:
    """Hours to the first stop, however long; a trial's maximum if it never stops."""
    rows = np.arange(expected.draws)
    bank = expected.bank(rows)
    last = int(MOST_H * MINUTES_PER_HOUR)
    for first in range(0, last, BLOCK):
        expected.block(first, min(last, first + BLOCK), rows).apply_to(bank)
        if np.isfinite(bank.stop_min).all():
            break
    return np.minimum(bank.stop_min / MINUTES_PER_HOUR, MOST_H)


def _without_loads(trial: Trial) -> Plan:
    battery = replace(trial.battery, start_charge=trial.start_charge, floor=trial.stop_at)
    supply = replace(trial.supply, battery=battery)
    return Plan(start=ANY_DAY, hours=24.0, needed_hours=24.0, supply=supply, loads=())
