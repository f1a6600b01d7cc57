"""A simulated supply: battery and inverter with hidden true figures."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from needle.supply.display import KNEE, LAST_FIFTH, charge_shown, true_charge
from needle.supply.inverter import dc_w
from needle.supply.supply import Supply

#: Accuracy limit of the meters on both sides, share; half of it is constant, half comes and goes.
METER_LIMIT = 0.01
#: Loads at which the guided efficiency test reads, as shares of the continuous W.
TEST_LOADS = (0.0, 0.05, 0.15, 0.35, 0.7)


@dataclass(frozen=True)
class StandinSupply:
    """True figures of a simulated supply.

    Attributes
    ----------
    held_wh : float
        True capacity, Wh.
    idle_w, output_idle_w : float
        Idle draw of the inverter, and of a DC output, W.
    efficiency, output_efficiency : float
        Marginal efficiencies, shares.
    square_per_w : float
        Square loss, 1/W.
    continuous_w : float
        Continuous rating, W; 0 without an inverter.
    seed : int
    knee : float
        True charge (share) at which the display shows a fifth; 0.2 for a linear display. Below it
        the display falls faster than above.
    """

    held_wh: float
    idle_w: float
    efficiency: float
    square_per_w: float
    output_idle_w: float
    output_efficiency: float
    continuous_w: float
    seed: int
    knee: float = LAST_FIFTH

    def charge_shown(self, charge: float) -> float:
        """Displayed charge for a true charge (shares), before rounding."""
        return float(charge_shown(charge, self.knee))

    def true_charge(self, shown: float) -> float:
        """The true charge (share) behind a displayed one."""
        return float(true_charge(shown, self.knee))

    def _shown(self, true: np.ndarray, side: int) -> np.ndarray:
        rng = np.random.default_rng([self.seed, side])
        half = METER_LIMIT / 2
        gain = 1 + half * rng.uniform(-1, 1) + half * rng.uniform(-1, 1, np.shape(true))
        return np.round(true * gain, 1)

    def paired(self, loads: tuple[float, ...] = TEST_LOADS) -> list[tuple[float, float]]:
        """AC and DC W, read together at several shares of the continuous rating."""
        ac = np.array(loads) * self.continuous_w
        dc = np.asarray(dc_w(ac, self.idle_w, self.efficiency, self.square_per_w))
        shown = zip(self._shown(ac, 0), self._shown(dc, 1), strict=True)
        return [(float(a), float(d)) for a, d in shown]

    def drain_w(self, load_w: float, output: str = "ac") -> float:
        """True W at the battery for W at the load, on a route."""
        if output == "ac":
            return float(dc_w(load_w, self.idle_w, self.efficiency, self.square_per_w))
        return self.output_idle_w + load_w / self.output_efficiency

    def display(self, load_w: float, hours: float, output: str = "ac") -> float:
        """Displayed charge in whole percent (share) some hours after full."""
        gone = self.drain_w(load_w, output) * hours / self.held_wh
        return math.floor(self.charge_shown(max(0.0, 1 - gone)) * 100 + 0.5) / 100

    def hours_to(self, load_w: float, shown: float, output: str = "ac") -> float:
        """Hours from full until the display shows a charge (share)."""
        return self.held_wh * (1 - self.true_charge(shown)) / self.drain_w(load_w, output)

    def drain_log(
        self, load_w: float, end: float, rows: int = 8, output: str = "ac"
    ) -> list[tuple[float, float, float]]:
        """Hours, displayed charge and Wh at the battery, from full to a displayed charge."""
        hours = np.linspace(0, self.hours_to(load_w, end, output), rows)
        counted = (
            self._shown(np.array([1000.0]), 2)[0] / 1000 * self.drain_w(load_w, output) * hours
        )
        return [
            (round(float(h), 2), self.display(load_w, float(h), output), round(float(wh)))
            for h, wh in zip(hours, counted, strict=True)
        ]


def standin_supply(supply: Supply, seed: int) -> StandinSupply:
    """Return a simulated supply of this type; its true figures follow from the seed."""
    rng = np.random.default_rng([seed, 77])
    continuous = supply.inverter.continuous_w if supply.inverter else 0.0
    return StandinSupply(
        held_wh=supply.battery.nominal_wh * rng.uniform(0.80, 0.99),
        idle_w=continuous * rng.uniform(0.005, 0.018),
        efficiency=rng.uniform(0.87, 0.95),
        square_per_w=rng.uniform(0.004, 0.02) / continuous if continuous else 0.0,
        output_idle_w=rng.uniform(0.4, 2.5),
        output_efficiency=rng.uniform(0.84, 0.94),
        continuous_w=continuous,
        seed=seed,
        knee=rng.uniform(*KNEE),
    )
