"""Running a plan many times over everything that is uncertain, minute by minute.

All draws advance together, in blocks of minutes that fit the processor's cache. A load keeps its
own random stream, whatever else is in the plan.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from needle.decide.starting import Verdict, as_tested, will_it_start
from needle.moments import in_windows
from needle.plan.bank import MINUTES, Bank, Flow
from needle.plan.patterns import Pattern, normals, patterns_of, wanted_wh
from needle.plan.plan import AC, Plan
from needle.plan.sources import ChargeWindow, OtherBattery, Sun, power_w
from needle.plan.trips import Trip, Tripper
from needle.profile.temperature import scale_mean
from needle.supply.inverter import dc_w

#: Random streams set aside for the supply, before those of the loads; after them come the battery's
#: resistance, the outputs' and the sources'.
_SUPPLY_STREAMS = 3
#: Minutes worked on at a time.
BLOCK = 180


@dataclass(frozen=True)
class Start:
    """A load's start in the plan: VA, W of the others at the worst moment, and the verdict."""

    load: str
    start_va: float
    others_w: float
    verdict: Verdict


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
    energy_wh : dict
        Of the likely run: loads (by name), inverter_idle, outputs_idle, conversion, sources,
        battery_out, battery_in, stored_change. Wh.
    by_source_wh : dict
        Wh that each source gave in the likely run.
    fuel_l : float
        Litres that generators burnt for it.
    unserved_wh : dict
        Wh that each load wanted and did not get in the likely run.
    peak_w : float
        Highest AC W of any minute: 90th percentile over draws.
    mean_ac_w : ndarray
        W of all loads in each draw, mean until it stops.
    trips : list of Trip
    starts : list of Start
    curve_h : ndarray
        Hours of the curve's points.
    charge : ndarray
        Share of the real capacity, shape (3, points): 10th, 50th, 90th percentile.
    drawn_w, sources_w : ndarray
        DC W drawn, and W taken from sources, of the likely run in each hour.
    minute_w : ndarray
        AC and DC W of all loads of one draw, by the minute: what a day looks like.
    likely_charge : ndarray
        Share at the end of each minute of the likely run.
    inputs : dict of ndarray
        Standard normal draws by what they vary, for telling which matters most.
    spreads : dict of float
        Relative spread of each of those.
    notices : list of str
    """

    plan: Plan
    runtime_h: np.ndarray
    never_cycles_off_h: float
    stops_by: np.ndarray
    cut_off: np.ndarray
    energy_wh: dict[str, Any]
    by_source_wh: dict[str, float]
    fuel_l: float
    unserved_wh: dict[str, float]
    peak_w: float
    mean_ac_w: np.ndarray
    trips: list[Trip]
    starts: list[Start]
    curve_h: np.ndarray
    charge: np.ndarray
    drawn_w: np.ndarray
    sources_w: np.ndarray
    minute_w: np.ndarray
    likely_charge: np.ndarray
    inputs: dict[str, np.ndarray]
    spreads: dict[str, float]
    notices: list[str] = field(default_factory=list)

    @property
    def runtime(self) -> tuple[float, float, float]:
        """10th, 50th and 90th percentile of the hours."""
        low, mid, high = np.quantile(self.runtime_h, [0.1, 0.5, 0.9])
        return float(low), float(mid), float(high)

    @property
    def chance(self) -> float:
        """Share of draws that last the needed hours."""
        return float(np.mean(self.runtime_h >= self.plan.needed_hours - 1e-6))

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
    minutes = round(plan.hours * MINUTES)
    streams = np.random.default_rng(seed).spawn(_SUPPLY_STREAMS + len(plan.loads) + 1)
    rest = streams[-1].spawn(1 + len(plan.supply.outputs) + len(plan.sources))
    inputs, spreads = _draw_inputs(plan, streams, rest, draws)
    patterns = [
        pattern
        for load, stream in zip(plan.loads, streams[_SUPPLY_STREAMS:-1], strict=True)
        for pattern in patterns_of(load, plan, minutes, inputs[load.name], stream)
    ]
    ohm = plan.supply.battery.internal_ohm
    bank = Bank(
        plan,
        plan.supply.battery.capacity_factor.draws(inputs["battery"]),
        None if ohm is None else ohm.draws(normals(rest[0], draws)),
        _other_wh(plan),
    )
    tripper = Tripper(plan, patterns, draws)
    side = _Side(plan, inputs, minutes)
    marks = _curve_minutes(minutes)
    charge = np.full((draws, len(marks)), plan.supply.battery.start_charge)
    peak, served_w = np.zeros(draws), np.zeros(draws)
    one_w = np.zeros(minutes)
    for first in range(0, minutes, BLOCK):
        last = min(minutes, first + BLOCK)
        powers = [one.power(first, last) * side.on(one, first, last) for one in patterns]
        starting = tripper.settle(first, powers)
        routes = side.routes(patterns, powers, draws, last - first)
        total = sum(routes.values(), np.zeros((draws, last - first), np.float32))
        drawn = side.drawn_w(routes, first, last)
        flow = bank.advance(first, drawn, *side.offered(first, last), starting)
        np.maximum(peak, routes[AC].max(axis=1, initial=0.0), out=peak)
        served_w += (total * (np.arange(first, last) < bank.stop_min[:, None])).sum(axis=1)
        one_w[first:last] = total[0] * flow.served[0]
        inside = (marks > first) & (marks <= last)
        charge[:, inside] = flow.charge[:, marks[inside] - 1 - first]
    stop_min = np.minimum(bank.stop_min, minutes)
    trips = tripper.trips()
    likely = _likely(plan, trips, minutes)
    return Outcome(
        plan=plan,
        runtime_h=np.where(np.isinf(bank.stop_min), plan.hours, bank.stop_min / MINUTES),
        never_cycles_off_h=likely.never_off_h,
        stops_by=np.isfinite(bank.stop_min),
        cut_off=bank.cut_off,
        energy_wh=likely.energy_wh,
        by_source_wh=likely.by_source_wh,
        fuel_l=likely.fuel_l,
        unserved_wh=likely.unserved_wh,
        peak_w=float(np.quantile(peak, 0.9)),
        mean_ac_w=served_w / np.maximum(1.0, np.ceil(stop_min)),
        trips=trips,
        starts=_starts(plan, minutes, patterns),
        curve_h=marks / MINUTES,
        charge=np.quantile(charge, [0.1, 0.5, 0.9], axis=0),
        drawn_w=likely.drawn_w,
        sources_w=likely.sources_w,
        minute_w=one_w,
        likely_charge=likely.charge,
        inputs=inputs,
        spreads=spreads,
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
                duty = load.duty * scaling.factor
                if duty > 1:
                    notices.append(
                        f"{load.name}: in a room of {plan.room_c:g} °C it would never cycle off, "
                        "and may not reach its set point."
                    )
                moved = replace(
                    load,
                    measured_room_c=plan.room_c,
                    measured_set_c=load.set_c,
                    duty=min(1.0, duty),
                    spread=float(np.hypot(load.spread, scaling.spread)),
                )
        loads.append(moved)
    return replace(plan, loads=tuple(loads)), notices


def _draw_inputs(
    plan: Plan,
    streams: Sequence[np.random.Generator],
    rest: Sequence[np.random.Generator],
    draws: int,
) -> tuple[dict[str, np.ndarray], dict[str, float]]:
    """Standard normal draws, and the relative spread, of each thing that is uncertain."""
    supply = plan.supply
    uncertain = [("battery", supply.battery.capacity_factor.spread, streams[0])]
    if supply.inverter is not None:
        uncertain += [
            ("inverter idle", supply.inverter.idle_w.spread, streams[1]),
            ("inverter efficiency", supply.inverter.efficiency.spread, streams[2]),
        ]
    loads = zip(plan.loads, streams[_SUPPLY_STREAMS:-1], strict=True)
    uncertain += [(load.name, load.spread, stream) for load, stream in loads]
    for output, stream in zip(supply.outputs, rest[1:], strict=False):
        uncertain.append((f"{output.name} output", output.efficiency.spread, stream))
    for source, stream in zip(plan.sources, rest[1 + len(supply.outputs) :], strict=True):
        if isinstance(source, Sun):
            uncertain.append((source.name, source.spread, stream))
    inputs = {name: normals(stream, draws) for name, _, stream in uncertain}
    return inputs, {name: spread for name, spread, _ in uncertain}


def _other_wh(plan: Plan) -> float:
    return sum(one.usable_wh for one in plan.sources if isinstance(one, OtherBattery))


class _Side:
    """The battery's side of a plan: what routes ask of it, and what sources offer.

    With no ``inputs`` everything stands at its likely value, in one draw.
    """

    def __init__(self, plan: Plan, inputs: dict[str, np.ndarray] | None, minutes: int) -> None:
        self.plan = plan
        supply = plan.supply
        inverter = supply.inverter
        self.inverter_on = np.ones(minutes, dtype=bool)
        self.idle_w: Any = 0.0
        self.efficiency: Any = 1.0
        self.square: float = 0.0
        if inverter is not None:
            self.inverter_on = ~in_windows(inverter.off, plan.start, minutes)
            self.idle_w, self.efficiency = inverter.idle_w.value, inverter.efficiency.value
            self.square = inverter.square_per_w.value
            if inputs is not None:
                self.idle_w = _column(inverter.idle_w.draws(inputs["inverter idle"]))
                self.efficiency = _column(inverter.efficiency.draws(inputs["inverter efficiency"]))
        self.passes: dict[str, Any] = {
            one.name: one.efficiency.value
            if inputs is None
            else _column(one.efficiency.draws(inputs[f"{one.name} output"]))
            for one in supply.outputs
        }
        self.outputs_idle_w = sum(one.idle_w.value for one in supply.outputs)
        self.steady = [
            (one, power_w(one, plan.start, minutes), self._factor(one, inputs))
            for one in plan.sources
            if not isinstance(one, OtherBattery)
        ]
        others = [one for one in plan.sources if isinstance(one, OtherBattery)]
        self.other_w: np.ndarray | None = None
        if others:
            self.other_w = np.sum([power_w(one, plan.start, minutes) for one in others], axis=0)

    @staticmethod
    def _factor(source: Any, inputs: dict[str, np.ndarray] | None) -> Any:
        if inputs is None or not isinstance(source, Sun):
            return 1.0
        sigma = np.sqrt(np.log1p(source.spread**2))
        return _column(np.exp(inputs[source.name] * sigma))

    def on(self, pattern: Pattern, first: int, last: int) -> np.ndarray | float:
        """Minutes of a block in which a pattern's route is switched on at all."""
        return self.inverter_on[first:last] if pattern.load.route == AC else 1.0

    def routes(
        self, patterns: Sequence[Pattern], powers: Sequence[np.ndarray], draws: int, size: int
    ) -> dict[str, np.ndarray]:
        """W of all loads on each route, (draws, minutes)."""
        found = {AC: np.zeros((draws, size), np.float32)}
        for pattern, watts in zip(patterns, powers, strict=True):
            route = pattern.load.route
            if route not in found:
                found[route] = np.zeros((draws, size), np.float32)
            found[route] += watts
        return found

    def drawn_w(self, routes: dict[str, np.ndarray], first: int, last: int) -> np.ndarray:
        """W asked of the battery's side, idle and conversion included."""
        drawn = np.full(routes[AC].shape, float(self.outputs_idle_w))
        if self.plan.supply.inverter is not None:
            through = np.asarray(dc_w(routes[AC], self.idle_w, self.efficiency, self.square))
            drawn += through * self.inverter_on[first:last]
        for name, watts in routes.items():
            if name != AC:
                drawn += watts / self.passes[name]
        return drawn

    def offered(self, first: int, last: int) -> tuple[np.ndarray | None, np.ndarray | None]:
        """W that sun and chargers offer (draws or 1, minutes), and the most of other batteries."""
        other = None if self.other_w is None else self.other_w[first:last]
        if not self.steady:
            return None, other
        total: Any = 0.0
        for source, watts, factor in self.steady:
            total = total + np.minimum(source.limit_w, watts[None, first:last] * factor)
        return np.atleast_2d(total), other


