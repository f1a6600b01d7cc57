"""A battery's parameters in every random draw."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from needle.plan.draws.inputs import CAPACITY, COLD, PEUKERT, RESISTANCE, SLOW, TAPER, Inputs
from needle.plan.plan import Plan
from needle.supply.battery import SLOW_EXPONENT, Battery, cold_factor, cost_per_wh, rated_share


@dataclass(frozen=True)
class BatteryDraws:
    """Battery parameters in every draw, (draws,) each: Wh, Ω (or None), Peukert's n, taper.

    ``slow`` is the exponent of the law below the rated current; ``takes`` a factor on the power
    that the chemistry accepts near full.
    """

    capacity_wh: np.ndarray
    ohm: np.ndarray | None
    peukert_n: np.ndarray
    slow: np.ndarray
    takes: np.ndarray

    def take(self, rows: np.ndarray, times: np.ndarray | float = 1.0) -> BatteryDraws:
        """The parameters of some draws, with the capacity multiplied by ``times``."""
        ohm = None if self.ohm is None else self.ohm[rows]
        capacity = self.capacity_wh[rows] * times
        return BatteryDraws(capacity, ohm, self.peukert_n[rows], self.slow[rows], self.takes[rows])


def battery_draws(plan: Plan, inputs: Inputs) -> BatteryDraws:
    """Draw a battery's parameters: capacity (with temperature), resistance, Peukert's n, taper."""
    battery = plan.supply.battery
    cold = 1 - (1 - cold_factor(battery, plan.room_c)) * inputs.factor(COLD)
    held = battery.state_of_health.value * inputs.factor(CAPACITY)
    ohm = battery.internal_ohm
    n = 1 + (battery.peukert_n - 1) * inputs.factor(PEUKERT)
    slow = SLOW_EXPONENT * (n - 1) * inputs.factor(SLOW)
    if battery.tested_rate is not None and battery.peukert_n > 1:
        held = held * _as_tested(battery, battery.tested_rate, n, slow)
    return BatteryDraws(
        capacity_wh=battery.nominal_wh * held * np.clip(cold, 0.1, 1.2),
        ohm=None if ohm is None else ohm.value * inputs.factor(RESISTANCE),
        peukert_n=n,
        slow=slow,
        takes=inputs.factor(TAPER),
    )


def _as_tested(battery: Battery, rate: float, n: np.ndarray, slow: np.ndarray) -> np.ndarray:
    """Factor on the rated capacity so that each draw gives at the test's rate what was counted."""
    usual_n = battery.peukert_n
    usual_slow = SLOW_EXPONENT * (usual_n - 1)
    share = battery.state_of_health.value
    given = share / cost_per_wh(rate / share, usual_n, usual_slow)
    return np.asarray(rated_share(float(given), rate, n, slow) / share)
