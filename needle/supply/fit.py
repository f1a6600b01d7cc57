"""Idle draw, marginal efficiency and square loss of an inverter, fitted to AC and DC readings.

DC = idle + AC/efficiency + square·AC² is linear in (idle, 1/efficiency, square): weighted least
squares. Both readings have errors; the AC one is carried over to the DC side through the slope
(effective variance, J. Orear 1982, Am. J. Phys. 50, 912). The square term is held near a usual
value unless the readings say otherwise, since few readings over a small span cannot tell it from
the slope.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from needle.document import DocumentError
from needle.estimate import Estimate
from needle.message import Message, message

LEAST_PAIRS = 3
ENOUGH_PAIRS = 5
#: Square loss at the greatest load read, as a share of that load: usual value and its deviation.
SQUARE_SHARE, SQUARE_SPREAD = 0.010, 0.010
#: Deviations beyond which a pair was misread.
SUSPECT = 3.0


@dataclass(frozen=True)
class FitRow:
    """A pair, AC and DC W, its residual in standard deviations, and whether it is suspect."""

    ac_w: float
    dc_w: float
    residual: float
    suspect: bool


@dataclass(frozen=True)
class InverterFit:
    """Inverter losses fitted to paired readings.

    Attributes
    ----------
    idle_w : Estimate
        DC W with nothing plugged in.
    efficiency : Estimate
        Marginal efficiency at small loads.
    square_per_w : Estimate
        Square loss: DC W per AC W squared, 1/W.
    residuals : tuple of float
        Read minus fitted DC W, one per pair, in standard deviations.
    suspect : int or None
        Index of the pair with the largest residual above 3; None if there is none.
    pairs : tuple of (AC W, DC W)
    notices : tuple of Message
    """

    idle_w: Estimate
    efficiency: Estimate
    square_per_w: Estimate
    residuals: tuple[float, ...]
    suspect: int | None
    pairs: tuple[tuple[float, float], ...]
    notices: tuple[Message, ...]

    @property
    def rows(self) -> list[FitRow]:
        """Each pair with its residual."""
        return [
            FitRow(ac, dc, off, index == self.suspect)
            for index, ((ac, dc), off) in enumerate(zip(self.pairs, self.residuals, strict=True))
        ]


def fit_inverter(
    pairs: Sequence[tuple[float, float]],
    ac_limit: float = 0.01,
    dc_limit: float = 0.01,
    step_w: float = 0.1,
    path: str = "pairs",
) -> InverterFit:
    """Fit an inverter's losses to paired readings.

    Parameters
    ----------
    pairs : sequence of (AC W, DC W)
        Readings of the same moment; at least 3, one of them at no or little load.
    ac_limit, dc_limit : float
        Accuracy limits of the two meters, as shares of the reading.
    step_w : float
        Resolution of both, W.
    path : str
        Path of the pairs, for messages.

    Raises
    ------
    DocumentError
        There are too few pairs, or they are impossible.
    """
    ac, dc = _checked(pairs, path)
    most = float(ac.max())
    usual, usual_sd = SQUARE_SHARE / most, SQUARE_SPREAD / most
    slope = 1.1
    deviations = np.ones_like(ac)
    for _ in range(4):
        deviations = np.sqrt(
            ((dc_limit * dc) ** 2 + (slope * ac_limit * ac) ** 2 + 2 * (step_w / 2) ** 2) / 3
        )
        design = np.column_stack([np.ones_like(ac), ac, ac**2]) / deviations[:, None]
        design = np.vstack([design, [0.0, 0.0, 1 / usual_sd]])
        read = np.append(dc / deviations, usual / usual_sd)
        # Columns of one size keep the normal equations well conditioned.
        size = np.linalg.norm(design, axis=0)
        solved, *_ = np.linalg.lstsq(design / size, read, rcond=None)
        idle, slope, square = solved / size
    covariance = np.linalg.inv((design / size).T @ (design / size)) / np.outer(size, size)
    if not 1.0 <= slope <= 1 / 0.3:
        raise DocumentError(
            path,
            f"the readings give an efficiency of {100 / slope:.0f} %: check that AC and DC were "
            "read at the same moment, both in watts",
        )
    if idle < -2 * math.sqrt(covariance[0, 0]):
        raise DocumentError(
            path,
            "the readings give an idle draw below nothing: read one pair with nothing plugged in",
        )
    residuals = (dc - (idle + slope * ac + square * ac**2)) / deviations
    return _as_fit(
        np.array([max(0.0, idle), slope, max(0.0, square)]),
        covariance,
        residuals,
        (ac, dc),
        math.hypot(ac_limit, dc_limit) / math.sqrt(3),
    )


#: Draws of what is usual that few pairs are weighed against, and how many must fit at the least.
_FEW_DRAWS, _LEAST_DRAWS = 4000, 10


def conditioned_by_few(
    pairs: Sequence[tuple[float, float]],
    usual: tuple[Estimate, Estimate],
    ac_limit: float = 0.01,
    dc_limit: float = 0.01,
    path: str = "pairs",
) -> tuple[Estimate, Estimate]:
    """Idle W and marginal efficiency from usual values, conditioned on one or two pairs.

    They are too few for a fit: many likely inverters are weighted by how well they predict the
    pairs (importance sampling; mean and deviation of the logarithms).

    Parameters
    ----------
    pairs : sequence of (AC W, DC W)
        One or two.
    usual : (Estimate, Estimate)
        Usual idle W and efficiency.
    ac_limit, dc_limit : float
        As for :func:`fit_inverter`.

    Raises
    ------
    DocumentError
        No usual inverter predicts the pairs.
    """
    _check_pairs(pairs, path)
    rng = np.random.default_rng(3)
    idle, passes = (estimate.draws(rng.standard_normal(_FEW_DRAWS)) for estimate in usual)
    doubt = np.zeros(_FEW_DRAWS)
    for ac_w, dc_w in pairs:
        predicted = idle + ac_w / passes
        # Both meters, and how far a square term may be off.
        spread = math.sqrt((ac_limit**2 + dc_limit**2) / 3 + SQUARE_SPREAD**2 + 0.01**2)
        doubt += (np.log(predicted / dc_w) / spread) ** 2 / 2
    weights = np.exp(-(doubt - doubt.min()))
    weights /= weights.sum()
    if float(doubt.min()) > SUSPECT**2 or 1 / float(weights @ weights) < _LEAST_DRAWS:
        raise DocumentError(
            path, "no usual inverter gives these: were AC and DC read at the same moment, in watts?"
        )
    how = (message("pairs-leave", pairs=len(pairs)),)

    def left(draws: np.ndarray, most: float | None) -> Estimate:
        logs = np.log(np.maximum(draws, 1e-6))
        middle = float(weights @ logs)
        sd = math.sqrt(float(weights @ (logs - middle) ** 2))
        return Estimate(math.exp(middle), max(0.01, sd), "C", how, most)

    return left(idle, None), left(passes, 1.0)


def _check_pairs(pairs: Sequence[tuple[float, float]], path: str) -> None:
    for index, (ac_w, dc_w) in enumerate(pairs):
        where = f"{path}[{index}]"
        if not (math.isfinite(ac_w) and math.isfinite(dc_w)) or ac_w < 0 or dc_w <= 0:
            raise DocumentError(where, "needs AC watts of at least 0 and DC watts above 0")
        if ac_w > dc_w * 1.02:
            raise DocumentError(
                where, f"{ac_w:g} W AC cannot come out of {dc_w:g} W DC: are they swapped?"
            )


def _checked(pairs: Sequence[tuple[float, float]], path: str) -> tuple[np.ndarray, np.ndarray]:
    if len(pairs) < LEAST_PAIRS:
        raise DocumentError(path, f"{len(pairs)} are too few: give at least {LEAST_PAIRS} pairs")
    _check_pairs(pairs, path)
    ac, dc = np.array(pairs, dtype=float).T
    if ac.max() <= 0 or ac.max() - ac.min() < 0.5 * ac.max():
        raise DocumentError(
            path, "all loads are nearly alike: read one with little or nothing plugged in as well"
        )
    return ac, dc


def _as_fit(
    solved: np.ndarray,
    covariance: np.ndarray,
    residuals: np.ndarray,
    read: tuple[np.ndarray, np.ndarray],
    gain_sd: float,
) -> InverterFit:
    idle, slope, square = (float(value) for value in solved)
    count = len(residuals)
    # More scatter than the meters allow widens the answer, less never narrows it.
    spare = max(1, count - 2)
    widened = max(1.0, math.sqrt(float(np.sum(residuals**2)) / spare))
    idle_sd, slope_sd, square_sd = widened * np.sqrt(np.diag(covariance))
    # Each meter's own constant error is shared by all pairs and shifts the slope as a whole.
    slope_share = math.hypot(slope_sd / slope, gain_sd)
    worst = int(np.argmax(np.abs(residuals)))
    suspect = worst if abs(residuals[worst]) > SUSPECT else None
    notices = []
    if suspect is not None:
        ac, dc = read[0][suspect], read[1][suspect]
        notices.append(message("pair-suspect", ac_w=float(ac), dc_w=float(dc)))
    if read[0].min() > 0.1 * read[0].max():
        notices.append(message("no-pair-at-little-load"))
    grade = "A" if count >= ENOUGH_PAIRS and suspect is None else "B"
    how = (message("fitted", pairs=count),)
    return InverterFit(
        idle_w=Estimate(idle, float(idle_sd) / max(idle, 0.1), grade, how),
        efficiency=Estimate(1 / slope, slope_share, grade, how, 1.0),
        square_per_w=Estimate(square, float(square_sd) / square if square else 0.0, grade, how),
        residuals=tuple(float(residual) for residual in residuals),
        suspect=suspect,
        pairs=tuple(zip(read[0].tolist(), read[1].tolist(), strict=True)),
        notices=tuple(notices),
    )
