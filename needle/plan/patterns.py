"""When each load of a plan draws what, in every draw: cycles with random phase, over its use.

Arrays are (draws, minutes). Draws are stratified (McKay, Beckman and Conover 1979, Technometrics
21, 239), so that a few hundred give steady percentiles.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from statistics import NormalDist

import numpy as np

from needle.plan.plan import Plan, PlanLoad, in_use


@lru_cache(maxsize=16)
def _strata(draws: int) -> np.ndarray:
    normal = NormalDist()
    return np.array([normal.inv_cdf((index + 0.5) / draws) for index in range(draws)])


def normals(rng: np.random.Generator, draws: int) -> np.ndarray:
    """Stratified standard normal draws in random order, shape (draws,)."""
    return rng.permutation(_strata(draws))


#: Draws worked on at a time, so that what is worked on stays in the processor's cache.
_BLOCK = 32


@dataclass(frozen=True)
class Pattern:
    """One load (one of its count) over all draws.

    ``duty`` and ``phase`` (shape (draws,)) are None for what never cycles.
    """

    load: PlanLoad
    mask: np.ndarray
    rest_w: np.ndarray
    extra_w: np.ndarray
    duty: np.ndarray | None = None
    phase: np.ndarray | None = None

    def add_to(self, total: np.ndarray) -> None:
        """Add its W to ``total``, shape (draws, minutes), single precision."""
        if self.duty is None or self.phase is None:
            total += np.outer((self.rest_w + self.extra_w).astype(np.float32), self.mask)
            return
        period = np.float32(self.load.cycle_min)
        edges = np.arange(total.shape[1] + 1, dtype=np.float32) / period
        for first in range(0, len(total), _BLOCK):
            rows = slice(first, first + _BLOCK)
            on = _on_share(edges, self.phase[rows, None], self.duty[rows, None], period)
            on *= self.extra_w[rows, None]
            on += self.rest_w[rows, None]
            on *= self.mask
            total[rows] += on

    def watts(self) -> np.ndarray:
        """W, shape (draws, minutes), single precision."""
        watts = np.zeros((len(self.rest_w), len(self.mask)), dtype=np.float32)
        self.add_to(watts)
        return watts


def _on_share(
    edges: np.ndarray, phase: np.ndarray, duty: np.ndarray, period: np.float32
) -> np.ndarray:
    """Share of each minute that a cycling load is on, exactly.

    The on-time up to place x (in cycles) is floor(x)·duty + min(x - floor(x), duty); sampling
    on/off by the minute instead would round every cycle of a draw the same way.
    """
    place = edges + phase
    whole = np.floor(place)
    place -= whole
    np.minimum(place, duty, out=place)
    whole *= duty
    place += whole
    on = np.diff(place, axis=1)
    on *= period
    return np.clip(on, 0.0, 1.0, out=on)


def patterns_of(
    load: PlanLoad,
    plan: Plan,
    minutes: int,
    varied: np.ndarray,
    stream: np.random.Generator,
    draws: int,
) -> list[Pattern]:
    """The on/off of one load in every draw: cycles with random phase, over its use."""
    mask = in_use(load, plan.start, minutes).astype(np.float32)
    factor = np.exp(varied * np.sqrt(np.log1p(load.spread**2)))
    steady = load.duty >= 1.0
    scale = factor if steady else np.ones(draws)
    rest = (load.resting_w * scale).astype(np.float32)
    extra = ((load.running_w - load.resting_w) * scale).astype(np.float32)
    if steady:
        return [Pattern(load, mask, rest, extra)] * load.count
    duty = np.minimum(1.0, load.duty * factor).astype(np.float32)
    places = (np.arange(draws) + 0.5) / draws
    return [
        Pattern(load, mask, rest, extra, duty, stream.permutation(places).astype(np.float32))
        for _ in range(load.count)
    ]
