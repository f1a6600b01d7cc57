"""The answer bar by itself, for pages that update it."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from web.answer.going import going, unread_loads
from web.answer.words import bar_of
from web.jobs.access import of_job
from web.jobs.models import Job
from web.plans.outcomes import answer_of, current_plan


@require_GET
@of_job
def bar(request: HttpRequest, job: Job) -> HttpResponse:
    return render(request, "answer/bar.html", {"job": job})


@require_GET
@of_job
def line(request: HttpRequest, job: Job) -> HttpResponse:
    """The answer in one sentence, for the list of jobs."""
    bar = bar_of(answer_of(current_plan(job)), job)
    context = {"bar": bar, "job": job, "going": going(job), "unread": len(unread_loads(job))}
    return render(request, "answer/line.html", context)
