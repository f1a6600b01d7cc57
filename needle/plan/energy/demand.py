"""Demand: the power that a plan's loads need at the battery, in every draw.

Trips do not depend on the battery, so the same demand can be applied to batteries of several sizes.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from needle.decide.starting import overload_as_tried
from needle.message import Message, message
from needle.moments import in_windows
from needle.plan.draws.patterns import Pattern, patterns_of
from needle.plan.draws.shared import SharedPatterns
from needle.plan.energy.bank import BLOCK, MINUTES_PER_HOUR, Bank, Flow
from needle.plan.energy.battery_side import BatterySide
from needle.plan.energy.runs import conditioned, inconsistent_run
from needle.plan.limits.trips import TripSimulator
from needle.plan.load import AC, PlanLoad
from needle.plan.plan import Plan, with_loads
from needle.plan.sources.sun import Sun
from needle.profile.kinds import KINDS
from needle.profile.temperature import WrongSideError, scale_mean

#: Hours that a clock may differ from the sun's before it is asked about.
MOST_CLOCK_H = 2.0


@dataclass(frozen=True)
class Block:
    """A block of minutes, (draws, minutes) each.

    Attributes
    ----------
    first : int
        First minute of the block.
    routes_w : dict of str to ndarray
        Power of all loads on each route, W, without dropped loads.
    drawn_w : ndarray
        Demand at the battery, W, with idle draw and conversion losses.
    starts_w : ndarray or None
        Additional W during start-up surges; None if voltage sag is not simulated.
    sources_w, other_w : ndarray or None
        As :meth:`needle.plan.energy.battery_side.BatterySide.offered`.
    """

    first: int
    routes_w: dict[str, np.ndarray]
    drawn_w: np.ndarray
    starts_w: np.ndarray | None
    sources_w: np.ndarray | None
    other_w: np.ndarray | None

    @property
    def loads_w(self) -> np.ndarray:
        """Power of all loads, W."""
        first, *others = self.routes_w.values()
        return sum(others, first)

    def take(self, rows: np.ndarray) -> Block:
        """The block of some draws."""
        sources = self.sources_w
        return replace(
            self,
            routes_w={route: watts[rows] for route, watts in self.routes_w.items()},
            drawn_w=self.drawn_w[rows],
            starts_w=None if self.starts_w is None else self.starts_w[rows],
            sources_w=sources if sources is None or len(sources) == 1 else sources[rows],
        )

    def part(self, rows: np.ndarray, minutes: slice | np.ndarray, first: int) -> Block:
        """Some minutes of some draws, as a block that begins at ``first``."""

        def cut(values: np.ndarray | None) -> np.ndarray | None:
            return None if values is None else values[:, minutes][rows]

        sources = self.sources_w
        if sources is not None:
            sources = sources[:, minutes] if len(sources) == 1 else cut(sources)
        return Block(
            first=first,
            routes_w={route: watts[:, minutes][rows] for route, watts in self.routes_w.items()},
            drawn_w=self.drawn_w[:, minutes][rows],
            starts_w=cut(self.starts_w),
            sources_w=sources,
            other_w=None if self.other_w is None else self.other_w[minutes],
        )

    def apply_to(self, bank: Bank) -> Flow:
        """Advance a battery through the block and return its flows."""
        return bank.advance(self.first, self.drawn_w, self.sources_w, self.other_w, self.starts_w)


def concatenate(blocks: Sequence[Block]) -> Block:
    """Blocks concatenated in time."""

    def along(name: str) -> np.ndarray | None:
        parts = [getattr(block, name) for block in blocks]
        return None if parts[0] is None else np.concatenate(parts, axis=-1)

    routes = {
        route: np.concatenate([block.routes_w[route] for block in blocks], axis=1)
        for route in blocks[0].routes_w
    }
    drawn_w = along("drawn_w")
    assert drawn_w is not None
    return Block(
        blocks[0].first, routes, drawn_w, along("starts_w"), along("sources_w"), along("other_w")
    )


class Demand:
    """Loads and sources of a plan in every draw, before any battery.

    Attributes
    ----------
    plan : Plan
        The plan, with duties adjusted to its room temperature.
    notices : list of Message
    minutes : int
    inputs : Inputs
    patterns : list of Pattern
    trips : TripSimulator
        Has the trips once :meth:`blocks` is exhausted.
    inconsistent_runs : tuple of int
        Indices of the plan's runs that contradict all draws, and are not used.
    power_of : callable
        As :meth:`needle.plan.draws.patterns.Pattern.power`.
    """

    def __init__(
        self, plan: Plan, draws: int, seed: int = 1, shared: SharedPatterns | None = None
    ) -> None:
        self.plan, self.notices = _in_its_room(_by_its_routes(_with_tried_overload(plan)))
        self.notices += _off_clock(self.plan)
        if plan.spread_factor != 1:
            self.notices.append(message("ranges-follow-runs", factor=plan.spread_factor))
        self.notices += [
            message("of-load", load=load.name, notice=notice)
            for load in self.plan.loads
            for notice in load.notices
        ]
        self.minutes = round(plan.hours * MINUTES_PER_HOUR)
        self.inputs, inconsistent_runs = conditioned(self.plan, draws, seed)
        self.inconsistent_runs = tuple(inconsistent_runs)
        self.notices += [inconsistent_run(self.plan.runs[number]) for number in inconsistent_runs]
        self.notices += _on_stepped_wave(self.plan)
        self.power_of = Pattern.power if shared is None else shared.power
        self.patterns = (
            [
                pattern
                for load in self.plan.loads
                for pattern in patterns_of(load, self.plan, self.minutes, self.inputs)
            ]
            if shared is None
            else shared.patterns(self.plan, self.minutes, self.inputs)
        )
        self.trips = TripSimulator(self.plan, self.patterns, self.inputs)
        self.side = BatterySide(self.plan, self.inputs, self.minutes)

    def blocks(self) -> Iterator[Block]:
        """Yield the plan block by block from its start; may be iterated once."""
        draws = self.inputs.draws
        for first in range(0, self.minutes, BLOCK):
            last = min(self.minutes, first + BLOCK)
            # What is not in use in these minutes, or is dropped for all of them, draws nothing.
            powers = {
                number: self.side.while_on(pattern, self.power_of(pattern, first, last), first)
                for number, pattern in enumerate(self.patterns)
                if pattern.shape[first:last].any() and not self.trips.keeps_off(number, last)
            }
            starts_w = self.trips.settle(first, last - first, powers)
            routes = self.side.routes(self.patterns, powers, draws, last - first)
            nonactive_va = self.side.nonactive_va(self.patterns, powers)
            sources_w, other_w = self.side.offered(first, last)
            yield Block(
                first=first,
                routes_w=routes,
                drawn_w=self.side.drawn_w(routes, first, last, nonactive_va),
                starts_w=starts_w,
                sources_w=sources_w,
                other_w=other_w,
            )
        self._count_unused()

    def _count_unused(self) -> None:
        self.trips.count_unused(round(self.plan.needed_hours * MINUTES_PER_HOUR))

    def failures_by_load(self) -> dict[str, np.ndarray]:
        """Minute at which each load first lacks power, by its name, (draws,).

        A load lacks power when it is dropped, or when it must run and the inverter is off; infinite
        in draws without either. Loads that always have power are not included.
        """
        self._count_unused()
        failures: dict[str, np.ndarray] = {}
        for pattern, minute in zip(self.patterns, self.trips.first_drops_min, strict=True):
            name = pattern.load.name
            if bool(np.isfinite(minute).any()):
                failures[name] = np.minimum(minute, failures.get(name, np.inf))
        rest_min, name = self._must_at_rest()
        if name:
            failures[name] = np.minimum(rest_min, failures.get(name, self._never()))
        return failures

    def _never(self) -> np.ndarray:
        return np.full(self.inputs.draws, np.inf)

    def first_failures(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Minute (infinite: none), reason and load of the first failure not due to the battery."""
        self._count_unused()
        minute = self._never()
        why, load = (np.full(len(minute), "", dtype=object) for _ in range(2))
        for n, pattern in enumerate(self.patterns):
            drop_min = self.trips.first_drops_min[n]
            sooner = drop_min < minute
            if pattern.load.may_be_dropped or not sooner.any():
                continue
            minute[sooner], load[sooner] = drop_min[sooner], pattern.load.name
            why[sooner] = self.trips.first_whys[n][sooner]
        rest_min, name = self._must_at_rest()
        rests = rest_min < minute
        minute[rests], why[rests], load[rests] = rest_min, "rest", name
        return minute, why, load

    def _must_at_rest(self) -> tuple[float, str]:
        """First minute in which a load that must run on AC has no power, as the inverter is off."""
        inverter = self.plan.supply.inverter
        if inverter is None or not inverter.off:
            return np.inf, ""
        off = in_windows(inverter.off, self.plan.start, self.minutes)
        first, name = np.inf, ""
        for pattern in self.patterns:
            if pattern.load.route == AC and pattern.load.must_run:
                at = np.flatnonzero(off & (pattern.shape > 0))
                if at.size and at[0] < first:
                    first, name = float(at[0]), pattern.load.name
        return first, name


