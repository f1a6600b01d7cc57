"""What would steady an answer most, and what a supply's display would promise."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from needle.estimate import DEFAULT_SPREAD
from needle.plan.plan import AC, Plan
from needle.plan.simulate import Outcome
from needle.plan.uncertain import MEASURABLE, InputKey
from needle.supply.battery import usable_wh


@dataclass(frozen=True)
class Narrowing:
    """What one better measurement would do to the answer's range.

    Attributes
    ----------
    key : InputKey
        What is measured.
    share : float
        Share of the runtime's variance that it explains.
    range_h, range_h_after : float
        Low to high of the runtime, h: now, and with this known to grade A.
    """

    key: InputKey
    share: float
    range_h: float
    range_h_after: float

    @property
    def what(self) -> str:
        return self.key.words


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
    narrowings = []
    for key, normals in outcome.inputs.normals.items():
        spread = outcome.inputs.spreads[key]
        if key.kind not in MEASURABLE or spread <= DEFAULT_SPREAD["A"] or len(normals) < 3:
            continue
        share = float(np.corrcoef(normals, runtime)[0, 1] ** 2)
        left = 1 - share * (1 - (DEFAULT_SPREAD["A"] / spread) ** 2)
        narrowings.append(Narrowing(key, share, width, width * math.sqrt(left)))
    narrowings.sort(key=lambda one: (one.range_h_after, one.what))
    return [narrowing for narrowing in narrowings if narrowing.share > 0.01]


def display_hours(plan: Plan) -> tuple[float, float] | None:
    """What a supply's display would promise at a resting and at a running moment, h.

    It divides what is left by what is drawn this second; both are believed, and both are wrong.
    None without an inverter.
    """
    inverter = plan.supply.inverter
    if inverter is None:
        return None
    left = usable_wh(plan.supply.battery).value
    always = [load for load in plan.loads if not load.windows and not load.moments]
    resting = sum(
        load.count * (load.running_w if load.duty >= 1 else load.resting_w)
        for load in always
        if load.route == AC
    )
    running = sum(load.count * load.running_w for load in plan.loads if load.route == AC)
    dc = {output.name: output for output in plan.supply.outputs}
    steady_dc = sum(
        load.count * load.running_w / dc[load.route].efficiency.value
        for load in always
        if load.route in dc
    )
    at_rest, at_work = (
        left / max(0.1, inverter.idle_w.value + watts / inverter.efficiency.value + steady_dc)
        for watts in (resting, running)
    )
    return at_rest, at_work
