"""Summary of a trial: forecast, next check-ins, and how good past forecasts were."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from needle.document import DocumentError
from needle.trial.expected import Expected, expected_of
from needle.trial.forecast import forecast
from needle.trial.prediction import Forecast, Range
from needle.trial.trial import Trial, parse_trial

#: Closest and farthest that check-ins are apart, h, and how many are suggested.
CLOSEST_H, FARTHEST_H, MOST = 0.5, 6.0, 12
#: Shares of a run after which its forecast is held against its end.
CHECKPOINTS = (0.0, 1 / 3, 0.5, 0.8)


def next_check_ins(prediction: Forecast) -> list[float]:
    """Hours from the start at which check-ins are most useful: closer together towards the stop.

    Each is a third of the likely hours left after the previous one, in quarter hours, until the
    earliest likely stop; then every half hour until the latest.
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
    """Hours of check-ins up to a known stop: as suggested, and beyond that if it lasts longer."""
    hours = next_check_ins(prediction)
    while hours and hours[-1] + FARTHEST_H < stop_h:
        hours.append(hours[-1] + FARTHEST_H)
    return [hour for hour in hours if hour < stop_h]


@dataclass(frozen=True)
class Checkpoint:
    """The forecast after a share of a finished run.

    Attributes
    ----------
    share : float
    stop_h : Range or None
        Forecast from the check-ins up to then; None without any.
    display_h : float or None
        Last hours promised by the display up to then.
    """

    share: float
    stop_h: Range | None
    display_h: float | None


@dataclass(frozen=True)
class ForecastRecord:
    """Forecasts of one finished trial: its hours, and each checkpoint.

    Only a trial that ran to its floor or cut-off has checkpoints.
    """

    hours: float
    checkpoints: tuple[Checkpoint, ...]

    def covered(self, checkpoint: Checkpoint) -> bool | None:
        """Whether a checkpoint's 10-90 % range contained the end."""
        return (
            None
            if checkpoint.stop_h is None
            else checkpoint.stop_h[0] <= self.hours <= checkpoint.stop_h[2]
        )

    def error(self, checkpoint: Checkpoint) -> float | None:
        """Relative error of a checkpoint's median hours."""
        return None if checkpoint.stop_h is None else abs(checkpoint.stop_h[1] / self.hours - 1)

    def display_error(self, checkpoint: Checkpoint) -> float | None:
        return None if checkpoint.display_h is None else abs(checkpoint.display_h / self.hours - 1)


def forecast_record(trial: Trial) -> ForecastRecord:
    """Return how a finished trial was forecast."""
    end = trial.ended
    assert end is not None
    if end.why not in ("floor", "cutoff"):
        return ForecastRecord(end.h, ())
    expected = expected_of(trial)
    return ForecastRecord(
        end.h, tuple(_checkpoint(trial, expected, end.h, share) for share in CHECKPOINTS)
    )


def _checkpoint(trial: Trial, expected: Expected, hours: float, share: float) -> Checkpoint:
    check_ins = tuple(
        check_in for check_in in trial.check_ins if check_in.h <= share * hours + 1e-9
    )
    promised = [
        check_in.h + check_in.display_h for check_in in check_ins if check_in.display_h is not None
    ]
    predicted = _forecast_or_none(replace(trial, check_ins=check_ins, ended=None), expected)
    return Checkpoint(
        share, None if predicted is None else predicted.stop_h, promised[-1] if promised else None
    )


def _forecast_or_none(trial: Trial, expected: Expected) -> Forecast | None:
    try:
        return forecast(trial, expected=expected)
    except DocumentError:
        return None


@dataclass(frozen=True)
class CheckpointScore:
    """A checkpoint over many trials: ranges that contained the end, of how many; median errors."""

    share: float
    trials: int
    covered: int
    error: float | None
    display_error: float | None


@dataclass(frozen=True)
class Score:
    """How good forecasts were: number of finished trials, and a score for each checkpoint."""

    trials: int
    checkpoints: tuple[CheckpointScore, ...] = ()


def score(records: Sequence[ForecastRecord]) -> Score:
    """Return the score over several trials."""
    return Score(
        len(records),
        tuple(_checkpoint_score(records, number) for number in range(len(CHECKPOINTS))),
    )


def _checkpoint_score(records: Sequence[ForecastRecord], number: int) -> CheckpointScore:
    checkpoints = [(record, record.checkpoints[number]) for record in records]
    covered = [
        record.covered(checkpoint)
        for record, checkpoint in checkpoints
        if checkpoint.stop_h is not None
    ]
    return CheckpointScore(
        share=CHECKPOINTS[number],
        trials=len(covered),
        covered=sum(bool(inside) for inside in covered),
        error=_median([record.error(checkpoint) for record, checkpoint in checkpoints]),
        display_error=_median(
            [record.display_error(checkpoint) for record, checkpoint in checkpoints]
        ),
    )


def _median(values: Sequence[float | None]) -> float | None:
    ordered = sorted(value for value in values if value is not None)
    if not ordered:
        return None
    middle = len(ordered) // 2
    return ordered[middle] if len(ordered) % 2 else (ordered[middle - 1] + ordered[middle]) / 2


@dataclass(frozen=True)
class TrialSummary:
    """A trial in its present state.

    Attributes
    ----------
    prediction : Forecast or None
        None without a plan or check-ins.
    planned : Forecast or None
        The forecast before the first check-in.
    """

    prediction: Forecast | None
    planned: Forecast | None


def summarise(document: dict[str, Any]) -> TrialSummary:
    """Return the forecast of a trial document, and the forecast at its start.

    Raises
    ------
    DocumentError
    """
    trial = parse_trial(document)
    expected = expected_of(trial)
    planned = _forecast_or_none(replace(trial, check_ins=(), ended=None), expected)
    return TrialSummary(_forecast_or_none(trial, expected), planned)


def forecast_record_of(document: dict[str, Any]) -> ForecastRecord:
    """Return how the finished trial of a document was forecast.

    Raises
    ------
    DocumentError
    """
    return forecast_record(parse_trial(document))