def _on_stepped_wave(plan: Plan) -> list[Message]:
    """Notices for motors and drives on a modified sine wave: they may overheat, or not run."""
    inverter = plan.supply.inverter
    if inverter is None or inverter.waveform != "stepped":
        return []
    kinds = [(load.name, KINDS[load.kind]) for load in plan.loads if load.route == AC and load.kind]
    return [
        message("motor-on-modified-sine" if kind.motor else "drive-on-modified-sine", load=name)
        for name, kind in kinds
        if kind.motor or kind.electronic
    ]


def _off_clock(plan: Plan) -> list[Message]:
    """Notices for panels whose longitude does not fit the plan's UTC offset (15° per hour)."""
    offset = plan.start.utcoffset()
    assert offset is not None
    hours = offset.total_seconds() / 3600
    notices = []
    for source in plan.sources:
        if isinstance(source, Sun):
            apart = abs((source.longitude / 15 - hours + 12) % 24 - 12)
            if apart > MOST_CLOCK_H:
                notices.append(
                    message(
                        "sun-off-clock",
                        source=source.name,
                        longitude=source.longitude,
                        hours=apart,
                    )
                )
    return notices


def _with_tried_overload(plan: Plan) -> Plan:
    """The plan with its inverter's overload limit corrected by start tests."""
    inverter = plan.supply.inverter
    if inverter is None:
        return plan
    # It was carried whatever it draws: as much as that may be, three sd above the likely.
    ran = [
        (
            load.draw.running_w * math.exp(3 * load.spreads.watts) + load.tried.beside_w,
            load.tried.ran_s,
            not load.tried.ran,
        )
        for load in plan.loads
        if load.tried is not None and load.tried.ran_s
    ]
    if not ran:
        return plan
    inverter = replace(inverter, overload=overload_as_tried(inverter, ran))
    return replace(plan, supply=replace(plan.supply, inverter=inverter))


