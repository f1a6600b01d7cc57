"""A supply's own opinion of its charge: its last fifth often goes faster than the rest.

Between full and a knee the display falls evenly with the true charge, and evenly again below it,
but the knee, at which it shows a fifth, lies at less than a fifth. That is a general observation of
people who run supplies to the end, not a law: the knee is taken as evenly between 15 and 20 %.
"""

from __future__ import annotations

import numpy as np

#: The last part of a display's scale (share).
LAST_FIFTH = 0.2
#: True charge (share) at which the display shows its last fifth: lowest and highest.
KNEE = (0.15, LAST_FIFTH)


def charge_shown(charge: np.ndarray | float, knee: np.ndarray | float) -> np.ndarray:
    """What a display makes of a true charge (shares), before it is rounded."""
    above = LAST_FIFTH + (1 - LAST_FIFTH) * (np.asarray(charge) - knee) / (1 - np.asarray(knee))
    return np.where(np.asarray(charge) < knee, LAST_FIFTH * np.asarray(charge) / knee, above)


def true_charge(shown: np.ndarray | float, knee: np.ndarray | float) -> np.ndarray:
    """The true charge (share) behind what a display shows."""
    above = knee + (1 - np.asarray(knee)) * (np.asarray(shown) - LAST_FIFTH) / (1 - LAST_FIFTH)
    return np.where(np.asarray(shown) < LAST_FIFTH, knee * np.asarray(shown) / LAST_FIFTH, above)


def slope(shown: float, knee: np.ndarray) -> np.ndarray:
    """True charge per charge shown."""
    if shown < LAST_FIFTH:
        return knee / LAST_FIFTH
    return (1 - knee) / (1 - LAST_FIFTH)
