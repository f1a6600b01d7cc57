"""When to look next during a trial, and how good forecasts have been."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from needle.document import DocumentError
from needle.trial.forecast import Forecast, forecast
from needle.trial.trial import Trial

#: Closest and farthest that check-ins are apart, h, and how many are suggested.
CLOSEST_H, FARTHEST_H, MOST = 0.5, 6.0, 12


def next_check_ins(prediction: Forecast) -> list[float]:
    """Hours from the start at which a look is worth most: closer together towards the stop.

    Each lies a third of what is likely left after the one before, in quarter hours, until the
    earliest likely stop is reached and half-hourly looks go on to the latest.
    """
    low, mid, high = prediction.stop_h
    at = prediction.now_h
    hours: list[float] = []
    while at < high and len(hours) < MOST:
        left = max(0.0, mid - at)
        step = CLOSEST_H if at >= low else min(FARTHEST_H, max(CLOSEST_H, left / 3))
        at = max(at + CLOSEST_H, round((at + step) * 4) / 4)
        hours.append(at)
    return hours


@dataclass(frozen=True)
class Mark:
    """How one finished trial was foretold.

    Attributes
    ----------
    held : bool
        The 10-90 % range that the plan gave at the start held the end.
    error, half_error : float or None
        Relative error of the likely hours at the start, and after half of the run; None where there
        was nothing to go by.
    display_error : float or None
        Mean relative error of the display's own promises.
    """

    held: bool | None
    error: float | None
    half_error: float | None
    display_error: float | None


def mark(trial: Trial) -> Mark | None:
    """How a trial that ran to its floor or cut-off was foretold; None for any other."""
    end = trial.ended
    if end is None or end.why not in ("floor", "cutoff"):
        return None
    start = _foretold(replace(trial, check_ins=(), ended=None))
    half = _foretold(
        replace(
            trial,
            check_ins=tuple(check_in for check_in in trial.check_ins if check_in.h <= end.h / 2),
            ended=None,
        )
    )
    promises = [
        abs(check_in.h + check_in.display_h - end.h) / end.h
        for check_in in trial.check_ins
        if check_in.display_h is not None
    ]
    return Mark(
        held=None if start is None else start.stop_h[0] <= end.h <= start.stop_h[2],
        error=None if start is None else abs(start.stop_h[1] / end.h - 1),
        half_error=None if half is None else abs(half.stop_h[1] / end.h - 1),
        display_error=sum(promises) / len(promises) if promises else None,
    )


def _foretold(trial: Trial) -> Forecast | None:
    try:
        return forecast(trial)
    except DocumentError:
        return None


@dataclass(frozen=True)
class Score:
    """All marks together: how many ranges held of how many, and median errors (shares)."""

    trials: int
    held: int
    error: float | None
    half_error: float | None
    display_error: float | None


def score(marks: Sequence[Mark]) -> Score:
    """Sum up how good forecasts have been."""
    told = [mark for mark in marks if mark.held is not None]
    return Score(
        trials=len(told),
        held=sum(bool(check_in.held) for check_in in told),
        error=_median([check_in.error for check_in in told]),
        half_error=_median([check_in.half_error for check_in in told]),
        display_error=_median([mark.display_error for mark in marks]),
    )


def _median(values: Sequence[float | None]) -> float | None:
    ordered = sorted(value for value in values if value is not None)
    if not ordered:
        return None
    middle = len(ordered) // 2
    return ordered[middle] if len(ordered) % 2 else (ordered[middle - 1] + ordered[middle]) / 2
