"""Search: a list while typing, or a page without scripts."""

from __future__ import annotations

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from web.common.htmx import HtmxRequest
from web.find.finding import MOST_LETTERS, hits
from web.jobs.access import of_job
from web.jobs.models import Job


@require_GET
def find(request: HtmxRequest, job: Job | None = None) -> HttpResponse:
    """Results for ``q``."""
    text = request.GET.get("q", "")[:MOST_LETTERS]
    context = {"job": job, "find": text, "hits": hits(request.user, job, text)}
    return render(request, "find/_hits.html" if request.htmx else "find/find.html", context)


#: The same from a page of a job: what belongs to it comes first.
find_in_job = of_job(find)
