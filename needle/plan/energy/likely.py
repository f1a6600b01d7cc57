"""The median run of a plan: every load at its mean, nothing uncertain; where the energy goes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from needle.plan.draws.inputs import Inputs, likely
from needle.plan.draws.patterns import Pattern, patterns_of, wanted_wh
from needle.plan.energy.bank import MINUTES_PER_HOUR, Bank, Flow
from needle.plan.energy.battery_draws import battery_draws
from needle.plan.energy.battery_side import BatterySide, other_wh
from needle.plan.limits.trips import Trip
from needle.plan.load import AC, PlanLoad
from needle.plan.plan import Plan


@dataclass(frozen=True)
class Likely:
    """The median run of a plan: every uncertain figure at its median.

    Attributes
    ----------
    until_h : float
        Hours that the energies cover: the needed hours, or until its first stop.
    energy_wh : dict
        Energies in that time, Wh: loads (by name), inverter_idle, outputs_idle, conversion,
        sources, battery_out, battery_in, stored_change.
    by_source_wh : dict
        Wh of each source.
    fuel_l : float
        Fuel that generators burn for it, litres.
    wanted_wh, unserved_wh : dict
        Wh that each load needs over the needed hours, and the part it lacks.
    drawn_w, sources_w : ndarray
        Demand at the battery, and power from sources, in each hour, W.
    charge : ndarray
        State of charge at the end of each minute, share.
    runtime_h : float
        Hours to its first stop; the plan's hours if it never stops.
    never_off_h : float
        The same if no load ever cycled off.
    """

    until_h: float
    energy_wh: dict[str, Any]
    by_source_wh: dict[str, float]
    fuel_l: float
    wanted_wh: dict[str, float]
    unserved_wh: dict[str, float]
    drawn_w: np.ndarray
    sources_w: np.ndarray
    charge: np.ndarray
    runtime_h: float
    never_off_h: float


def _mean_patterns(plan: Plan, minutes: int, inputs: Inputs) -> list[Pattern]:
    """Each load at its mean, as one draw."""
    per_load = [patterns_of(load, plan, minutes, inputs) for load in plan.loads]
    return [pattern.as_mean() for several in per_load for pattern in several]


def _never_off_patterns(
    plan: Plan, means: Sequence[Pattern], minutes: int, inputs: Inputs
) -> list[Pattern]:
    """The same if no load ever cycled off; those that do not cycle are those of ``means``."""
    never_off = replace(plan, loads=tuple(map(_never_off, filter(_cycles, plan.loads))))
    others = iter(_mean_patterns(never_off, minutes, inputs))
    return [next(others) if _cycles(mean.load) else mean for mean in means]


def _cycles(load: PlanLoad) -> bool:
    return load.draw.duty < 1 and not load.use.by_moments


def _without_rest(plan: Plan) -> Plan:
    inverter = plan.supply.inverter
    if inverter is None or not inverter.off:
        return plan
    return replace(plan, supply=replace(plan.supply, inverter=replace(inverter, off=())))


def _never_off(load: PlanLoad) -> PlanLoad:
    return replace(load, draw=replace(load.draw, duty=1.0))


@dataclass(frozen=True)
class _Run:
    """Draws of a plan in which nothing is uncertain, (draws, minutes) each.

    ``powers`` are W of the mean patterns by their numbers, ``drawn_w`` at the battery.
    """

    side: BatterySide
    bank: Bank
    powers: dict[int, np.ndarray]
    routes_w: dict[str, np.ndarray]
    drawn_w: np.ndarray
    flow: Flow


def _run(
    plan: Plan, inputs: Inputs, trips: Sequence[Trip], draws: Sequence[Sequence[Pattern]]
) -> _Run:
    """Run a plan with the patterns of each draw; common trips are left out of the first."""
    means, minutes = draws[0], round(plan.hours * MINUTES_PER_HOUR)
    side = BatterySide(plan, inputs, minutes)
    drawn = battery_draws(plan, replace(inputs, draws=len(draws)))
    bank = Bank(plan, drawn, minutes, other_wh(plan))
    # Few cells, of which sums and differences are told: in double precision.
    powers = {
        number: side.while_on(
            several[0],
            np.concatenate([pattern.power(0, minutes) for pattern in several], dtype=float),
            0,
        )
        for number, several in enumerate(zip(*draws, strict=True))
    }
    _drop_common_trips(trips, means, powers)
    routes_w = side.routes(means, powers, len(draws), minutes)
    drawn_w = side.drawn_w(routes_w, 0, minutes, side.nonactive_va(means, powers))
    flow = bank.advance(0, drawn_w, *side.offered(0, minutes))
    return _Run(side, bank, powers, routes_w, drawn_w, flow)


def likely_run(plan: Plan, trips: Sequence[Trip], minutes: int) -> Likely:
    """Return the run with every load at its mean: where the energy goes.

    A second draw simulates loads that never cycle off. A use that trips in more than half of the
    draws is left out of the first draw from its median moment on.
    """
    inputs = likely(plan)
    means = _mean_patterns(plan, minutes, inputs)
    run = _run(plan, inputs, trips, [means, _never_off_patterns(plan, means, minutes, inputs)])
    side, bank, flow, drawn = run.side, run.bank, run.flow, run.drawn_w
    needed = min(minutes, round(plan.needed_hours * MINUTES_PER_HOUR))
    # Energies are of the hours needed, or to the first stop: what runs after it is another story.
    stop_min = min(float(bank.stop_min[0]), float(needed))
    until = min(needed, int(stop_min) + 1)
    served = flow.served[0, :until]
    loads: dict[str, float] = {}
    got: dict[str, float] = {}
    for number, watts in run.powers.items():
        name = means[number].load.name
        # What mains run meanwhile does not come from the battery.
        on_ac = means[number].load.route == AC
        fed = served * side.feeds_ac[:until] if on_ac else served
        loads[name] = loads.get(name, 0.0) + _wh(watts[0, :until] @ fed)
        got[name] = got.get(name, 0.0) + _wh(watts[0, :needed] @ flow.served[0, :needed])
    idle = float(np.mean(side.idle_w)) * _wh(served @ side.feeds_ac[:until])
    outputs_idle_w = np.broadcast_to(side.outputs_idle_w(run.routes_w)[0], (minutes,))[:until]
    outputs_idle = _wh(outputs_idle_w @ served)
    given = _wh(drawn[0, :until] @ served)
    by_source, fuel = _by_source(
        plan, side, flow.sources_w[:, :until], flow.other_w[:, :until], until
    )
    # What is worked off after a rest was wanted before it.
    rested = _without_rest(plan)
    awake = means if rested is plan else _mean_patterns(rested, minutes, inputs)
    wanted = wanted_wh(awake, needed)
    out, into = (_wh(watts[0, :until].sum(dtype=float)) for watts in (flow.out_w, flow.into_w))
    runtime, never_off = (
        float(hours) for hours in np.minimum(plan.hours, bank.stop_min / MINUTES_PER_HOUR)
    )
    return Likely(
        energy_wh={
            "loads": loads,
            "inverter_idle": idle,
            "outputs_idle": outputs_idle,
            "conversion": given - sum(loads.values()) - idle - outputs_idle,
            "sources": _wh(flow.sources_w[0, :until].sum()),
            "battery_out": out,
            "battery_in": into,
            "stored_change": into * plan.supply.battery.charge_efficiency - out,
        },
        by_source_wh=by_source,
        fuel_l=fuel,
        until_h=stop_min / MINUTES_PER_HOUR,
        wanted_wh=wanted,
        unserved_wh={
            name: wanted[name] - wh for name, wh in got.items() if wanted[name] - wh > 1e-3
        },
        drawn_w=_hourly(drawn[0] * flow.served[0]),
        sources_w=_hourly(flow.sources_w[0]),
        charge=flow.charge[0],
        runtime_h=runtime,
        never_off_h=never_off,
    )


def _drop_common_trips(
    trips: Sequence[Trip], patterns: Sequence[Pattern], powers: Mapping[int, np.ndarray]
) -> None:
    """Set to zero, in place, the uses that trip in more than half of the draws."""
    for trip in trips:
        if trip.chance <= 0.5:
            continue
        for number, watts in powers.items():
            if patterns[number].load.name == trip.load:
                watts[0, trip.minute : trip.until_minute] = 0.0


def _wh(watt_minutes: Any) -> float:
    return float(watt_minutes) / MINUTES_PER_HOUR


def _by_source(
    plan: Plan, side: BatterySide, used_w: np.ndarray, other_w: np.ndarray, minutes: int
) -> tuple[dict[str, float], float]:
    """Wh of each source (in proportion to what each offered in a minute), and litres of fuel."""
    by_source = {source.name: 0.0 for source in plan.sources}
    fuel = 0.0
    stores = [source for source in plan.sources if source.runs_down]
    for store in stores:
        share = store.store_wh / sum(other.store_wh for other in stores)
        by_source[store.name] = float(other_w[0].sum()) / MINUTES_PER_HOUR * share
    if side.steady:
        offers = [np.minimum(source.limit_w, watts[:minutes]) for source, watts, _ in side.steady]
        total = np.maximum(sum(offers), 1e-9)
        for (source, _, _), offer in zip(side.steady, offers, strict=True):
            wh = float(((used_w[0] - other_w[0]) * offer / total).sum()) / MINUTES_PER_HOUR
            by_source[source.name] = wh
            fuel += wh / 1000 * source.litres_per_kwh
    return by_source, fuel


def _hourly(watts: np.ndarray) -> np.ndarray:
    """Mean W of each hour; the last may be shorter."""
    edges = np.arange(0, len(watts), MINUTES_PER_HOUR)
    sums = np.add.reduceat(watts, edges) if len(watts) else np.zeros(0)
    return sums / np.diff(np.append(edges, len(watts)))


def likely_hours(plan: Plan) -> float:
    """Hours of the plan with every load at its mean and nothing uncertain."""
    inputs = likely(plan)
    means = _mean_patterns(plan, round(plan.hours * MINUTES_PER_HOUR), inputs)
    stop_min = float(_run(plan, inputs, (), [means]).bank.stop_min[0])
    return min(plan.hours, stop_min / MINUTES_PER_HOUR)
