"""What a trial predicts: the hours to its stop, its charge and draw, and what it showed."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from needle.ledger import LedgerEntry
from needle.message import Message
from needle.trial.finished_run import Count

Range = tuple[float, float, float]


@dataclass(frozen=True)
class Leg:
    """A part of a trial under constant conditions: start (h), mean W at the battery, name."""

    from_h: float
    mean_w: float
    name: str


@dataclass(frozen=True)
class Forecast:
    """The forecast of a trial; ranges are 10th, 50th and 90th percentile.

    Attributes
    ----------
    stop_h : Range
        Hours from the start to the stop.
    most_h : float
        Length of the simulation, h: a stop at that time means "or more".
    now_h : float
        Time of the forecast, h: the last check-in, or the end.
    mean_w : Range
        W at the battery in the present leg.
    drawn_wh : Range
        Energy out of the battery so far, Wh.
    fall_per_h : Range
        Share of the battery used per hour so far; independent of the battery's capacity.
    level : Range
        Power in the present leg relative to what was expected.
    used_wh : float
        Energy used so far, median, Wh; as counted at the battery if it was.
    charge : Range
        True state of charge now, share of the real capacity.
    legs : list of Leg
    state_of_health : Range or None
        Real capacity as a share of the nominal one; None before the end.
    held_wh : Range
        Real capacity, Wh.
    ended_h : float or None
    display_error_h : float or None
        Mean absolute error of the display's promised hours, h.
    fan : list of (h, low, mid, high)
        Predicted true state of charge, share.
    notices : list of Message
    count : Count or None
        The last counter reading.
    ledger : tuple of LedgerEntry
        Each figure of each check-in, used or unused.
    sun : Range or None
        What the plan's sources gave, as a share of what was expected of them; None if nobody read
        it.
    """

    stop_h: Range
    most_h: float
    now_h: float
    mean_w: Range
    drawn_wh: Range
    fall_per_h: Range
    level: Range
    used_wh: float
    charge: Range
    legs: list[Leg]
    state_of_health: Range | None
    held_wh: Range
    ended_h: float | None
    display_error_h: float | None
    fan: list[tuple[float, float, float, float]]
    notices: list[Message] = field(default_factory=list)
    count: Count | None = None
    ledger: tuple[LedgerEntry, ...] = ()
    sun: Range | None = None

    @property
    def remaining_h(self) -> Range:
        """Hours left from now."""
        low, mid, high = (max(0.0, hours - self.now_h) for hours in self.stop_h)
        return low, mid, high


def weighted_range(values: np.ndarray, weight: np.ndarray | None = None) -> Range:
    """10th, 50th and 90th percentile, weighted if weights are given."""
    places = np.array([0.1, 0.5, 0.9])
    if weight is None:
        low, mid, high = np.quantile(values, places)
        return float(low), float(mid), float(high)
    order = np.argsort(values)
    below = np.cumsum(weight[order]) - weight[order] / 2
    low, mid, high = np.interp(places, below, values[order])
    return float(low), float(mid), float(high)


def as_document(prediction: Forecast) -> dict[str, Any]:
    """Return the forecast as ``needle forecast`` prints it."""

    def span(values: Range | None) -> dict[str, float] | None:
        return None if values is None else {"value": values[1], "low": values[0], "high": values[2]}

    return {
        "stop_h": span(prediction.stop_h),
        "remaining_h": span(prediction.remaining_h),
        "mean_w": span(prediction.mean_w),
        "used_wh": prediction.used_wh,
        "charge": span(prediction.charge),
        "legs": [
            {"from_h": leg.from_h, "mean_w": leg.mean_w, "name": leg.name}
            for leg in prediction.legs
        ],
        "capacity_factor": span(prediction.state_of_health),
        "held_wh": span(prediction.held_wh),
        "ended_h": prediction.ended_h,
        "display_error_h": prediction.display_error_h,
        "notices": prediction.notices,
        "ledger": list(prediction.ledger),
    }
