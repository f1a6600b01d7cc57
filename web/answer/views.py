"""The answer bar by itself, for pages that want it anew."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from web.jobs.access import of_job
from web.jobs.models import Job


@require_GET
@of_job
def bar(request: HttpRequest, job: Job) -> HttpResponse:
    return render(request, "answer/bar.html", {"job": job})
