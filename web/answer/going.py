"""Activity in a job: running meters, trials under way, loads without a reading."""

from __future__ import annotations

from django.db.models import Exists, OuterRef, QuerySet
from django.utils import timezone

from web.bench.models import Session
from web.common.units import clock
from web.jobs.models import Job
from web.loads.models import Load, Reading


def running_sessions(job: Job) -> QuerySet[Session]:
    return Session.objects.live().filter(load__job=job, stopped=False)


def unread_loads(job: Job) -> QuerySet[Load]:
    """Loads without any reading."""
    read = Reading.objects.live().filter(load=OuterRef("pk"))
    return job.loads.live().filter(~Exists(read))


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
