"""Range of a plan after better knowledge of its inputs, estimated from the plan's own draws.

The effect of each uncertain input on the hours is fitted by a parabola in its normal draws; a
measurement that leaves a share r of its spread multiplies those draws by r, and the hours follow.
All steps of a round are compared on the same draws (pre-posterior analysis: H. Raiffa and R.
Schlaifer, "Applied Statistical Decision Theory", 1961, ch. 4; the additive fit is ours, and tests
compare it with new simulations). Effects too small to be distinguished from chance are computed
from energies: an input with a share of the battery's energy moves the hours by that share of its
spread.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from needle.percentiles import range_of
from needle.plan.advice.measurements import DOUBTFUL
from needle.plan.draws.inputs import (
    INVERTER_IDLE,
    LOAD,
    LOAD_DUTY,
    LOAD_START,
    LOAD_TASK,
    InputKey,
)
from needle.plan.energy.simulate import Outcome
from needle.round.candidate import Count, log_sd

#: Fewest draws that are fitted, and the ridge of the fit, in draws.
_LEAST_DRAWS, _PULL = 30, 10.0
#: Draws for each coefficient from which on all are fitted together.
_APART = 3
#: Standard errors under which a coefficient may be chance.
_DEVIATIONS = 2.5
#: Share of the variance under which quantiles of a few hundred draws tell no difference.
_LITTLE = 0.15
#: Share of the draws that must stop for their energies to tell the hours.
_MOSTLY = 0.9


@dataclass(frozen=True)
class Worth:
    """Hours of each draw, and the effect of each uncertain input on them.

    Attributes
    ----------
    hours : ndarray, (draws,)
    bends : dict of InputKey to ndarray, (2,)
        Coefficients of the square and of the linear term in the input's normal draws, h.
    lines : dict of InputKey to float
        Hours per standard deviation, for effects too small to be fitted.
    normals : mapping of InputKey to ndarray, (draws,)
    doubt : Worth or None
        The same of whether the plan holds, 1 or 0 in place of hours; None if there is little doubt.
    """

    hours: np.ndarray
    bends: dict[InputKey, np.ndarray]
    lines: dict[InputKey, float]
    normals: Mapping[InputKey, np.ndarray]
    doubt: Worth | None = None

    @cached_property
    def variance(self) -> float:
        """Variance of the hours, h²."""
        return float(np.var(self.hours))

    @cached_property
    def width(self) -> float:
        """Width of the hours' range from the 10th to the 90th percentile, h."""
        low, high = np.quantile(self.hours, [0.1, 0.9])
        return float(high - low)

    def effect(self, key: InputKey, rest: float) -> np.ndarray:
        """Change of each draw's hours if a share ``rest`` of an input's spread remains."""
        if key not in self.bends:
            return np.zeros(len(self.hours))
        square, line = self.bends[key]
        normal = self.normals[key]
        return np.asarray((rest**2 - 1) * square * (normal**2 - 1) + (rest - 1) * line * normal)

    def left(
        self, rests: Mapping[InputKey, float], count: Count | None = None
    ) -> tuple[float, float, float]:
        """Hours, low, likely and high, after these inputs are known better.

        Where they take little of the variance, the present range is narrowed like the standard
        deviation: quantiles of draws that have moved differ by chance by as much.

        ``count``: a count of several loads together, in addition.
        """
        share = self.taken(rests, count)
        if share < _LITTLE:
            return _narrowed(self.hours, math.sqrt(1 - share))
        hours = self._hours_after(rests)
        kept = math.sqrt(1 - self._share(self._taken_by_lines(rests)))
        if count is not None and np.var(hours) > 1e-12:
            kept *= math.sqrt(1 - self._taken_by_count(hours, rests, count) / float(np.var(hours)))
        low, high = np.quantile(hours, [0.1, 0.9])
        if high - low > self.width:
            # By the chance of so few draws: nobody knows less for having measured.
            kept *= self.width / (high - low)
        return _narrowed(hours, kept)

    def taken(self, rests: Mapping[InputKey, float], count: Count | None = None) -> float:
        """Share of the hours' variance that this knowledge removes, 0…1.

        ``count``: a count of several loads together, in addition.
        """
        gone = self._taken_by_lines(rests)
        for key, rest in rests.items():
            if key in self.bends:
                square, line = self.bends[key]
                gone += (1 - rest**2) * line**2 + 2 * (1 - rest**4) * square**2
        if count is not None:
            # At least what the count takes by itself: nobody knows less for having measured more.
            more = self._taken_by_count(self._hours_after(rests), rests, count)
            gone = max(gone + more, self._taken_by_count(self.hours, {}, count))
        return self._share(gone)

    def settled(self, rests: Mapping[InputKey, float], count: Count | None = None) -> float:
        """Share of the doubt whether the plan holds that this knowledge removes, 0…1."""
        return self.doubt.taken(rests, count) if self.doubt is not None else 0.0

    def gained(self, rests: Mapping[InputKey, float], count: Count | None = None) -> float:
        """What this knowledge is worth, 0…1: the mean of both shares where the plan is in doubt."""
        narrowed = self.taken(rests, count)
        return narrowed if self.doubt is None else (narrowed + self.settled(rests, count)) / 2

    def _hours_after(self, rests: Mapping[InputKey, float]) -> np.ndarray:
        """Hours of each draw after these inputs are known better."""
        effects = (self.effect(key, rest) for key, rest in rests.items())
        return np.asarray(sum(effects, self.hours))

    def _taken_by_count(
        self, hours: np.ndarray, rests: Mapping[InputKey, float], count: Count
    ) -> float:
        """Variance of the hours that a count removes, h², from their covariance over the draws.

        Information that a load's own measurement already gave is not counted twice.
        """
        counted = sum(
            (
                rests.get(key, 1.0) * move * self.normals[key]
                for key, move in count.moves.items()
                if key in self.normals
            ),
            np.zeros(len(hours)),
        )
        counted, hours = counted - counted.mean(), hours - hours.mean()
        along = float(np.mean(counted * hours))
        return along**2 / (float(np.mean(counted**2)) + count.spread**2)

    def _taken_by_lines(self, rests: Mapping[InputKey, float]) -> float:
        return sum((1 - rest**2) * self.lines.get(key, 0.0) ** 2 for key, rest in rests.items())

    def _share(self, gone: float) -> float:
        """Share of the variance, at most 1."""
        return min(1.0, float(gone) / self.variance) if self.variance > 1e-12 else 0.0


