"""Effect of the room temperature on the power of cold and warm boxes.

Heat flow through the walls is proportional to the temperature difference (Newton's law of cooling);
a compressor is also less efficient in a warm room: 1.2 % ± 0.6 % more per °C, a general engineering
value whose spread is propagated.
"""

from __future__ import annotations

from dataclasses import dataclass

#: Extra compressor draw per °C of room, and its standard deviation.
COMPRESSOR_PER_C = 0.012
COMPRESSOR_PER_C_SD = 0.006
#: A change beyond this many °C widens the spread.
FAR_C = 5.0
FAR_SPREAD = 0.10
#: Specific heat of water and of ice, kJ/(kg·K), and the heat of freezing, kJ/kg (CRC Handbook of
#: Chemistry and Physics, 97th ed., section 6); contents are taken as water.
WATER_KJ, ICE_KJ, FREEZING_KJ = 4.18, 2.1, 334.0
#: Heat moved per electrical energy by a small compressor, usual; a heater makes one of one.
COMPRESSOR_COP = 1.5


@dataclass(frozen=True)
class Scaling:
    """Factor on the mean power, and the relative spread that it adds."""

    factor: float
    spread: float


class WrongSideError(ValueError):
    """Raised for a room that was on the wrong side of the set point; it holds the latter, °C."""

    def __init__(self, set_c: float) -> None:
        super().__init__(f"the room was on the wrong side of {set_c:g} °C")
        self.set_c = set_c


def scale_mean(
    set_c: float,
    measured_room_c: float,
    room_c: float,
    heats: bool = False,
    measured_set_c: float | None = None,
) -> Scaling:
    """Factor from the room where a mean was measured to another room.

    mean2/mean1 = (room2 - set2)/(room1 - set1) · (1 + k·(room2 - room1)); k = 0 for heaters.

    Parameters
    ----------
    set_c, measured_room_c, room_c : float
        Set point, room while measuring, and room now, °C.
    heats : bool
        Whether it is a heating appliance, with a set point above the room temperature.
    measured_set_c : float or None
        Set point while measuring, °C, if different.

    Raises
    ------
    WrongSideError
        The room while measuring was on the wrong side of the set point.
    """
    set_before = set_c if measured_set_c is None else measured_set_c
    lift_before = (set_before - measured_room_c) if heats else (measured_room_c - set_before)
    lift_now = (set_c - room_c) if heats else (room_c - set_c)
    if lift_before <= 0:
        raise WrongSideError(set_before)
    change = room_c - measured_room_c
    per_c = 0.0 if heats else COMPRESSOR_PER_C
    factor = max(0.0, lift_now) / lift_before * max(0.0, 1 + per_c * change)
    spread = 0.0 if heats else abs(COMPRESSOR_PER_C_SD * change)
    return Scaling(factor, spread + (FAR_SPREAD if abs(change) > FAR_C else 0.0))


def pull_down_wh(mass_kg: float, from_c: float, to_c: float) -> float:
    """Electrical energy that brings contents, taken as water, to a set point once, Wh.

    mass · specific heat · change / COP, with the heat of freezing if they freeze.

    Parameters
    ----------
    mass_kg : float
    from_c, to_c : float
        Temperature of the contents at the start, and set point, °C; warming takes a heater.
    """
    if to_c >= from_c:
        return mass_kg * WATER_KJ * (to_c - from_c) / 3.6
    wet = WATER_KJ * max(0.0, from_c - max(to_c, 0.0))
    frozen = ICE_KJ * max(0.0, min(from_c, 0.0) - to_c)
    freezing = FREEZING_KJ if from_c > 0 > to_c else 0.0
    return mass_kg * (wet + frozen + freezing) / 3.6 / COMPRESSOR_COP
