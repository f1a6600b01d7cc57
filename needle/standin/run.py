"""Simulated discharge of a supply: what it shows hour by hour, and its true stop."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from needle.standin.supplies import StandinSupply

_MOST_H = 744
#: What loads draw in each twelfth of an hour over their mean, as some of them cycle.
CYCLE = np.tile([1.7, 0.6, 0.7], 4)


@dataclass(frozen=True)
class StandinRun:
    """A discharge of a simulated supply.

    Attributes
    ----------
    supply : StandinSupply
    hourly_w, sources_w : tuple of float
        Expected W at the battery, and from sources, one per hour; then their mean.
    seed : int
        Seed of the true deviations from that: overall, and of each hour.
    start_charge : float
        True charge at the start, share.
    """

    supply: StandinSupply
    hourly_w: tuple[float, ...]
    seed: int
    start_charge: float = 1.0
    sources_w: tuple[float, ...] = (0.0,)

    def _true_w(self) -> np.ndarray:
        """W in each hour."""
        return self._strayed(self.hourly_w, 31, 0.05, (0.88, 1.14))

    def _given_w(self) -> np.ndarray:
        """W from sources in each hour."""
        return self._strayed(self.sources_w, 37, 0.15, (0.8, 1.15))

    def _strayed(
        self, hourly_w: tuple[float, ...], stream: int, spread: float, levels: tuple[float, float]
    ) -> np.ndarray:
        rng = np.random.default_rng([self.seed, stream])
        level = rng.uniform(*levels)
        hourly = np.array(hourly_w, dtype=float)[:_MOST_H]
        rest = np.full(_MOST_H - len(hourly), hourly.mean())
        strays = np.clip(rng.normal(1.0, spread, _MOST_H), 0.4, 1.6)
        return np.asarray(np.concatenate([hourly, rest]) * level * strays)

    def _net_w(self) -> np.ndarray:
        """Net W in each twelfth of an hour; cycling loads alternate surplus and deficit."""
        drawn_w = self._true_w()[:, None] * CYCLE
        return np.asarray((drawn_w - self._given_w()[:, None]).ravel())

    def gone_wh(self, hour: float) -> float:
        """Energy that really left the battery by an hour, without what was charged, Wh."""
        total = np.concatenate([[0.0], np.cumsum(np.maximum(0.0, self._net_w()))]) / len(CYCLE)
        return float(np.interp(hour, self._moments, total))

    @property
    def _moments(self) -> np.ndarray:
        """Hours of the step boundaries."""
        return np.arange(_MOST_H * len(CYCLE) + 1) / len(CYCLE)

    @cached_property
    def _charges(self) -> np.ndarray:
        """True charge (share) at each step boundary, between empty and full."""
        charge = [self.start_charge]
        for wh in self._net_w() / len(CYCLE):
            charge.append(min(1.0, max(0.0, charge[-1] - wh / self.supply.held_wh)))
        return np.array(charge)

    def shown(self, hour: float) -> float:
        """Displayed charge, share, before rounding."""
        return self.supply.charge_shown(float(np.interp(hour, self._moments, self._charges)))

    def stop_h(self, shown: float) -> float:
        """Hours until the display shows a charge (share); the whole run if it never does."""
        charge, wanted = self._charges, self.supply.true_charge(shown)
        under = np.flatnonzero(charge <= wanted + 1e-12)
        if not under.size or under[0] == 0:
            return float(_MOST_H)
        at = int(under[0])
        part = float((wanted - charge[at]) / (charge[at - 1] - charge[at]))
        return (at - part) / len(CYCLE)

    def seen(self, hour: float) -> dict[str, Any]:
        """A check-in as a person writes it: percent, present W, Wh counted, hours promised.

        With sources, W in as well.
        """
        rng = np.random.default_rng([self.seed, round(hour * 100)])
        watts = self._true_w()[min(int(hour), _MOST_H - 1)] * rng.uniform(0.4, 1.9)
        shown = self.shown(hour)
        gain = 1 + np.random.default_rng([self.seed, 2]).uniform(-0.01, 0.01)
        given = self._given_w()[min(int(hour), _MOST_H - 1)]
        sun = {"watts_in": float(round(given * rng.uniform(0.8, 1.2)))} if given >= 1 else {}
        return {
            **sun,
            "percent": float(round(100 * shown)),
            "watts": float(round(watts)),
            "wh": float(round(self.gone_wh(hour) * gain)),
            "display_h": round(shown * self.supply.held_wh / max(1.0, watts), 1),
        }
