"""Access to jobs: a foreign or unknown id is a 404."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.utils import timezone

from web.jobs.models import Job


def of_job(view: Callable[..., HttpResponse]) -> Callable[..., HttpResponse]:
    """Pass the :class:`Job` to the view instead of its id, if it is the user's."""

    @wraps(view)
    def inner(request: HttpRequest, job: int, *args: Any, **kwargs: Any) -> HttpResponse:
        record = get_object_or_404(Job.objects.visible_to(request.user), pk=job)
        # All of its times are shown by its own clock.
        with timezone.override(record.clock):
            return view(request, record, *args, **kwargs)

    return inner
