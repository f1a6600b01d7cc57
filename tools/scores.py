"""How ranges and chances stood against the truth."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

#: Ranges are to hold the truth eight times in ten.
_ALPHA = 0.2
_Z90 = 1.2816


@dataclass
class Score:
    """How ranges stood: whether each held, its middle's error, its width and interval score."""

    held: list[bool] = field(default_factory=list)
    errors: list[float] = field(default_factory=list)
    widths: list[float] = field(default_factory=list)
    scores: list[float] = field(default_factory=list)

    def add(self, hours: tuple[float, float, float], true_h: float) -> None:
        """Hold a range of hours, its middle second, against the true ones."""
        low, middle, high = hours
        self.held.append(low <= true_h <= high)
        self.errors.append(middle / true_h - 1)
        self.widths.append(float(np.log(max(high / max(low, 1e-9), 1.0))) / (2 * _Z90))
        missed = max(0.0, low - true_h) + max(0.0, true_h - high)
        self.scores.append((high - low + 2 / _ALPHA * missed) / true_h)

    @property
    def share_held(self) -> float:
        return float(np.mean(self.held))

    @property
    def interval_score(self) -> float:
        """Mean interval score, relative to the truth; less is better.

        T. Gneiting and A. E. Raftery, J. Am. Stat. Assoc. 102, 359, 2007, eq. 43.
        """
        return float(np.mean(self.scores))

    def line(self, name: str) -> str:
        errors = np.array(self.errors)
        return (
            f"    {name:34s} n {len(errors):4d}   held {100 * self.share_held:5.1f} %   "
            f"median error {100 * np.median(np.abs(errors)):5.1f} %   "
            f"bias {100 * np.median(errors):+5.1f} %   sd {np.mean(self.widths):.3f}   "
            f"score {self.interval_score:.2f}"
        )


def reliability(chances: Sequence[tuple[float, bool]]) -> list[tuple[float, float, int]]:
    """In each fifth of the chances said: their mean, the share that came true, and how many."""
    said = np.array([chance for chance, _ in chances])
    true = np.array([came for _, came in chances])
    place = np.minimum(4, (said * 5).astype(int))
    return [
        (float(said[place == n].mean()), float(true[place == n].mean()), int((place == n).sum()))
        for n in range(5)
        if (place == n).any()
    ]