def _column(values: np.ndarray) -> np.ndarray:
    return values.astype(np.float32)[:, None]


def _curve_minutes(minutes: int) -> np.ndarray:
    """Regular moments, at most some 400 of them: every 5, 10, 15, 30 or 60 min."""
    step = next(size for size in (5, 10, 15, 30, 60) if minutes / size <= 400 or size == 60)
    return np.arange(0, minutes + 1, step)


@dataclass(frozen=True)
class _Likely:
    energy_wh: dict[str, Any]
    by_source_wh: dict[str, float]
    fuel_l: float
    unserved_wh: dict[str, float]
    drawn_w: np.ndarray
    sources_w: np.ndarray
    charge: np.ndarray
    runtime_h: float
    never_off_h: float


def _mean_patterns(plan: Plan, minutes: int) -> list[Pattern]:
    """Each load at its mean, one draw."""
    rng = np.random.default_rng(0)
    found = [patterns_of(one, plan, minutes, np.zeros(1), rng) for one in plan.loads]
    return [pattern.as_mean() for several in found for pattern in several]


def _likely(plan: Plan, trips: Sequence[Trip], minutes: int) -> _Likely:
    """The plan with every load at its mean: where the energy goes.

    A second draw beside it never cycles off. A use that trips in more than half of the draws is
    left out of the first from its usual moment on.
    """
    full = replace(plan, loads=tuple(replace(load, duty=1.0) for load in plan.loads))
    means = _mean_patterns(plan, minutes)
    side = _Side(plan, None, minutes)
    ohm = plan.supply.battery.internal_ohm
    bank = Bank(
        plan,
        np.full(2, plan.supply.battery.capacity_factor.value),
        None if ohm is None else np.full(2, ohm.value),
        _other_wh(plan),
    )
    powers = [
        np.concatenate([one.power(0, minutes), most.power(0, minutes)]) * side.on(one, 0, minutes)
        for one, most in zip(means, _mean_patterns(full, minutes), strict=True)
    ]
    for trip in trips:
        if trip.chance > 0.5:
            for one, watts in zip(means, powers, strict=True):
                if one.load.name == trip.load:
                    watts[0, trip.minute : trip.until_minute] = 0.0
    drawn = side.drawn_w(side.routes(means, powers, 2, minutes), 0, minutes)
    flow = _in_blocks(bank, drawn, side, minutes)
    served = flow.served[0]
    loads: dict[str, float] = {}
    for one, watts in zip(means, powers, strict=True):
        wh = float(watts[0] @ served) / MINUTES
        loads[one.load.name] = loads.get(one.load.name, 0.0) + wh
    idle = float(np.mean(side.idle_w)) * float(served @ side.inverter_on) / MINUTES
    outputs_idle = side.outputs_idle_w * float(served.sum()) / MINUTES
    given = float(drawn[0] @ served) / MINUTES
    by_source, fuel = _by_source(plan, side, flow.sources_w, flow.other_w, minutes)
    wanted = wanted_wh(means)
    out, into = (float(np.sum(one[0])) / MINUTES for one in (flow.out_w, flow.into_w))
    runtime, never_off = (float(one) for one in np.minimum(plan.hours, bank.stop_min / MINUTES))
    return _Likely(
        energy_wh={
            "loads": loads,
            "inverter_idle": idle,
            "outputs_idle": outputs_idle,
            "conversion": given - sum(loads.values()) - idle - outputs_idle,
            "sources": float(flow.sources_w[0].sum()) / MINUTES,
            "battery_out": out,
            "battery_in": into,
            "stored_change": into * plan.supply.battery.charge_efficiency - out,
        },
        by_source_wh=by_source,
        fuel_l=fuel,
        unserved_wh={
            name: wanted[name] - wh for name, wh in loads.items() if wanted[name] - wh > 1e-3
        },
        drawn_w=_hourly(drawn[0] * served),
        sources_w=_hourly(flow.sources_w[0]),
        charge=flow.charge[0],
        runtime_h=runtime,
        never_off_h=never_off,
    )


