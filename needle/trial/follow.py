"""A trial as it is told: what it comes to, when to look next, and how good forecasts have been."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from needle.document import DocumentError
from needle.trial.expected import Expected, expected_of
from needle.trial.forecast import Forecast, Range, forecast
from needle.trial.trial import Trial, parse_trial

#: Closest and farthest that check-ins are apart, h, and how many are suggested.
CLOSEST_H, FARTHEST_H, MOST = 0.5, 6.0, 12
#: Shares of a run after which its forecast is held against its end.
LOOKS = (0.0, 1 / 3, 0.5, 0.8)


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


def check_ins_until(stop_h: float, prediction: Forecast) -> list[float]:
    """Hours of looks up to a stop that is known: as suggested, and on where it lasts longer."""
    hours = next_check_ins(prediction)
    while hours and hours[-1] + FARTHEST_H < stop_h:
        hours.append(hours[-1] + FARTHEST_H)
    return [hour for hour in hours if hour < stop_h]


@dataclass(frozen=True)
class Look:
    """What was foretold after a share of a finished run.

    Attributes
    ----------
    share : float
    stop_h : Range or None
        By the forecast from what had been seen by then; None where there was nothing to go by.
    display_h : float or None
        By the last promise that the display had made by then.
    """

    share: float
    stop_h: Range | None
    display_h: float | None


@dataclass(frozen=True)
class Mark:
    """How one finished trial was foretold: its hours, and each look.

    Only one that ran to its floor or cut-off has looks.
    """

    hours: float
    looks: tuple[Look, ...]

    def held(self, look: Look) -> bool | None:
        """Whether a look's 10-90 % range held the end."""
        return None if look.stop_h is None else look.stop_h[0] <= self.hours <= look.stop_h[2]

    def error(self, look: Look) -> float | None:
        """Relative error of a look's likely hours."""
        return None if look.stop_h is None else abs(look.stop_h[1] / self.hours - 1)

    def display_error(self, look: Look) -> float | None:
        return None if look.display_h is None else abs(look.display_h / self.hours - 1)


def mark(trial: Trial) -> Mark:
    """How a finished trial was foretold."""
    end = trial.ended
    assert end is not None
    if end.why not in ("floor", "cutoff"):
        return Mark(end.h, ())
    expected = expected_of(trial)
    return Mark(end.h, tuple(_look(trial, expected, end.h, share) for share in LOOKS))


def _look(trial: Trial, expected: Expected, hours: float, share: float) -> Look:
    seen = tuple(check_in for check_in in trial.check_ins if check_in.h <= share * hours + 1e-9)
    promised = [
        check_in.h + check_in.display_h for check_in in seen if check_in.display_h is not None
    ]
    foretold = _foretold(replace(trial, check_ins=seen, ended=None), expected)
    return Look(
        share, None if foretold is None else foretold.stop_h, promised[-1] if promised else None
    )


def _foretold(trial: Trial, expected: Expected) -> Forecast | None:
    try:
        return forecast(trial, expected=expected)
    except DocumentError:
        return None


@dataclass(frozen=True)
class LookScore:
    """One look over many trials: ranges that held, of how many; median errors, shares."""

    share: float
    trials: int
    held: int
    error: float | None
    display_error: float | None


@dataclass(frozen=True)
class Score:
    """How good forecasts have been: finished trials, and how each look stood."""

    trials: int
    looks: tuple[LookScore, ...] = ()


def score(marks: Sequence[Mark]) -> Score:
    """Sum up how good forecasts have been."""
    return Score(len(marks), tuple(_look_score(marks, number) for number in range(len(LOOKS))))


def _look_score(marks: Sequence[Mark], number: int) -> LookScore:
    looks = [(mark, mark.looks[number]) for mark in marks]
    held = [mark.held(look) for mark, look in looks if look.stop_h is not None]
    return LookScore(
        share=LOOKS[number],
        trials=len(held),
        held=sum(bool(inside) for inside in held),
        error=_median([mark.error(look) for mark, look in looks]),
        display_error=_median([mark.display_error(look) for mark, look in looks]),
    )


def _median(values: Sequence[float | None]) -> float | None:
    ordered = sorted(value for value in values if value is not None)
    if not ordered:
        return None
    middle = len(ordered) // 2
    return ordered[middle] if len(ordered) % 2 else (ordered[middle - 1] + ordered[middle]) / 2


@dataclass(frozen=True)
class Told:
    """A trial as it stands.

    Attributes
    ----------
    prediction : Forecast or None
        None while there is nothing to go by.
    planned : Forecast or None
        What was foretold before the first check-in.
    """

    prediction: Forecast | None
    planned: Forecast | None


def tell(document: dict[str, Any]) -> Told:
    """What a trial document comes to, and what was foretold at its start.

    Raises
    ------
    DocumentError
    """
    trial = parse_trial(document)
    expected = expected_of(trial)
    planned = _foretold(replace(trial, check_ins=(), ended=None), expected)
    return Told(_foretold(trial, expected), planned)


def mark_of(document: dict[str, Any]) -> Mark:
    """How the finished trial of a document was foretold.

    Raises
    ------
    DocumentError
    """
    return mark(parse_trial(document))
