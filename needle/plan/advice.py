"""What would steady an answer most, and what would make it last longer."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from needle.estimate import DEFAULT_SPREAD
from needle.plan.plan import Plan
from needle.plan.simulate import Outcome, simulate
from needle.supply.battery import usable_wh

#: Draws for comparing a plan with a changed one: same random streams, so few are enough.
PAIRED_DRAWS = 60
MOST_HELPS = 3


@dataclass(frozen=True)
class Narrowing:
    """What one better measurement would do to the answer's range.

    Attributes
    ----------
    what : str
        A load's name, or ``"battery"``, ``"inverter idle"``, ``"inverter efficiency"``.
    share : float
        Share of the runtime's variance that it explains.
    range_h, range_h_after : float
        Low to high of the runtime, h: now, and with this known to grade A.
    """

    what: str
    share: float
    range_h: float
    range_h_after: float


@dataclass(frozen=True)
class Help:
    """A change to the plan and the hours it wins: 10th, 50th and 90th percentile."""

    what: str
    load: str
    low: float
    value: float
    high: float

    def as_range(self) -> dict[str, float]:
        return {"value": self.value, "low": self.low, "high": self.high}


def measure_next(outcome: Outcome) -> list[Narrowing]:
    """Rank what is uncertain by how much of the runtime's spread it explains.

    First-order variance shares by squared correlation, exact for a linear response to independent
    inputs (A. Saltelli et al., "Global Sensitivity Analysis", 2008, ch. 1).
    """
    low, _, high = outcome.runtime
    width = high - low
    runtime = outcome.runtime_h
    if width <= 0 or float(np.std(runtime)) < 1e-9:
        return []
    found = []
    for name, normals in outcome.inputs.items():
        spread = outcome.spreads[name]
        if spread <= DEFAULT_SPREAD["A"] or len(normals) < 3:
            continue
        share = float(np.corrcoef(normals, runtime)[0, 1] ** 2)
        left = 1 - share * (1 - (DEFAULT_SPREAD["A"] / spread) ** 2)
        found.append(Narrowing(name, share, width, width * math.sqrt(left)))
    found.sort(key=lambda one: (-one.share, one.what))
    return [one for one in found if one.share > 0.01]


def hours_won(plan: Plan, changed: Plan) -> tuple[float, float, float]:
    """Hours that a change wins: 10th, 50th and 90th percentile over paired draws."""
    before, after = (_runtimes(one) for one in (plan, changed))
    low, value, high = (float(one) for one in np.quantile(after - before, [0.1, 0.5, 0.9]))
    return low, value, high


@lru_cache(maxsize=8)
def _runtimes(plan: Plan) -> np.ndarray:
    """Hours of each paired draw; kept, since several changes are held against one plan."""
    return simulate(plan, PAIRED_DRAWS).runtime_h


def leave_off(outcome: Outcome) -> list[Help]:
    """Hours won by leaving off each load that is not a must, best first."""
    plan = outcome.plan
    spare = [load for load in plan.loads if load.priority != "must"]
    wh = outcome.energy_wh["loads"]
    spare.sort(key=lambda load: (-wh.get(load.name, 0.0), load.name))
    if not spare or outcome.capped:
        return []
    found = []
    for load in spare[:MOST_HELPS]:
        quiet = tuple(
            replace(one, running_w=0.0, resting_w=0.0, start_va=0.0) if one is load else one
            for one in plan.loads
        )
        low, value, high = hours_won(plan, replace(plan, loads=quiet))
        found.append(Help(f"leave off {load.name}", load.name, low, value, high))
    found.sort(key=lambda one: (-one.value, one.load))
    return [one for one in found if one.value > 0.02]


def display_hours(plan: Plan) -> tuple[float, float] | None:
    """What a supply's display would promise at a resting and at a running moment, h.

    It divides what is left by what is drawn this second; both are believed, and both are wrong.
    None without an inverter.
    """
    inverter = plan.supply.inverter
    if inverter is None:
        return None
    left = usable_wh(plan.supply.battery).value
    resting = sum(
        load.count * (load.running_w if load.duty >= 1 else load.resting_w)
        for load in plan.loads
        if not load.windows
    )
    running = sum(load.count * load.running_w for load in plan.loads)
    at_rest, at_work = (
        left / max(0.1, inverter.idle_w.value + watts / inverter.efficiency.value)
        for watts in (resting, running)
    )
    return at_rest, at_work