def _narrowed(hours: np.ndarray, kept: float) -> tuple[float, float, float]:
    """Low, likely and high of draws, h, with this share of the range about the median."""
    low, mid, high = range_of(hours)
    return max(0.0, low + (mid - low) * (1 - kept)), mid, high - (high - mid) * (1 - kept)


def _beyond_chance(fits: np.ndarray, terms: np.ndarray, centred: np.ndarray) -> np.ndarray:
    """Coefficients that exceed what chance gives for this number of draws; the others are zero."""
    together = len(centred) >= _APART * len(fits)
    free = len(centred) - len(fits) if together else len(centred)
    noise = float(np.sum((centred - terms @ fits) ** 2 if together else centred**2)) / free
    errors = np.sqrt(noise / np.maximum(1e-9, np.sum(terms**2, axis=0)))
    return np.where(np.abs(fits) > _DEVIATIONS * errors, fits, 0.0)


def worth_of(outcome: Outcome) -> Worth:
    """Fit the effect of each uncertain input on an outcome's hours, all inputs together."""
    hours, normals = outcome.runtime_h, outcome.inputs.normals
    keys = [key for key in normals if outcome.inputs.spreads.get(key, 0.0) > 0]
    bends = _bends(hours, normals, keys)
    lines: dict[InputKey, float] = {}
    if len(hours) >= _LEAST_DRAWS and float(np.var(hours)) > 1e-12:
        lines = {key: line for key, line in _by_energy(outcome).items() if key not in bends}
    return Worth(hours, bends, lines, normals, _doubt(outcome, keys))


def _doubt(outcome: Outcome, keys: Sequence[InputKey]) -> Worth | None:
    """Effect of each input on whether the plan holds; what a start test settles is valued apart."""
    if not DOUBTFUL[0] < outcome.chance < DOUBTFUL[1]:
        return None
    holds, normals = outcome.holds.astype(float), outcome.inputs.normals
    no_starts = [key for key in keys if key.kind != LOAD_START]
    return Worth(holds, _bends(holds, normals, no_starts), {}, normals)


def _bends(
    answers: np.ndarray, normals: Mapping[InputKey, np.ndarray], keys: Sequence[InputKey]
) -> dict[InputKey, np.ndarray]:
    """Coefficients of those inputs whose effect on each draw's answer is beyond chance."""
    if not keys or len(answers) < _LEAST_DRAWS or float(np.var(answers)) <= 1e-12:
        return {}
    fits = _fitted(answers - answers.mean(), [normals[key] for key in keys])
    return {key: fit for key, fit in zip(keys, fits, strict=True) if fit.any()}


def _fitted(centred: np.ndarray, normals: Sequence[np.ndarray]) -> np.ndarray:
    """Coefficients of square and linear term of each input, zero if within chance, (inputs, 2)."""
    terms = np.column_stack([np.column_stack([normal**2 - 1, normal]) for normal in normals])
    if len(centred) >= _APART * terms.shape[1]:
        # A pull towards nothing keeps what chance would fit small.
        pull = _PULL * np.eye(terms.shape[1])
        fits = np.linalg.solve(terms.T @ terms + pull, terms.T @ centred)
    else:
        # Too few draws for all of them together: each by itself.
        fits = (terms.T @ centred) / (np.sum(terms**2, axis=0) + _PULL)
    return _beyond_chance(fits, terms, centred).reshape(-1, 2)


def _by_energy(outcome: Outcome) -> dict[InputKey, float]:
    """Hours per standard deviation of an input, from its share of the battery's energy."""
    energy, spreads = outcome.likely.energy_wh, outcome.inputs.spreads
    given, loads = float(energy["battery_out"]), energy["loads"]
    used = sum(loads.values())
    if given <= 0 or used <= 0 or float(np.mean(outcome.stops_by)) < _MOSTLY:
        return {}
    converted = 1 + energy["conversion"] / used
    shares = {InputKey(INVERTER_IDLE): energy["inverter_idle"] / given}
    for name, wh in loads.items():
        for kind in (LOAD, LOAD_DUTY, LOAD_TASK):
            shares[InputKey(kind, name)] = wh * converted / given
    hours = float(np.median(outcome.runtime_h))
    return {
        key: -hours * share * log_sd(spreads[key])
        for key, share in shares.items()
        if spreads.get(key, 0.0) > 0
    }
