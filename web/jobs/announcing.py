"""Messages about changes, with undo."""

from __future__ import annotations

from django.contrib import messages
from django.http import HttpRequest

from web.jobs.actions import latest_change
from web.jobs.models import Job


def announce_change(request: HttpRequest, job: Job) -> None:
    """Queue a message about the latest change, with its id so that the page offers undo.

    None for an entry that waited on its device: many arrive at once, and its outbox says so.
    """
    if "made_at" in request.POST:
        return
    change = latest_change(job)
    if change is not None:
        messages.success(request, f"{change.label}.", extra_tags=str(change.pk))
