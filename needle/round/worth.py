"""What knowing something better would leave of a plan's range, on the plan's own draws.

Each uncertain thing's share of the hours is fitted by a parabola of its draws; a measurement that
leaves a share r of its spread shrinks those draws to r times themselves, and the hours follow. All
steps of a round are judged on the same draws, paired (pre-posterior analysis: H. Raiffa and
R. Schlaifer, "Applied Statistical Decision Theory", 1961, ch. 4; the additive fit is ours, and is
held against simulating anew in the tests).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from needle.plan.simulate import Outcome
from needle.plan.uncertain import InputKey

#: Fewest draws that are fitted, and the ridge of the fit, in draws.
_LEAST_DRAWS, _PULL = 30, 10.0
#: Draws for each coefficient from which on all are fitted together.
_APART = 3
#: Standard errors under which a coefficient may be chance.
_DEVIATIONS = 2.5


@dataclass(frozen=True)
class Worth:
    """Hours of each draw, and what each uncertain thing does to them.

    Attributes
    ----------
    hours : ndarray, (draws,)
    bends : dict of InputKey to ndarray, (2,)
        Coefficients of the square and of the line of the thing's normal draws, h.
    normals : mapping of InputKey to ndarray, (draws,)
    """

    hours: np.ndarray
    bends: dict[InputKey, np.ndarray]
    normals: Mapping[InputKey, np.ndarray]

    @cached_property
    def variance(self) -> float:
        """Of the hours, h²."""
        return float(np.var(self.hours))

    def effect(self, key: InputKey, rest: float) -> np.ndarray:
        """Hours that each draw is moved by where a thing's spread is left ``rest`` of itself."""
        if key not in self.bends:
            return np.zeros(len(self.hours))
        square, line = self.bends[key]
        normal = self.normals[key]
        return (rest**2 - 1) * square * (normal**2 - 1) + (rest - 1) * line * normal

    def left(self, rests: Mapping[InputKey, float]) -> tuple[float, float, float]:
        """Hours, low, likely and high, once each of these things is known so much better."""
        hours = self.hours + sum(
            (self.effect(key, rest) for key, rest in rests.items()), np.zeros(len(self.hours))
        )
        low, mid, high = np.quantile(hours, [0.1, 0.5, 0.9])
        return max(0.0, float(low)), float(mid), float(high)

    def taken(self, rests: Mapping[InputKey, float]) -> float:
        """Share of the hours' variance that knowing these things so well takes, 0…1."""
        if self.variance < 1e-12:
            return 0.0
        gone = 0.0
        for key, rest in rests.items():
            if key in self.bends:
                square, line = self.bends[key]
                gone += (1 - rest**2) * line**2 + 2 * (1 - rest**4) * square**2
        return min(1.0, gone / self.variance)


def _beyond_chance(fits: np.ndarray, terms: np.ndarray, centred: np.ndarray) -> np.ndarray:
    """Coefficients that stand out of what chance makes of so many draws; the others are nought."""
    together = len(centred) >= _APART * len(fits)
    free = len(centred) - len(fits) if together else len(centred)
    noise = float(np.sum((centred - terms @ fits) ** 2 if together else centred**2)) / free
    errors = np.sqrt(noise / np.maximum(1e-9, np.sum(terms**2, axis=0)))
    return np.where(np.abs(fits) > _DEVIATIONS * errors, fits, 0.0)


def worth_of(outcome: Outcome) -> Worth:
    """Fit what each uncertain thing does to the hours of an outcome, all of them together."""
    hours, normals = outcome.runtime_h, outcome.inputs.normals
    keys = [key for key in normals if outcome.inputs.spreads.get(key, 0.0) > 0]
    bends = {}
    if float(np.var(hours)) > 1e-12 and len(hours) >= _LEAST_DRAWS and keys:
        terms = np.column_stack(
            [np.column_stack([normals[key] ** 2 - 1, normals[key]]) for key in keys]
        )
        centred = hours - hours.mean()
        if len(hours) >= _APART * terms.shape[1]:
            # A pull towards nothing keeps what chance would fit small.
            pull = _PULL * np.eye(terms.shape[1])
            fits = np.linalg.solve(terms.T @ terms + pull, terms.T @ centred)
        else:
            # Too few draws for all of them together: each by itself.
            fits = (terms.T @ centred) / (np.sum(terms**2, axis=0) + _PULL)
        fits = _beyond_chance(fits, terms, centred).reshape(-1, 2)
        bends = dict(zip(keys, fits, strict=True))
    return Worth(hours, bends, normals)
