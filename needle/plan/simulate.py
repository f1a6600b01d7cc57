"""Running a plan many times over everything that is uncertain, minute by minute.

All draws advance together: arrays are (draws, minutes). A load keeps its own random stream,
whatever else is in the plan.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from needle.decide.starting import Verdict, as_tested, will_it_start
from needle.plan.patterns import Pattern, normals, patterns_of
from needle.plan.plan import Plan, in_use
from needle.plan.trips import Trip, find_trips
from needle.profile.temperature import scale_mean
from needle.supply.battery import cold_factor
from needle.supply.inverter import dc_w
from needle.supply.voltage import most_w, open_circuit_v

MINUTES = 60
#: Random streams set aside for the supply, before those of the loads.
_SUPPLY_STREAMS = 3


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
        Of the likely run: loads (by name), inverter_idle, conversion, battery_out. Wh.
    unserved_wh : dict
        Wh that each load wanted and did not get in the likely run.
    peak_w : float
        Highest AC W of any minute: 90th percentile over draws.
    mean_ac_w : ndarray
        AC W of all loads in each draw, mean over the likely runtime.
    trips : list of Trip
    starts : list of Start
    curve_h : ndarray
        Hours of the curve's points.
    charge : ndarray
        Share of the real capacity, shape (3, points): 10th, 50th, 90th percentile.
    drawn_w : ndarray
        DC W of the likely run in each hour.
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
    unserved_wh: dict[str, float]
    peak_w: float
    mean_ac_w: np.ndarray
    trips: list[Trip]
    starts: list[Start]
    curve_h: np.ndarray
    charge: np.ndarray
    drawn_w: np.ndarray
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
    *streams, sag = np.random.default_rng(seed).spawn(_SUPPLY_STREAMS + len(plan.loads) + 1)
    minutes = round(plan.hours * MINUTES)
    inputs, spreads = _draw_inputs(plan, streams, draws)
    patterns = [
        pattern
        for load, stream in zip(plan.loads, streams[_SUPPLY_STREAMS:], strict=True)
        for pattern in patterns_of(load, plan, minutes, inputs[load.name], stream, draws)
    ]
    total, trips = _carried(plan, patterns, draws, minutes)
    battery, inverter = plan.supply.battery, plan.supply.inverter
    capacity = _held_wh(plan) * battery.capacity_factor.draws(inputs["battery"])
    peak = total.max(axis=1, initial=0.0)
    drawn = np.full_like(total, sum(one.idle_w.value for one in plan.supply.outputs))
    if inverter is not None:
        idle = inverter.idle_w.draws(inputs["inverter idle"]).astype(np.float32)
        efficiency = inverter.efficiency.draws(inputs["inverter efficiency"]).astype(np.float32)
        drawn += dc_w(total, idle[:, None], efficiency[:, None], inverter.square_per_w.value)
    used = _used_wh(drawn, plan, capacity)
    ohm = None
    if battery.internal_ohm is not None:
        ohm = battery.internal_ohm.draws(normals(sag, draws))
    runtime, stops, cut_off = _first_stop(used, drawn, plan, capacity, ohm)
    curve_h, charge = _curve(used, capacity, plan)
    lasting = max(1, round(float(np.median(runtime)) * MINUTES))
    likely = _likely(plan, trips, minutes)
    return Outcome(
        plan=plan,
        runtime_h=runtime,
        never_cycles_off_h=_never_off(plan, minutes),
        stops_by=stops,
        cut_off=cut_off,
        energy_wh=likely.energy_wh,
        unserved_wh=likely.unserved_wh,
        peak_w=float(np.quantile(peak, 0.9)),
        mean_ac_w=total[:, :lasting].mean(axis=1, dtype=np.float64),
        trips=trips,
        starts=_starts(plan, minutes),
        curve_h=curve_h,
        charge=charge,
        drawn_w=likely.drawn_w,
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
                scaling = scale_mean(load.set_c, load.measured_room_c, plan.room_c, heats)
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
                    duty=min(1.0, duty),
                    spread=float(np.hypot(load.spread, scaling.spread)),
                )
        loads.append(moved)
    return replace(plan, loads=tuple(loads)), notices


def _draw_inputs(
    plan: Plan, streams: Sequence[np.random.Generator], draws: int
) -> tuple[dict[str, np.ndarray], dict[str, float]]:
    inputs = {"battery": normals(streams[0], draws)}
    spreads = {"battery": plan.supply.battery.capacity_factor.spread}
    if plan.supply.inverter is not None:
        inputs["inverter idle"] = normals(streams[1], draws)
        inputs["inverter efficiency"] = normals(streams[2], draws)
        spreads["inverter idle"] = plan.supply.inverter.idle_w.spread
        spreads["inverter efficiency"] = plan.supply.inverter.efficiency.spread
    for load, stream in zip(plan.loads, streams[_SUPPLY_STREAMS:], strict=True):
        inputs[load.name] = normals(stream, draws)
        spreads[load.name] = load.spread
    return inputs, spreads


def _carried(
    plan: Plan, patterns: Sequence[Pattern], draws: int, minutes: int
) -> tuple[np.ndarray, list[Trip]]:
    """AC W that the inverter really carries, and what it dropped."""
    total = np.zeros((draws, minutes), dtype=np.float32)
    for pattern in patterns:
        pattern.add_to(total)
    inverter = plan.supply.inverter
    if inverter is None or not patterns:
        return total, []
    trips = find_trips(total, [(p.load, p.mask > 0, p.watts) for p in patterns], inverter)
    return total, trips


def _used_wh(drawn_w: np.ndarray, plan: Plan, capacity_wh: np.ndarray) -> np.ndarray:
    """Wh taken from the capacity by the end of each minute, shape (draws, minutes).

    Above the rated current Peukert's law makes each ampere-hour cost (I·H/C)^(n-1); below it
    nothing is credited.
    """
    battery = plan.supply.battery
    if battery.peukert_n > 1.0:
        rated_w = (capacity_wh / battery.rated_hours).astype(np.float32)[:, None]
        drawn_w = drawn_w * np.maximum(1.0, drawn_w / rated_w) ** np.float32(battery.peukert_n - 1)
    return np.cumsum(drawn_w, axis=1, dtype=np.float64) / MINUTES


def _held_wh(plan: Plan) -> float:
    """Label Wh, less what the cold takes of it."""
    return plan.supply.battery.nominal_wh * cold_factor(plan.supply.battery, plan.room_c)


def _first_stop(
    used: np.ndarray,
    drawn_w: np.ndarray,
    plan: Plan,
    capacity_wh: np.ndarray,
    ohm: np.ndarray | None,
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Hours to the first stop in each draw, whether there is one, and whether sag is its reason.

    The floor, or sooner the first minute whose draw pulls the terminals under the cut-off.
    """
    battery = plan.supply.battery
    usable = capacity_wh * (battery.start_charge - battery.floor)
    hours, stops = _runtime(used, usable, plan.hours)
    if ohm is None or battery.cutoff_v is None or battery.volts is None:
        return hours, stops, np.zeros_like(stops)
    charge = battery.start_charge - used / capacity_wh[:, None]
    rested = open_circuit_v(battery.chemistry, battery.volts, charge)
    under = drawn_w > most_w(rested, ohm[:, None], battery.cutoff_v)
    at_h = np.where(under.any(axis=1), under.argmax(axis=1) / MINUTES, np.inf)
    cut_off = at_h < hours
    return np.minimum(hours, at_h), stops | cut_off, cut_off


