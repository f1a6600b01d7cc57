"""Voltage drop of a cord, while running and during a start.

Conductor resistance at 20 °C of copper, Ω/km, is that of IEC 60228:2004, table 2 (the greatest that
the standard allows); other sizes and AWG follow from the resistivity of annealed copper,
0.017241 Ω·mm²/m (IEC 60028), and ASTM B258's diameters. Aluminium counts 1.64 times copper.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from needle.document import DocumentError
from needle.message import Message, message

OHM_PER_KM = {
    0.5: 36.0,
    0.75: 24.5,
    1.0: 18.1,
    1.5: 12.1,
    2.5: 7.41,
    4.0: 4.61,
    6.0: 3.08,
    10.0: 1.83,
    16.0: 1.15,
    25.0: 0.727,
}
COPPER_OHM_MM2_PER_M = 0.017241
MATERIALS = {"copper": 1.0, "aluminium": 1.64}
#: A running drop beyond this share is too much for a cord; a dip beyond the second endangers the
#: start of a motor, whose torque falls with the square of the voltage. General engineering values.
MOST_DROP, MOST_DIP = 0.03, 0.15


@dataclass(frozen=True)
class CordCheck:
    """A cord under load: loop Ω, V and share dropped, W lost, V and share at a start."""

    ohm: float
    drop_v: float
    drop_share: float
    lost_w: float
    dip_v: float | None
    dip_share: float | None
    verdict: Message

    @property
    def fine(self) -> bool:
        """Whether both the drop and the dip are acceptable."""
        return self.drop_share <= MOST_DROP and (self.dip_share or 0.0) <= MOST_DIP


def awg_mm2(gauge: float) -> float:
    """Area of an AWG conductor, mm² (0 for 1/0, -1 for 2/0): d = 0.127·92^((36 - n)/39) mm."""
    diameter_mm: float = 0.127 * 92 ** ((36 - gauge) / 39)
    return math.pi / 4 * diameter_mm**2


_AREA = re.compile(r"(\d+(?:[.,]\d+)?)\s*(?:mm2|mm²|mm\^2|sq\.?\s*mm)?", re.I)
_GAUGE = re.compile(r"(?:awg\s*#?\s*(\d+)(/0)?|#?\s*(\d+)(/0)?\s*(?:awg|ga(?:uge)?))", re.I)


def conductor_mm2(text: str) -> float:
    """Parse a conductor area: ``1.5 mm²``, ``14 AWG``, ``2/0 AWG``, ``AWG 12``.

    Raises
    ------
    DocumentError
    """
    text = text.strip()
    if match := _GAUGE.fullmatch(text):
        number = int(match[1] or match[3])
        gauge = 1 - number if (match[2] or match[4]) else number
        if -3 <= gauge <= 40:
            return awg_mm2(gauge)
    elif (match := _AREA.fullmatch(text)) and 0.05 <= (
        area := float(match[1].replace(",", "."))
    ) <= 1000:
        return area
    raise DocumentError("conductor", f"“{text[:30]}” is not a size such as 1.5 mm² or 14 AWG")


def ohm_per_m(area_mm2: float, material: str = "copper") -> float:
    """Resistance of one conductor, Ω/m.

    Raises
    ------
    ValueError
        The area is not positive, or the material is unknown.
    """
    if area_mm2 <= 0:
        raise ValueError("a conductor's area is above 0 mm²")
    if material not in MATERIALS:
        raise ValueError(f"the material is one of {', '.join(MATERIALS)}")
    known = OHM_PER_KM.get(round(area_mm2, 3))
    copper = known / 1000 if known else COPPER_OHM_MM2_PER_M / area_mm2
    return copper * MATERIALS[material]


def check_cord(
    length_m: float,
    area_mm2: float,
    running_a: float,
    volts: float,
    start_a: float | None = None,
    material: str = "copper",
) -> CordCheck:
    """Return the voltage drop of a two-conductor cord.

    Parameters
    ----------
    length_m : float
        Length one way, m; the current flows there and back.
    area_mm2 : float
        Area of one conductor, mm².
    running_a, start_a : float
        Running current, and start-up current if known, A.
    volts : float
        Voltage at the supply, V.
    material : str
        ``"copper"`` or ``"aluminium"``.

    Raises
    ------
    ValueError
    """
    if length_m < 0 or running_a < 0 or volts <= 0 or (start_a is not None and start_a < 0):
        raise ValueError("lengths and currents are at least 0, volts above 0")
    ohm = 2 * length_m * ohm_per_m(area_mm2, material)
    drop = ohm * running_a
    dip = None if start_a is None else ohm * start_a
    return CordCheck(
        ohm=ohm,
        drop_v=drop,
        drop_share=drop / volts,
        lost_w=ohm * running_a**2,
        dip_v=dip,
        dip_share=None if dip is None else dip / volts,
        verdict=_verdict(drop / volts, None if dip is None else dip / volts),
    )


def _verdict(drop: float, dip: float | None) -> Message:
    if dip is not None and dip > MOST_DIP:
        return message("cord-dips", dip=dip)
    if drop > MOST_DROP:
        return message("cord-drops", drop=drop)
    return message("cord-carries")
