"""Summaries of trials, computed by the answer pool and cached."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, TypeVar

from needle.document import DocumentError
from needle.trial.lessons import RunLessons, lessons_of
from needle.trial.trial_summary import (
    ForecastRecord,
    Score,
    TrialSummary,
    forecast_record_of,
    score,
    summarise,
)
from web.background.asking import worked_out
from web.background.questions import AnswerPending, key_of
from web.trials.models import Trial

T = TypeVar("T")
#: How long a page waits for a trial's forecast, s.
PAGE_WAIT_S = 2.0


def summary_of(trial: Trial, wait_s: float = PAGE_WAIT_S) -> TrialSummary:
    """Summary of a trial in its present state.

    Raises
    ------
    AnswerPending
        It takes longer than ``wait_s``.
    """
    return _worked_out("trial-summary", trial, wait_s, summarise)


def record_of(trial: Trial, wait_s: float = PAGE_WAIT_S) -> ForecastRecord:
    """Forecast record of a finished trial; without checkpoints if it did not run to its end.

    Raises
    ------
    AnswerPending
    """
    return _worked_out("forecast-record", trial, wait_s, forecast_record_of)


def run_lessons_of(trial: Trial, wait_s: float = PAGE_WAIT_S) -> RunLessons:
    """What a finished trial taught about its plan, as it was known at its start.

    Raises
    ------
    AnswerPending
    """
    plan = trial.expected["plan"]
    fed = {load["name"]: {**load, "notices": []} for load in plan["loads"]}
    return _worked_out("run-lessons", trial, wait_s, lessons_of, plan, trial.as_run(fed))


def _worked_out(
    kind: str, trial: Trial, wait_s: float, work: Callable[..., T], *documents: dict[str, Any]
) -> T:
    """What a function makes of documents, of the trial's unless others are given."""
    about = documents or (trial.to_document(),)
    return worked_out(key_of(kind, *about), (kind, trial.job.owner_id), wait_s, work, *about)


def score_of(trials: Sequence[Trial]) -> tuple[Score, int]:
    """Score of the forecasts of finished trials, and the number not computed yet."""
    records, waiting = [], 0
    for trial in trials:
        if trial.running:
            continue
        try:
            records.append(record_of(trial, 0.0 if waiting else PAGE_WAIT_S))
        except AnswerPending:
            waiting += 1
        except DocumentError:
            continue
    return score([record for record in records if record.checkpoints]), waiting