def _runtime(
    used: np.ndarray, usable_wh: np.ndarray, hours: float
) -> tuple[np.ndarray, np.ndarray]:
    """Hours until the usable energy is gone, within the minute by proportion."""
    draws, minutes = used.shape
    whole = np.sum(used < usable_wh[:, None], axis=1)
    stops = whole < minutes
    at = np.minimum(whole, minutes - 1)
    rows = np.arange(draws)
    before = np.where(at > 0, used[rows, np.maximum(at - 1, 0)], 0.0)
    step = used[rows, at] - before
    part = np.divide(usable_wh - before, step, out=np.ones_like(step), where=step > 0)
    return np.where(stops, (at + np.clip(part, 0, 1)) / MINUTES, hours), stops


def _curve(used: np.ndarray, capacity: np.ndarray, plan: Plan) -> tuple[np.ndarray, np.ndarray]:
    """Charge percentiles at regular moments, at most some 300 of them."""
    minutes = used.shape[1]
    step = next(size for size in (5, 10, 15, 30, 60) if minutes / size <= 400 or size == 60)
    ends = np.arange(0, minutes + 1, step)
    battery = plan.supply.battery
    gone = np.where(ends > 0, used[:, np.maximum(ends - 1, 0)], 0.0) / capacity[:, None]
    charge = np.maximum(battery.start_charge - gone, battery.floor)
    return ends / MINUTES, np.quantile(charge, [0.1, 0.5, 0.9], axis=0)


