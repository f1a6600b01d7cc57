"""Textbook formulas that tests compare the simulator with."""


def peukert_hours(amp_hours: float, amps: float, n: float, rated_hours: float = 20.0) -> float:
    """Hours that a battery lasts at a constant current.

    t = H·(C/(I·H))^n, W. Peukert (1897), in the form with the rated time H.
    """
    return float(rated_hours * (amp_hours / (amps * rated_hours)) ** n)


def terminal_v(rested_v: float, ohm: float, amps: float) -> float:
    """V at the terminals while so many A flow out: E - I·R."""
    return rested_v - ohm * amps
