"""When a battery is full again after the power is back."""

from __future__ import annotations

import math

from needle.supply.battery import Battery
from needle.supply.chemistry import CHEMISTRIES, TRICKLE_PER_H
from needle.trial.prediction import Range

#: Charge that counts as full, the longest time that is followed, h, and its step, h.
FULL, MOST_REFILL_H, STEP_H = 0.99, 96.0, 1 / 60


def full_again_h(charge: Range, held_wh: Range, watts: float, battery: Battery) -> Range:
    """Return the hours until a battery is full; infinite if a charger takes longer than days.

    It accepts less the fuller it is, as in plans. The range is of its charge and of what it holds.

    Parameters
    ----------
    charge, held_wh : Range
        Its charge now, share, and its capacity, Wh.
    watts : float
        Of the charger, W into the battery.
    battery : Battery
    """
    ends = zip(reversed(charge), held_wh, strict=True)
    low, mid, high = (_hours(share, held, watts, battery) for share, held in ends)
    return low, mid, high


def _hours(charge: float, held_wh: float, watts: float, battery: Battery) -> float:
    per_h = CHEMISTRIES[battery.chemistry].takes_per_h
    hours = 0.0
    while charge < FULL:
        if hours >= MOST_REFILL_H:
            return math.inf
        takes = (per_h * (1 - charge) + TRICKLE_PER_H) * held_wh
        charge += min(watts, takes) * battery.charge_efficiency / held_wh * STEP_H
        hours += STEP_H
    return hours
