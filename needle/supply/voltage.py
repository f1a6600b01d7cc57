"""Terminal volts of a battery: open-circuit voltage less what its resistance takes.

Open-circuit volts of a rested cell at 25 °C by charge. Lead-acid: specific gravity 1.265, 1.225,
1.190, 1.155 and 1.120 at 100, 75, 50, 25 and 0 %, as commonly tabled for starting and deep-cycle
batteries, plus 0.845 V (D. Linden and T. Reddy, "Handbook of Batteries", 3rd ed. 2002, ch. 23).
Lithium chemistries: rounded from the shapes in G. Plett, "Battery Management Systems", vol. 1,
2015, ch. 2; within ±0.03 V above 20 % and ±0.15 V below 10 %, where makes differ. A single constant
resistance is the simplest of the models there (ch. 2.3): it has no recovery, and a lead-acid
battery's resistance rises further near empty than this says.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

_Points = tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class Cell:
    """A chemistry's cell.

    Attributes
    ----------
    nominal_v, cutoff_v : float
        V, as labelled and at which discharge usually ends.
    ohm_ah : float
        Usual resistance times capacity, Ω·Ah: large cells have little (general values).
    open_circuit : tuple of (share, V)
        Rested, 25 °C, charge rising.
    """

    nominal_v: float
    cutoff_v: float
    ohm_ah: float
    open_circuit: _Points


_LITHIUM: _Points = (
    (0.0, 3.00), (0.05, 3.35), (0.1, 3.45), (0.2, 3.55), (0.3, 3.61), (0.4, 3.65), (0.5, 3.70),
    (0.6, 3.78), (0.7, 3.88), (0.8, 3.98), (0.9, 4.07), (1.0, 4.18),
)  # fmt: skip
CELLS = {
    "lead": Cell(2.0, 1.75, 0.08, ((0.0, 1.965), (0.25, 2.000), (0.5, 2.035), (0.75, 2.070),
                                   (1.0, 2.110))),
    "lfp": Cell(3.2, 2.5, 0.08, ((0.0, 2.60), (0.03, 2.95), (0.05, 3.05), (0.1, 3.18), (0.2, 3.25),
                                 (0.3, 3.28), (0.5, 3.30), (0.7, 3.33), (0.9, 3.34), (0.97, 3.36),
                                 (1.0, 3.45))),
    "lithium": Cell(3.65, 3.0, 0.10, _LITHIUM),
    "usb": Cell(3.65, 3.0, 0.10, _LITHIUM),
}  # fmt: skip


def cells_in_series(chemistry: str, volts: float) -> int:
    """How many cells make up a battery of so many nominal volts."""
    return max(1, round(volts / CELLS[chemistry].nominal_v))


def open_circuit_v(chemistry: str, volts: float, charge: np.ndarray | float) -> np.ndarray:
    """Rested volts of a battery of ``volts`` nominal at a charge (share, any shape)."""
    shares, cell_v = zip(*CELLS[chemistry].open_circuit, strict=True)
    return cells_in_series(chemistry, volts) * np.interp(charge, shares, cell_v)


def usual_ohm(chemistry: str, volts: float, nominal_wh: float) -> float:
    """Resistance that a sound battery of this size usually has, Ω."""
    amp_hours = nominal_wh / volts
    return cells_in_series(chemistry, volts) * CELLS[chemistry].ohm_ah / amp_hours


def usual_cutoff_v(chemistry: str, volts: float) -> float:
    """Volts at which discharge usually ends."""
    return cells_in_series(chemistry, volts) * CELLS[chemistry].cutoff_v


def terminal_v(rested_v: float, ohm: float, amps: float) -> float:
    """V at the terminals while so many A flow out: E - I·R."""
    return rested_v - ohm * amps


def most_w(rested_v: np.ndarray | float, ohm: np.ndarray | float, cutoff_v: float) -> np.ndarray:
    """W at which the terminals are pulled down to the cut-off.

    P = V·(E - V)/R at the cut-off V, or at E/2 where the cut-off lies below that: beyond it a
    battery gives less, not more.
    """
    rested = np.asarray(rested_v, dtype=float)
    at = np.maximum(cutoff_v, rested / 2)
    return np.maximum(0.0, at * (rested - at) / ohm)
