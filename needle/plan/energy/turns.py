"""How full a battery gets while mains that come and go are on, over a plan's turns."""

from __future__ import annotations

import numpy as np

from needle.message import Message, message
from needle.plan.plan import Plan
from needle.plan.sources.mains import Mains

#: Change of the charge from the first turn to the last from which on it is said, share.
MOST_EVEN = 0.03


def fills_of(plan: Plan, curve_h: np.ndarray, charge: np.ndarray) -> list[Message]:
    """Return what each of the plan's mains leave in the battery, as notices.

    Parameters
    ----------
    plan : Plan
    curve_h : ndarray, (points,)
        Hours of a plan.
    charge : ndarray, (3, points)
        10th, 50th and 90th percentile of the charge then, share.
    """
    notices = []
    for source in plan.sources:
        if not isinstance(source, Mains):
            continue
        minutes = round(plan.hours * 60)
        change = np.diff(source.on(plan.start, minutes).astype(int))
        comes_h, goes_h = ((np.flatnonzero(change == side) + 1) / 60 for side in (1, -1))
        full = np.array([np.interp(goes_h, curve_h, each) for each in charge])
        if not full.size:
            continue
        before = np.array([np.interp(comes_h, curve_h, each) for each in charge])
        lowest = float(before[0].min()) if before.size else float(charge[0].min())
        at_least = int(full[1].argmin())
        low, mid, high = (float(each[at_least]) for each in full)
        notices.append(
            message(
                "mains-fill",
                source=source.name,
                low=low,
                charge=mid,
                high=high,
                lowest=lowest,
                less=bool(full[1, 0] - full[1, -1] > MOST_EVEN),
            )
        )
    return notices
