"""The walk round: many loads on one page, by hand or from a spreadsheet."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST
from django_htmx.http import HttpResponseClientRedirect

from needle.document import DocumentError
from needle.profile.appliances import APPLIANCES
from needle.profile.load_table import parse_load_table
from web.common.addresses import key_of
from web.common.bodies import PHOTOS_BYTES, takes_up_to
from web.common.htmx import HtmxRequest, refusal
from web.jobs.access import of_job
from web.jobs.announcing import announce_change
from web.jobs.models import Job, Role
from web.jobs.outbox import once
from web.loads import actions
from web.loads.walk_forms import MOST_ROWS, PREFIX, WalkFormSet, form_of_row


@takes_up_to(PHOTOS_BYTES)
@require_http_methods(["GET", "POST"])
@of_job(see=Role.MEASURER, post=Role.MEASURER)
def walk(request: HtmxRequest, job: Job) -> HttpResponse:
    """The list to fill; a POST stores all of it, or nothing if a row has an error."""
    typed = (request.POST, request.FILES) if request.method == "POST" else ()
    forms = WalkFormSet(*typed, job=job, prefix=PREFIX)
    if forms.is_valid():
        with once(request, job) as is_first:
            if is_first:
                actions.add_walked(job, forms.walked())
        announce_change(request, job)
        url = reverse("loads:survey", args=[job.pk])
        return HttpResponseClientRedirect(url) if request.htmx else redirect(url)
    context: dict[str, Any] = {"job": job, "forms": forms, "appliances": APPLIANCES.values()}
    name = "loads/_walk.html" if request.htmx else "loads/walk.html"
    return render(request, name, context, status=422 if forms.is_bound else 200)


@require_POST
@of_job(post=Role.MEASURER)
def paste(request: HtmxRequest, job: Job) -> HttpResponse:
    """Rows of a spreadsheet as rows of the walk, from the number ``first`` on."""
    first = min(MOST_ROWS, max(0, key_of(request.POST.get("first", "")) or 0))
    try:
        table = parse_load_table(request.POST.get("table", ""))
        if first + len(table.rows) > MOST_ROWS:
            words = f"has {len(table.rows)} loads: at most {MOST_ROWS} fit on one walk"
            raise DocumentError("table", words)
    except DocumentError as error:
        return refusal(error.sentence)
    rows = [form_of_row(row, first + number) for number, row in enumerate(table.rows)]
    return render(request, "loads/_walk_rows.html", {"forms": rows, "unused": table.unused})


@require_POST
@of_job(post=Role.MEASURER)
def same_again(request: HtmxRequest, job: Job, load: int) -> HttpResponse:
    """One more load like this one, with its readings."""
    original = get_object_or_404(job.loads.live(), pk=load)
    copy = actions.copy_load(original)
    announce_change(request, job)
    return redirect("loads:load", job.pk, copy.pk)
