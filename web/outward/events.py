"""What happened in a job, for its webhooks, each thing once."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django.utils import timezone

from needle.document import DocumentError
from needle.watch.summary import LOOK_H
from web.background.questions import AnswerPending
from web.jobs.access import Access, acting_as
from web.jobs.models import Job, Role
from web.outward.figures import caution_of
from web.outward.models import BACK, CHECK_IN, STOP, Delivery, Hook
from web.trials.models import Trial, owned
from web.trials.page import upcoming
from web.trials.trial_summaries import summary_of as trial_summary_of
from web.watch.actions import running_watch
from web.watch.page import headline_of, summary_of

#: How long the figures of one job are waited for, s.
WAIT_S = 20.0
#: For how long after it something is still news.
NEWS = timedelta(hours=12)


@dataclass(frozen=True)
class Event:
    """Something that happened: its kind, what it is about, its sentence and its figures."""

    kind: str
    about: str
    text: str
    figures: dict[str, Any]


def note_events(hook: Hook) -> int:
    """Add a message to a hook for everything that happened, once."""
    made = 0
    with acting_as(Access(hook.job, Role.VIEWER, "a webhook")):
        for event in _events(hook):
            body = json.dumps(
                {
                    "event": event.kind,
                    "about": event.about,
                    "job": hook.job.name,
                    "at": timezone.localtime().isoformat(timespec="seconds"),
                    "text": event.text,
                    **event.figures,
                }
            )
            _, created = Delivery.objects.get_or_create(
                hook=hook, about=event.about, defaults={"body": body}
            )
            made += created
    return made


def _events(hook: Hook) -> Iterator[Event]:
    kinds: tuple[tuple[str, Callable[[], Iterator[Event]]], ...] = (
        (STOP, lambda: _stop(hook.job, hook.hours)),
        (CHECK_IN, lambda: _due(hook.job)),
        (BACK, lambda: _back(hook)),
    )
    for kind, look in kinds:
        if kind in hook.events:
            try:
                yield from look()
            except (AnswerPending, DocumentError):
                # Looked at again the next time.
                continue


def _stop(job: Job, hours: float) -> Iterator[Event]:
    """An outage whose supply may stop soon; once more at half and at a quarter of the hours.

    By the low end of its range: nobody is warned late because the middle is later.
    """
    watch = running_watch(job)
    if watch is None:
        return
    summary = summary_of(watch, WAIT_S)
    low, likely, high = summary.remaining_h
    if low > hours:
        return
    nearer = next(part for part in (0.25, 0.5, 1.0) if low <= hours * part or part == 1.0)
    yield Event(
        STOP,
        f"{STOP} {watch.pk} {nearer:g}",
        f"{headline_of(watch, summary)}.",
        {
            "trial": watch.pk,
            "remaining_h": {"value": likely, "low": low, "high": high},
            "chance": summary.chance,
            "caution": caution_of(summary),
        },
    )


def _due(job: Job) -> Iterator[Event]:
    """Check-ins of running trials whose time has come; in an outage, a look every two hours."""
    now = timezone.now()
    for trial in _running(job):
        if trial.is_watch:
            looked = [record.at for record in trial.known_check_ins()]
            moments = [max(looked, default=trial.started_at) + timedelta(hours=LOOK_H)]
        else:
            prediction = trial_summary_of(trial, WAIT_S).prediction
            moments = upcoming(trial, prediction) if prediction is not None else []
        for moment in moments[:1]:
            if now - NEWS < moment <= now:
                at = timezone.localtime(moment)
                yield Event(
                    CHECK_IN,
                    f"{CHECK_IN} {trial.pk} {at:%Y-%m-%dT%H:%M}",
                    f"{trial.name}: read the display, and check in.",
                    {"trial": trial.pk, "due": at.isoformat(timespec="minutes")},
                )


def _running(job: Job) -> list[Trial]:
    trials = job.trials.live().with_check_ins().filter(ended_at=None, simulated_seed=None)
    return [owned(trial, job) for trial in trials.select_related("supply", "plan")]


def _back(hook: Hook) -> Iterator[Event]:
    """Outages that ended since the hook was made, not long ago."""
    since = max(hook.created_at, timezone.now() - NEWS)
    ended = hook.job.trials.live().filter(needed_h__isnull=False, simulated_seed=None)
    for trial in ended.filter(ended_at__gte=since):
        at = timezone.localtime(trial.ended_at)
        yield Event(
            BACK,
            f"{BACK} {trial.pk}",
            f"Power is back since {at:%H:%M}.",
            {"trial": trial.pk, "since": at.isoformat(timespec="minutes")},
        )
