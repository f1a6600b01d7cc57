"""What is under way: trials with their check-ins, the watch of an outage, measuring rounds."""

from __future__ import annotations

from datetime import datetime
from http import HTTPStatus
from typing import Any

from django.shortcuts import get_object_or_404
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from rest_framework.exceptions import ValidationError
from rest_framework.request import Request
from rest_framework.response import Response

from needle.message import unkept
from needle.trial.prediction import as_document as forecast_document
from web.api.base import JobView, document, paged
from web.api.openapi import ADDED, KEY, PAGE, ROWS, WORKING, accepts, is_document
from web.api.problems import Unanswerable
from web.jobs.models import Job
from web.rounds.models import MeasuringRound
from web.trials import actions
from web.trials.models import CheckIn, Trial, owned
from web.trials.trial_summaries import summary_of
from web.watch.actions import running_watch
from web.watch.page import document_of

#: How long an answer is waited for before the program is asked to come back, s.
WAIT_S = 1.0


def _trial(job: Job, pk: int) -> Trial:
    trials = job.trials.live().with_check_ins().select_related("supply", "plan")
    return owned(get_object_or_404(trials, pk=pk), job)


class Trials(JobView):
    @extend_schema(responses=ROWS, parameters=PAGE)
    def get(self, request: Request) -> Response:
        """The trials of the job, watches of outages among them."""

        def row(trial: Trial) -> dict[str, Any]:
            changed = timezone.localtime(trial.changed_at).isoformat(timespec="seconds")
            started = timezone.localtime(trial.started_at).isoformat()
            more = {"started_at": started, "running": trial.running}
            return {"id": trial.pk, "name": trial.name, **more, "changed_at": changed}

        return paged(request, self.job.trials.live().order_by("pk"), row)


class TrialDocument(JobView):
    @extend_schema(responses=is_document("Trial"))
    def get(self, request: Request, trial: int) -> Response:
        """A trial with its check-ins: what `needle forecast` and `needle watch` read."""
        return document(_trial(self.job, trial).to_document())


class TrialForecast(JobView):
    @extend_schema(responses=is_document("Forecast") | WORKING)
    def get(self, request: Request, trial: int) -> Response:
        """How long a trial lasts from here: as `needle forecast` prints it."""
        prediction = summary_of(_trial(self.job, trial), WAIT_S).prediction
        if prediction is None:
            raise Unanswerable("Nothing to go by yet: check in first.")
        return document(forecast_document(prediction))


class CheckIns(JobView):
    @extend_schema(responses=ROWS, parameters=PAGE)
    def get(self, request: Request, trial: int) -> Response:
        """The check-ins of a trial, in order of their time."""
        record = _trial(self.job, trial)
        return paged(request, record.known_check_ins(), lambda row: _row(record, row))

    @extend_schema(request=accepts("CheckIn"), responses=ADDED, parameters=[KEY])
    def post(self, request: Request, trial: int) -> Response:
        """Add a check-in of a running trial: figures of its document, and `at` (else now).

        With the same `Idempotency-Key` it counts once.
        """
        record = _trial(self.job, trial)
        if not record.running:
            raise Unanswerable("This trial has ended.")
        content, key = request.data, self.sent_key()
        if not isinstance(content, dict) or "h" in content:
            raise ValidationError("Send an object with figures; `at` says when, instead of `h`.")
        known = record.check_ins.live().filter(client_key=key).first()
        if known is not None:
            return document(_row(record, known))
        data = {name: value for name, value in content.items() if name != "at"}
        at = _moment(record, content.get("at"))
        stored = actions.check_in(CheckIn(trial=record, at=at, data=data, client_key=key))
        return document(_row(record, stored), HTTPStatus.CREATED)


def _row(trial: Trial, record: CheckIn) -> dict[str, Any]:
    at = timezone.localtime(record.at).isoformat(timespec="seconds")
    seen = {"h": round(trial.hours_to(record.at), 4), **record.data}
    return {"id": record.pk, "at": at, "check_in": seen, "entered_by": record.made_by}


def _moment(trial: Trial, text: Any) -> datetime:
    """When a check-in was made; now if nothing is said."""
    if text in (None, ""):
        return timezone.now()
    try:
        at = datetime.fromisoformat(str(text))
    except ValueError:
        at = None
    if at is None or at.tzinfo is None:
        raise ValidationError("at: must be ISO 8601 with an offset.")
    if at > timezone.now():
        raise ValidationError("at: is in the future; send only what was seen.")
    if at < trial.started_at:
        raise ValidationError("at: is before the start of the trial.")
    return at


class Watch(JobView):
    @extend_schema(responses=is_document("Watch") | WORKING)
    def get(self, request: Request) -> Response:
        """An outage that is being watched: as `needle watch` prints it, and its `trial`.

        `{"watched": false}` while there is none.
        """
        watch = running_watch(self.job)
        if watch is None:
            return document({"watched": False})
        return document({"watched": True, "trial": watch.pk, **document_of(watch, WAIT_S)})


class Rounds(JobView):
    @extend_schema(responses=ROWS, parameters=PAGE)
    def get(self, request: Request) -> Response:
        """The measuring rounds of the job."""

        def row(record: MeasuringRound) -> dict[str, Any]:
            begins, ends = (
                timezone.localtime(moment).isoformat() for moment in (record.begins, record.ends)
            )
            return {"id": record.pk, "from": begins, "until": ends, "over": record.over}

        return paged(request, self.job.rounds.filter(removed_at=None).order_by("pk"), row)


class RoundDocument(JobView):
    @extend_schema(responses=is_document("Round"))
    def get(self, request: Request, record: int) -> Response:
        """A round as `needle round` prints it; `states` are those of its steps, by key."""
        stored = get_object_or_404(self.job.rounds.filter(removed_at=None), pk=record)
        states = {step["key"]: step["state"] or "planned" for step in stored.steps}
        return document({**unkept(stored.told["document"]), "states": states})