@dataclass(frozen=True)
class _Likely:
    energy_wh: dict[str, Any]
    unserved_wh: dict[str, float]
    drawn_w: np.ndarray
    runtime_h: float


def _likely(plan: Plan, trips: Sequence[Trip], minutes: int) -> _Likely:
    """The plan once, with every load at its mean: where the energy goes.

    A use that trips in more than half of the draws is left out from its usual moment on.
    """
    battery, inverter = plan.supply.battery, plan.supply.inverter
    served: dict[str, np.ndarray] = {}
    wanted: dict[str, float] = {}
    for load in plan.loads:
        watts = in_use(load, plan.start, minutes) * (load.mean_w * load.count)
        wanted[load.name] = float(watts.sum()) / MINUTES
        for trip in trips:
            if trip.load == load.name and trip.chance > 0.5:
                watts[trip.minute : trip.until_minute] = 0.0
        served[load.name] = watts
    total = sum(served.values(), np.zeros(minutes))
    idle = inverter.idle_w.value if inverter else 0.0
    outputs_idle = sum(one.idle_w.value for one in plan.supply.outputs)
    capacity = np.array([_held_wh(plan) * battery.capacity_factor.value])
    through_w = total.copy()
    if inverter is not None:
        figures = (inverter.efficiency.value, inverter.square_per_w.value)
        through_w = np.asarray(dc_w(total, 0.0, *figures))
    drawn = through_w + idle + outputs_idle
    used = _used_wh(drawn[None, :], plan, capacity)
    ohm = None if battery.internal_ohm is None else np.array([battery.internal_ohm.value])
    hours = float(_first_stop(used, drawn[None, :], plan, capacity, ohm)[0][0])
    share = np.clip(hours * MINUTES - np.arange(minutes), 0.0, 1.0) / MINUTES
    loads = {name: float(watts @ share) for name, watts in served.items()}
    out = float(drawn @ share)
    return _Likely(
        energy_wh={
            "loads": loads,
            "inverter_idle": idle * float(share.sum()),
            "outputs_idle": outputs_idle * float(share.sum()),
            "conversion": float((through_w - total) @ share),
            "sources": 0.0,
            "battery_out": out,
            "battery_in": 0.0,
            "stored_change": -out,
        },
        unserved_wh={
            name: max(0.0, wanted[name] - wh)
            for name, wh in loads.items()
            if wanted[name] - wh > 1e-6
        },
        drawn_w=_hourly(drawn * share * MINUTES),
        runtime_h=hours,
    )


def _hourly(watts: np.ndarray) -> np.ndarray:
    """Mean W of each hour, the last one over what there is of it."""
    edges = np.arange(0, len(watts), MINUTES)
    sums = np.add.reduceat(watts, edges) if len(watts) else np.zeros(0)
    return sums / np.diff(np.append(edges, len(watts)))


def likely_hours(plan: Plan) -> float:
    """Hours of the plan with every load at its mean and nothing uncertain."""
    return _likely(plan, (), round(plan.hours * MINUTES)).runtime_h


def _never_off(plan: Plan, minutes: int) -> float:
    """Hours if every load that is in use never cycled off."""
    full = tuple(replace(load, duty=1.0) for load in plan.loads)
    return _likely(replace(plan, loads=full), (), minutes).runtime_h


def _starts(plan: Plan, minutes: int) -> list[Start]:
    """Each load's start at the moment when the others in use add up to most."""
    inverter = plan.supply.inverter
    if inverter is None:
        return []
    masks = [in_use(load, plan.start, minutes) for load in plan.loads]
    running = sum(
        (
            mask * (load.running_w * load.count)
            for mask, load in zip(masks, plan.loads, strict=True)
        ),
        np.zeros(minutes),
    )
    found = []
    for mask, load in zip(masks, plan.loads, strict=True):
        if mask.any():
            others = max(0.0, float(running[mask].max()) - load.running_w)
            verdict = will_it_start(load.start_va, load.start_s, load.running_w, others, inverter)
            if load.start_tested:
                verdict = as_tested(verdict, load.start_tested)
            found.append(Start(load.name, load.start_va, others, verdict))
    return found
