"""Power at the battery: demand of all routes, and supply of the sources."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from needle.estimate import Estimate
from needle.moments import DAY_MIN, in_windows
from needle.plan.draws.inputs import (
    INVERTER_EFFICIENCY,
    INVERTER_IDLE,
    INVERTER_SQUARE,
    OUTPUT,
    OUTPUT_IDLE,
    SKIES,
    SOURCE,
    InputKey,
    Inputs,
)
from needle.plan.draws.patterns import Pattern
from needle.plan.load import AC
from needle.plan.plan import Plan, carried_by_mains, feeds
from needle.plan.sources.source import Source
from needle.supply.inverter import dc_w


def other_wh(plan: Plan) -> float:
    """Energy that other batteries among the sources hold, Wh."""
    return sum(source.store_wh for source in plan.sources if source.runs_down)


class BatterySide:
    """Power at the battery: demand of all routes, and supply of the sources.

    With likely inputs there is a single draw, with every value at its median.
    """

    def __init__(self, plan: Plan, inputs: Inputs, minutes: int) -> None:
        self.plan = plan
        self._set_inverter(plan, inputs, minutes)
        self._set_outputs(plan, inputs)
        self.steady = [
            (
                source,
                source.power_w(plan.start, minutes).astype(np.float32),
                self._factors(source, inputs, minutes).astype(np.float32),
            )
            for source in plan.sources
            if not source.runs_down
        ]
        others = [source for source in plan.sources if source.runs_down]
        self.other_w: np.ndarray | None = None
        if others:
            self.other_w = np.sum([other.power_w(plan.start, minutes) for other in others], axis=0)

    def _set_inverter(self, plan: Plan, inputs: Inputs, minutes: int) -> None:
        inverter = plan.supply.inverter
        self.inverter_on = np.ones(minutes, dtype=bool)
        #: Minutes in which the battery feeds AC: the inverter is on, and mains do not carry it.
        self.feeds_ac = np.zeros(minutes, dtype=bool)
        self.idle_w: Any = 0.0
        self.efficiency: Any = 1.0
        self.square: Any = 0.0
        if inverter is None:
            return
        self.inverter_on = ~in_windows(inverter.off, plan.start, minutes)
        if inverter.off_unused and not feeds(plan, AC):
            self.inverter_on[:] = False
        self.feeds_ac = self.inverter_on & ~carried_by_mains(plan, minutes)
        self.idle_w = _column(inverter.idle_w, inputs.factor(INVERTER_IDLE))
        self.efficiency = _column(inverter.efficiency, inputs.factor(INVERTER_EFFICIENCY))
        if inverter.square_per_w.value > 0:
            self.square = _column(inverter.square_per_w, inputs.factor(INVERTER_SQUARE))

    def _set_outputs(self, plan: Plan, inputs: Inputs) -> None:
        self.passes: dict[str, Any] = {}
        self.always_idle_w: Any = np.zeros((1, 1), np.float32)
        self.sleeping_idle_w: dict[str, Any] = {}
        for output in plan.supply.outputs:
            name = output.name
            self.passes[name] = _column(output.efficiency, inputs.factor(OUTPUT, name))
            if output.off_unused and not feeds(plan, name):
                continue
            idle_w = _column(output.idle_w, inputs.factor(OUTPUT_IDLE, name))
            if output.off_when_idle:
                self.sleeping_idle_w[name] = idle_w
            else:
                self.always_idle_w = self.always_idle_w + idle_w

    def _factors(self, source: Source, inputs: Inputs, minutes: int) -> np.ndarray:
        """Factors of each calendar day on a source, (draws or 1, days)."""
        days = self._day(minutes - 1) + 1
        normals = inputs.normals.get(InputKey(SOURCE, source.name))
        return source.factors(days, normals, inputs.stream(SKIES, source.name))

    def _day(self, minute: Any) -> Any:
        """Calendar days since the plan's first day."""
        return (self.plan.start.hour * 60 + self.plan.start.minute + minute) // DAY_MIN

    def while_on(self, pattern: Pattern, watts: np.ndarray, first: int) -> np.ndarray:
        """A pattern's power from minute ``first`` on, W, while its route is switched on."""
        on = self.inverter_on[first : first + watts.shape[1]]
        return watts if pattern.load.route != AC or on.all() else watts * on

    def routes(
        self,
        patterns: Sequence[Pattern],
        powers: Mapping[int, np.ndarray],
        draws: int,
        size: int,
    ) -> dict[str, np.ndarray]:
        """Power of all loads on each route, W, (draws, minutes).

        ``powers`` are those of the patterns in use, by their numbers.
        """
        by_route: dict[str, np.ndarray] = {}
        for number, watts in powers.items():
            route = patterns[number].load.route
            if route in by_route:
                by_route[route] += watts
            else:
                by_route[route] = watts.copy()
        for route in (AC, *(pattern.load.route for pattern in patterns)):
            if route not in by_route:
                by_route[route] = np.zeros((draws, size), np.float32)
        return by_route

    def nonactive_va(
        self, patterns: Sequence[Pattern], powers: Mapping[int, np.ndarray]
    ) -> np.ndarray | float:
        """Non-active VA of the loads on AC, (draws, minutes), if inverter losses need them.

        ``powers`` are those of the patterns in use, by their numbers.
        """
        total: np.ndarray | float = 0.0
        if np.ndim(self.square) == 0:
            return total
        for number, watts in powers.items():
            pattern = patterns[number]
            if pattern.load.route == AC and pattern.nonactive is not None:
                mine = watts * pattern.nonactive[:, None]
                total = np.add(total, mine, out=mine)
        return total

    def drawn_w(
        self,
        routes: dict[str, np.ndarray],
        first: int,
        last: int,
        nonactive_va: np.ndarray | float = 0.0,
    ) -> np.ndarray:
        """Demand at the battery, W, with idle draw and conversion losses.

        ``nonactive_va`` is that of all loads on AC.
        """
        drawn = np.zeros(routes[AC].shape, np.float32)
        if self.plan.supply.inverter is not None:
            drawn = np.asarray(
                dc_w(routes[AC], self.idle_w, self.efficiency, self.square, nonactive_va)
            )
            if not self.feeds_ac[first:last].all():
                drawn *= self.feeds_ac[first:last]
        if self.plan.supply.outputs:
            drawn += self.outputs_idle_w(routes)
        for name, watts in routes.items():
            if name != AC:
                drawn += watts / self.passes[name]
        return np.asarray(drawn)

    def outputs_idle_w(self, routes: dict[str, np.ndarray]) -> np.ndarray:
        """Idle draw of all DC and USB outputs, W, (draws or 1, minutes or 1)."""
        idle: np.ndarray = self.always_idle_w
        for name, watts in self.sleeping_idle_w.items():
            if name in routes:
                idle = idle + watts * (routes[name] > 0)
        return idle

    def offered(self, first: int, last: int) -> tuple[np.ndarray | None, np.ndarray | None]:
        """Power of sun and chargers, W, (draws or 1, minutes), and limits of other batteries.

        Minutes after the plan's end are not included.
        """
        last = min(last, len(self.inverter_on))
        other = None if self.other_w is None else self.other_w[first:last]
        if not self.steady:
            return None, other
        total: Any = 0.0
        for source, watts, factors in self.steady:
            days = slice(self._day(first), self._day(last - 1) + 1)
            by_day = factors[:, days]
            if by_day.shape[1] > 1:
                by_day = factors[:, self._day(np.arange(first, last))]
            mine = watts[None, first:last] * by_day
            total = total + np.minimum(source.limit_w, mine)
        return np.atleast_2d(total), other


def _column(estimate: Estimate, factor: np.ndarray) -> np.ndarray:
    """An estimate's draws, (draws, 1)."""
    values = estimate.value * factor
    if estimate.most is not None:
        values = np.minimum(values, estimate.most)
    return values.astype(np.float32)[:, None]
