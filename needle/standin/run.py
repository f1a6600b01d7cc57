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
        """Wh truly drawn from the battery by an hour."""
        total = np.concatenate([[0.0], np.cumsum(self._true_w())])
        return float(np.interp(hour, np.arange(len(total)), total))

    def shown(self, hour: float) -> float:
        """Charge that the display shows, share, before it is rounded."""
        true = self.start_charge - self.gone_wh(hour) / self.supply.held_wh
        return self.supply.charge_shown(max(0.0, true))

    def stop_h(self, shown: float) -> float:
        """Hours until the display shows a charge (share)."""
        total = np.concatenate([[0.0], np.cumsum(self._true_w())])
        wanted = (self.start_charge - self.supply.true_charge(shown)) * self.supply.held_wh
        return float(np.interp(wanted, total, np.arange(len(total))))

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