def _in_blocks(bank: Bank, drawn: np.ndarray, side: _Side, minutes: int) -> Flow:
    """A whole plan through the battery, block by block."""
    flows = [
        bank.advance(first, drawn[:, first : first + BLOCK], *side.offered(first, first + BLOCK))
        for first in range(0, minutes, BLOCK)
    ]
    names = ("charge", "served", "into_w", "out_w", "sources_w", "other_w")
    return Flow(*(np.concatenate([getattr(one, name) for one in flows], axis=1) for name in names))


def _by_source(
    plan: Plan, side: _Side, used_w: np.ndarray, other_w: np.ndarray, minutes: int
) -> tuple[dict[str, float], float]:
    """Wh of each source, what was used in a minute shared by what each offered; and litres."""
    found = {one.name: 0.0 for one in plan.sources}
    fuel = 0.0
    others = [one for one in plan.sources if isinstance(one, OtherBattery)]
    for one in others:
        share = one.usable_wh / sum(other.usable_wh for other in others)
        found[one.name] = float(other_w[0].sum()) / MINUTES * share
    if side.steady:
        offers = [np.minimum(one.limit_w, watts) for one, watts, _ in side.steady]
        total = np.maximum(sum(offers), 1e-9)
        for (source, _, _), offer in zip(side.steady, offers, strict=True):
            wh = float(((used_w[0] - other_w[0]) * offer / total).sum()) / MINUTES
            found[source.name] = wh
            if isinstance(source, ChargeWindow):
                fuel += wh / 1000 * source.litres_per_kwh
    return found, fuel


