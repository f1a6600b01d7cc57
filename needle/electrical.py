"""Relations between volts, amps, watts and volt-amperes of a single-phase load.

IEEE Std 1459-2010, clause 3.1: apparent power S = V·I, power factor PF = P/S (true, distortion
included), non-active power N = sqrt(S² − P²). N is reactive power only for sinusoidal current.
"""

from __future__ import annotations

import math

#: Mains voltage and frequency where a document states none, V and Hz.
MAINS_V, MAINS_HZ = 230.0, 50.0


def apparent_va(volts: float, amps: float) -> float:
    """Apparent power in VA from RMS volts and amps."""
    return volts * amps


def power_factor(watts: float, va: float) -> float:
    """True power factor, 0…1, from watts and VA.

    Raises
    ------
    ValueError
        ``va`` is not positive, or ``watts`` exceeds it.
    """
    if va <= 0:
        raise ValueError("power factor needs VA above zero")
    if watts > va:
        raise ValueError(f"{watts:g} W cannot exceed {va:g} VA")
    return watts / va


def nonactive_va(watts: float, va: float) -> float:
    """Non-active power in VA (var for sinusoidal current); 0 if watts exceed VA."""
    # The product of roots, since the square of what a typo makes of a reading may overflow.
    return math.sqrt(max(0.0, va - watts)) * math.sqrt(va + watts)


def motor_input_w(shaft_w: float, efficiency: float) -> float:
    """Electrical input of a motor with ``shaft_w`` watts at its shaft, W."""
    if not 0 < efficiency <= 1:
        raise ValueError(f"efficiency is between 0 and 1: {efficiency:g}")
    return shaft_w / efficiency
