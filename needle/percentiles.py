"""Percentiles over draws by one sort, several times as fast as NumPy's for a few hundred draws."""

from __future__ import annotations

import numpy as np

#: Shares of the draws below the low end, the middle and the high end of a range.
RANGE = (0.1, 0.5, 0.9)


def ranges_of(draws: np.ndarray) -> np.ndarray:
    """10th, 50th and 90th percentile along the last axis, as :func:`numpy.quantile` has them.

    Linear between the draws beside a place (R. J. Hyndman and Y. Fan, "Sample quantiles in
    statistical packages", Am. Stat. 50, 1996, type 7).

    Returns
    -------
    ndarray
        The three along the first axis; the other axes are those of ``draws`` without the last.
    """
    ordered = np.sort(draws, axis=-1)
    return np.stack([_at(ordered, share) for share in RANGE])


def range_of(draws: np.ndarray) -> tuple[float, float, float]:
    """10th, 50th and 90th percentile of some draws, (draws,)."""
    low, middle, high = ranges_of(draws)
    return float(low), float(middle), float(high)


def median(draws: np.ndarray) -> float:
    """Median of some draws, (draws,)."""
    return float(_at(np.sort(draws), 0.5))


def _at(ordered: np.ndarray, share: float) -> np.ndarray:
    """The value at a share of the way through ordered draws."""
    last = ordered.shape[-1] - 1
    place = share * last
    before = int(place)
    low, high = ordered[..., before], ordered[..., min(before + 1, last)]
    return np.asarray(low + (high - low) * (place - before))