def _by_its_routes(plan: Plan) -> Plan:
    """The plan with loads on a DC route without the losses of their AC adapters."""
    return with_loads(plan, lambda load, _: _without_adapter(load))


def _without_adapter(load: PlanLoad) -> PlanLoad:
    if load.route == AC or load.draw.adapter >= 1:
        return load
    left, spread = load.draw.adapter, load.spreads.adapter
    return replace(
        load,
        draw=replace(load.draw.times(left), adapter=1.0),
        use=load.use.times(left),
        spreads=replace(
            load.spreads,
            mean=float(np.hypot(load.spreads.mean, spread)),
            watts=float(np.hypot(load.spreads.watts, spread)),
            task=float(np.hypot(load.spreads.task, spread)),
        ),
    )


def _in_its_room(plan: Plan) -> tuple[Plan, list[Message]]:
    """The plan with duties adjusted from the room where they were measured to where they run."""
    notices = [
        message("of-load", load=load.name, notice=notice)
        for load in sorted(plan.loads, key=lambda load: load.name)
        if (notice := _in_room(load, plan.room_c)[1]) is not None
    ]
    return with_loads(plan, lambda load, room_c: _in_room(load, room_c)[0]), notices


def _in_room(load: PlanLoad, room_c: float | None) -> tuple[PlanLoad, Message | None]:
    """A load as it runs in a room, and a notice."""
    set_c, measured_c = load.thermal.set_c, load.thermal.measured_room_c
    if room_c is None or set_c is None or measured_c is None:
        return load, None
    heats = set_c > measured_c
    try:
        scaling = scale_mean(set_c, measured_c, room_c, heats, load.thermal.measured_set_c)
    except WrongSideError as error:
        return load, message("room-not-corrected", heats=heats, set_c=error.set_c)
    notice = None
    if scaling.factor * load.draw.duty > 1 and load.draw.duty < 1:
        notice = message("never-cycles-off", room_c=room_c)
    moved = replace(
        _scaled(load, scaling.factor),
        thermal=replace(load.thermal, measured_room_c=room_c, measured_set_c=set_c),
        spreads=replace(load.spreads, mean=float(np.hypot(load.spreads.mean, scaling.spread))),
    )
    return moved, notice


def _scaled(load: PlanLoad, factor: float) -> PlanLoad:
    """A load that moves another amount of heat: its duty is scaled, up to continuous running.

    A fixed-speed box draws at most its running watts; the watts of a variable-speed one (which
    counts as never cycling) are scaled.
    """
    if load.draw.duty >= 1:
        settings = tuple(
            replace(setting, running_w=setting.running_w * factor) for setting in load.settings
        )
        draw = replace(load.draw, running_w=load.draw.running_w * factor)
        return replace(load, draw=draw, settings=settings)
    settings = tuple(
        replace(setting, duty=min(1.0, setting.duty * factor)) for setting in load.settings
    )
    draw = replace(load.draw, duty=min(1.0, load.draw.duty * factor))
    return replace(load, draw=draw, settings=settings)
