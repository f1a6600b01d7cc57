"""Activity in a job: running meters, trials under way, loads without a reading."""

from __future__ import annotations

from django.db.models import QuerySet
from django.utils import timezone

from web.bench.models import Session
from web.common.units import clock
from web.jobs.models import Job
from web.loads.models import Load, loads_of


def running_sessions(job: Job) -> QuerySet[Session]:
    return Session.objects.live().filter(load__job=job, stopped=False)


def unread_loads(job: Job) -> list[Load]:
    """Loads without any reading."""
    return [load for load in loads_of(job) if not load.known_readings()]


def going(job: Job) -> list[str]:
    """What runs now, and since when, one sentence each."""
    words = [
        f"{session.load.name} is on a {session.get_meter_display()}, simulated."
        for session in running_sessions(job).select_related("load")
    ]
    for trial in job.trials.live().filter(ended_at=None):
        since = timezone.localtime(trial.started_at)
        words.append(f"Trial “{trial.name}” since {since:%a %d %b} {clock(since)}.")
    return words