def _hourly(watts: np.ndarray) -> np.ndarray:
    """Mean W of each hour, the last one over what there is of it."""
    edges = np.arange(0, len(watts), MINUTES)
    sums = np.add.reduceat(watts, edges) if len(watts) else np.zeros(0)
    return sums / np.diff(np.append(edges, len(watts)))


def likely_hours(plan: Plan) -> float:
    """Hours of the plan with every load at its mean and nothing uncertain."""
    return _likely(plan, (), round(plan.hours * MINUTES)).runtime_h


def _starts(plan: Plan, minutes: int, patterns: Sequence[Pattern]) -> list[Start]:
    """Each load's start at the moment when the others in use add up to most."""
    inverter = plan.supply.inverter
    if inverter is None:
        return []
    first: dict[str, Pattern] = {}
    for one in patterns:
        if one.load.route == AC:
            first.setdefault(one.load.name, one)
    in_use = {name: one.shape > 0 for name, one in first.items()}
    running = sum(
        (in_use[name] * (one.load.running_w * one.load.count) for name, one in first.items()),
        np.zeros(minutes),
    )
    found = []
    for name, one in first.items():
        if in_use[name].any():
            load = one.load
            others = max(0.0, float(running[in_use[name]].max()) - load.running_w)
            verdict = will_it_start(load.start_va, load.start_s, load.running_w, others, inverter)
            if load.start_tested:
                verdict = as_tested(verdict, load.start_tested)
            found.append(Start(name, load.start_va, others, verdict))
    return found
