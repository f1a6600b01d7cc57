"""A stand-in run: what a supply shows hour by hour while it is drawn down, with its true stop."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from needle.standin.supplies import StandinSupply

_MOST_H = 744


@dataclass(frozen=True)
class StandinRun:
    """A run of a stand-in supply.

    Attributes
    ----------
    supply : StandinSupply
    hourly_w : tuple of float
        W at the battery that were expected, an hour each; after the last they go on at their mean.
    seed : int
        Of how far the truth is from that: the level, and each hour by itself.
    start_charge : float
        True charge at the start, share.
    """

    supply: StandinSupply
    hourly_w: tuple[float, ...]
    seed: int
    start_charge: float = 1.0

    def _true_w(self) -> np.ndarray:
        rng = np.random.default_rng([self.seed, 31])
        level = rng.uniform(0.88, 1.14)
        hourly = np.array(self.hourly_w, dtype=float)
        rest = np.full(_MOST_H - len(hourly), hourly.mean())
        strays = np.clip(rng.normal(1.0, 0.05, _MOST_H), 0.7, 1.3)
        return np.asarray(np.concatenate([hourly, rest])[:_MOST_H] * level * strays)

    def gone_wh(self, hour: float) -> float:
        """Wh truly drawn from the battery by an hour, without what was charged."""
        total = np.concatenate([[0.0], np.cumsum(np.maximum(0.0, self._true_w()))])
        return float(np.interp(hour, np.arange(len(total)), total))

    def _charges(self) -> np.ndarray:
        """True charge (share) at the end of each hour: never above full, never below empty."""
        charge = [self.start_charge]
        for watts in self._true_w():
            charge.append(min(1.0, max(0.0, charge[-1] - watts / self.supply.held_wh)))
        return np.array(charge)

    def shown(self, hour: float) -> float:
        """Charge that the display shows, share, before it is rounded."""
        charge = self._charges()
        return self.supply.charge_shown(float(np.interp(hour, np.arange(len(charge)), charge)))

    def stop_h(self, shown: float) -> float:
        """Hours until the display shows a charge (share); all of them where it never does."""
        charge, wanted = self._charges(), self.supply.true_charge(shown)
        under = np.flatnonzero(charge <= wanted + 1e-12)
        if not under.size or under[0] == 0:
            return float(len(charge) - 1)
        at = int(under[0])
        return at - float((wanted - charge[at]) / (charge[at - 1] - charge[at]))

    def seen(self, hour: float) -> dict[str, Any]:
        """What a person writes down: percent, W of the moment, Wh counted, hours promised."""
        rng = np.random.default_rng([self.seed, round(hour * 100)])
        watts = self._true_w()[min(int(hour), _MOST_H - 1)] * rng.uniform(0.4, 1.9)
        shown = self.shown(hour)
        gain = 1 + np.random.default_rng([self.seed, 2]).uniform(-0.01, 0.01)
        return {
            "percent": float(round(100 * shown)),
            "watts": float(round(watts)),
            "wh": float(round(self.gone_wh(hour) * gain)),
            "display_h": round(shown * self.supply.held_wh / max(1.0, watts), 1),
        }
