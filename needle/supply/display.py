"""A supply's display of its charge, whose last fifth goes faster or slower than the rest.

The display falls linearly from full to a knee, where it shows a fifth, and again below it; the knee
lies anywhere from a tenth to a quarter of the true charge, so that the displayed last fifth lasts
from less than half to more than all of one of the others. Above the knee the curve may bow
slightly. Both are general observations of people who run supplies to the end, not laws.
"""

from __future__ import annotations

import numpy as np

#: The last part of a display's scale (share).
LAST_FIFTH = 0.2
#: True charge (share) at which the display shows its last fifth: lowest and highest. A last fifth
#: that lasts r times one of the others is r/(4 + r) of the charge.
KNEE = (0.10, 0.25)


def charge_shown(
    charge: np.ndarray | float, knee: np.ndarray | float, bow: np.ndarray | float = 0.0
) -> np.ndarray:
    """Displayed charge for a true charge (shares), before rounding.

    ``bow`` is the deviation from the straight line at half charge (share).
    """
    charge = np.asarray(charge)
    above = LAST_FIFTH + (1 - LAST_FIFTH) * (charge - knee) / (1 - np.asarray(knee))
    straight = np.where(charge < knee, LAST_FIFTH * charge / knee, above)
    return np.asarray(straight + _bowed(charge, bow))


def true_charge(
    shown: np.ndarray | float, knee: np.ndarray | float, bow: np.ndarray | float = 0.0
) -> np.ndarray:
    """The true charge (share) behind a displayed one."""
    shown = np.asarray(shown)
    straight = _straight(shown, knee)
    # A bow is slight: what it takes at the straight line's charge is near enough.
    return np.asarray(np.clip(_straight(shown - _bowed(straight, bow), knee), 0.0, None))


def _straight(shown: np.ndarray, knee: np.ndarray | float) -> np.ndarray:
    above = knee + (1 - np.asarray(knee)) * (shown - LAST_FIFTH) / (1 - LAST_FIFTH)
    return np.where(shown < LAST_FIFTH, knee * shown / LAST_FIFTH, above)


def _bowed(charge: np.ndarray, bow: np.ndarray | float) -> np.ndarray:
    inside = np.clip(charge, 0.0, 1.0)
    return np.asarray(4 * np.asarray(bow) * inside * (1 - inside))
