"""Terminal voltage of a battery: open-circuit voltage less the drop at its resistance.

A single constant resistance is the simplest of the models in G. Plett, "Battery Management
Systems", vol. 1, 2015, ch. 2.3: it has no recovery, and a lead-acid battery's resistance rises more
near empty than in this model.
"""

from __future__ import annotations

import numpy as np

from needle.supply.chemistry import CHEMISTRIES


def cells_in_series(chemistry: str, volts: float) -> int:
    """Number of cells in series for a nominal voltage."""
    return max(1, round(volts / CHEMISTRIES[chemistry].cell_v))


def open_circuit_v(chemistry: str, volts: float, charge: np.ndarray | float) -> np.ndarray:
    """Open-circuit voltage of a battery of ``volts`` nominal at a charge (share, any shape), V."""
    shares, cell_v = zip(*CHEMISTRIES[chemistry].open_circuit, strict=True)
    return np.asarray(cells_in_series(chemistry, volts) * np.interp(charge, shares, cell_v))


def usual_ohm(chemistry: str, volts: float, nominal_wh: float) -> float:
    """Usual resistance of a sound battery of this size, Ω."""
    amp_hours = nominal_wh / volts
    return cells_in_series(chemistry, volts) * CHEMISTRIES[chemistry].ohm_ah / amp_hours


def usual_cutoff_v(chemistry: str, volts: float) -> float:
    """Voltage at which discharge usually ends, V."""
    return cells_in_series(chemistry, volts) * CHEMISTRIES[chemistry].cutoff_v


def most_w(rested_v: np.ndarray | float, ohm: np.ndarray | float, cutoff_v: float) -> np.ndarray:
    """Power at which the terminal voltage falls to the cut-off, W.

    P = V·(E - V)/R at the cut-off V, or at E/2 if the cut-off is lower: below E/2 a battery gives
    less power, not more.
    """
    rested = np.asarray(rested_v, dtype=float)
    at = np.maximum(cutoff_v, rested / 2)
    return np.asarray(np.maximum(0.0, at * (rested - at) / ohm))
