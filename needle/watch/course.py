"""What each load and source of a plan does in every draw, by the quarter hour.

An outage asks many times what would happen if this went off or that came on. Each answer is one sum
over these quarter hours; the forecast of a trial itself goes minute by minute.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from needle.moments import DAY_MIN
from needle.plan.draws.inputs import OUTPUT_IDLE, Inputs
from needle.plan.energy.bank import BLOCK, may_charge
from needle.plan.energy.battery_draws import BatteryDraws, battery_draws
from needle.plan.energy.battery_side import BatterySide
from needle.plan.energy.demand import Demand
from needle.plan.load import AC
from needle.plan.plan import Plan
from needle.supply.inverter import dc_w

QUARTER_MIN = 15
QUARTERS_PER_HOUR = 4


@dataclass(frozen=True)
class Course:
    """Powers of a plan by the quarter hour, W, (draws, quarters).

    Attributes
    ----------
    plan : Plan
        The plan as simulated.
    battery : BatteryDraws
        (draws,) each.
    inputs : Inputs
    may_charge : ndarray, (quarters,)
        Share of each quarter hour in which the battery takes anything: lithium not in frost.
    loads_w : dict of str to ndarray
        Mean W of each load on its route, by name, as it runs if nothing trips.
    fed_w : ndarray
        Mean W of sun and chargers, (draws or 1, quarters).
    other_w : ndarray or None, (quarters,)
        Most W of other batteries, until they are empty.
    side : BatterySide
    feeds_ac : ndarray, (quarters,)
        Share of each quarter hour in which the battery feeds AC: no rest, no mains.
    """

    plan: Plan
    battery: BatteryDraws
    inputs: Inputs
    may_charge: np.ndarray
    loads_w: Mapping[str, np.ndarray]
    fed_w: np.ndarray
    other_w: np.ndarray | None
    side: BatterySide
    feeds_ac: np.ndarray

    @property
    def quarters(self) -> int:
        return len(self.feeds_ac)

    def columns(self, first: int, count: int) -> np.ndarray:
        """Places of quarter hours from ``first`` on; after the last one its last day repeats."""
        wanted = first + np.arange(count)
        period = min(DAY_MIN // QUARTER_MIN, self.quarters)
        past = wanted - self.quarters
        return np.where(past < 0, wanted, self.quarters - period + past % period)

    def drawn_w(self, on: Collection[str], rows: np.ndarray, columns: np.ndarray) -> np.ndarray:
        """Demand of some loads at the battery in some draws and quarters, with conversion, W."""
        drawn = np.zeros((len(rows), len(columns)))
        side, inverter = self.side, self.plan.supply.inverter
        on_ac = self._on_route(AC, on)
        if inverter is not None and (on_ac or not inverter.off_unused):
            figures = (_rows(each, rows) for each in (side.idle_w, side.efficiency, side.square))
            dc = np.asarray(dc_w(self._sum_of(on_ac, rows, columns), *figures))
            drawn = drawn + dc * self.feeds_ac[columns]
        for output in self.plan.supply.outputs:
            names = self._on_route(output.name, on)
            watts = self._sum_of(names, rows, columns)
            drawn = drawn + watts / _rows(side.passes[output.name], rows)
            if names or not output.off_unused:
                idle = output.idle_w.value * self.inputs.factor(OUTPUT_IDLE, output.name)
                drawn = drawn + idle[rows][:, None]
        return drawn

    def passes(self, route: str, rows: np.ndarray) -> np.ndarray:
        """Share of what leaves the battery that reaches a load on a route, (rows, 1)."""
        share = self.side.efficiency if route == AC else self.side.passes[route]
        return np.broadcast_to(np.asarray(_rows(share, rows), dtype=float), (len(rows), 1))

    def fed(self, rows: np.ndarray, columns: np.ndarray) -> np.ndarray:
        """W of sun and chargers in some draws and quarters."""
        rows = np.zeros_like(rows) if len(self.fed_w) == 1 else rows
        return np.asarray(self.fed_w[rows][:, columns])

    def _on_route(self, route: str, on: Collection[str]) -> list[str]:
        """Names of loads of a route that are on."""
        return [load.name for load in self.plan.loads if load.route == route and load.name in on]

    def _sum_of(self, names: Sequence[str], rows: np.ndarray, columns: np.ndarray) -> np.ndarray:
        """W of some loads together."""
        total = np.zeros((len(rows), len(columns)))
        for name in names:
            total = total + self.loads_w[name][rows][:, columns]
        return total


def _rows(values: np.ndarray | float, rows: np.ndarray) -> np.ndarray | float:
    """Some draws of a column, (rows, 1); a single figure as it is."""
    if isinstance(values, np.ndarray) and len(values) == 1:
        return values
    return values[rows] if isinstance(values, np.ndarray) else values


@lru_cache(maxsize=4)
def course_of(plan: Plan, draws: int, seed: int = 1) -> Course:
    """The course of a plan with all of its loads; recent ones are cached."""
    demand = Demand(plan, draws, seed)
    loads: dict[str, list[np.ndarray]] = {load.name: [] for load in demand.plan.loads}
    fed = []
    for first in range(0, demand.minutes, BLOCK):
        last = min(demand.minutes, first + BLOCK)
        powers = [
            np.broadcast_to(pattern.power(first, last), (draws, last - first))
            for pattern in demand.patterns
        ]
        sums: dict[str, np.ndarray] = {}
        for pattern, watts in zip(demand.patterns, powers, strict=True):
            name = pattern.load.name
            sums[name] = sums[name] + _quarters(watts) if name in sums else _quarters(watts)
        for name, quarters in sums.items():
            loads[name].append(quarters)
        sources_w, _ = demand.side.offered(first, last)
        fed.append(_quarters(np.zeros((1, last - first)) if sources_w is None else sources_w))
    on, other_w = demand.side.feeds_ac[None].astype(float), demand.side.other_w
    return Course(
        plan=demand.plan,
        battery=battery_draws(demand.plan, demand.inputs),
        inputs=demand.inputs,
        may_charge=_quarters(may_charge(demand.plan, demand.minutes)[None].astype(float))[0],
        loads_w={name: np.concatenate(parts, axis=1) for name, parts in loads.items()},
        fed_w=np.concatenate(fed, axis=1),
        other_w=None if other_w is None else _quarters(other_w[None].astype(float))[0],
        side=demand.side,
        feeds_ac=_quarters(on)[0],
    )


def _quarters(watts: np.ndarray) -> np.ndarray:
    """Means of quarter hours, (draws, quarters); a last part of one counts as one."""
    missing = -watts.shape[1] % QUARTER_MIN
    if missing:
        watts = np.concatenate([watts, np.repeat(watts[:, -1:], missing, axis=1)], axis=1)
    return np.asarray(watts.reshape(len(watts), -1, QUARTER_MIN).mean(axis=2))
