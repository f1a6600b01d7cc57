"""What trials come to, worked out beside the site and kept while nothing changes."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Sequence
from typing import Any, TypeVar

from needle.document import DocumentError
from needle.trial.follow import Mark, Score, Told, mark_of, score, tell
from web.plans.desk import NotReady, worked_out
from web.trials.models import Trial

T = TypeVar("T")
#: Raised when the core tells the same document differently.
TELLING_VERSION = 1
#: How long a page waits for a trial's forecast, s.
PAGE_WAIT_S = 2.0


def told(trial: Trial, wait_s: float = PAGE_WAIT_S) -> Told:
    """What a trial comes to as it stands.

    Raises
    ------
    NotReady
        It takes longer than ``wait_s``.
    """
    return _worked_out("told", trial, wait_s, tell)


def marked(trial: Trial, wait_s: float = PAGE_WAIT_S) -> Mark:
    """How a finished trial was foretold; without looks where it proves nothing of the battery.

    Raises
    ------
    NotReady
    """
    return _worked_out("marked", trial, wait_s, mark_of)


def _worked_out(kind: str, trial: Trial, wait_s: float, work: Callable[[dict[str, Any]], T]) -> T:
    document = trial.to_document()
    text = json.dumps([TELLING_VERSION, document], sort_keys=True)
    key = f"{kind}:" + hashlib.sha256(text.encode()).hexdigest()
    return worked_out(key, (kind, trial.job.owner_id), wait_s, work, document)


def score_of(trials: Sequence[Trial]) -> tuple[Score, int]:
    """How good forecasts have been over finished trials, and how many are not worked out yet."""
    marks, waiting = [], 0
    for trial in trials:
        if trial.running:
            continue
        try:
            marks.append(marked(trial, 0.0 if waiting else PAGE_WAIT_S))
        except NotReady:
            waiting += 1
        except DocumentError:
            continue
    return score([mark for mark in marks if mark.looks]), waiting
