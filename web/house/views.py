"""The whole house: its interval files, and its loads beside them."""

from __future__ import annotations

import uuid

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST

from needle.document import DocumentError
from web.common.bodies import takes_up_to
from web.common.forms import client_key
from web.house import actions
from web.house.forms import MOST_BYTES, IntervalFileForm
from web.house.models import HouseRecord
from web.house.page import page_of
from web.jobs.access import of_job
from web.jobs.announcing import announce_change
from web.jobs.models import Job, Role


@takes_up_to(MOST_BYTES + 1_000_000)
@require_http_methods(["GET", "POST"])
@of_job(post=Role.MEASURER)
def index(request: HttpRequest, job: Job) -> HttpResponse:
    """The interval files of a job, the newest first; a POST reads another."""
    posted = request.method == "POST"
    form = IntervalFileForm(*((request.POST, request.FILES) if posted else ()))
    form.initial["client_key"] = uuid.uuid4()
    if posted and form.is_valid():
        file = form.cleaned_data["file"]
        record = HouseRecord(job=job, name=str(file.name)[:80], client_key=client_key(form))
        try:
            actions.read_file(record, file.read())
        except DocumentError as error:
            form.add_error("file", error.sentence)
        else:
            announce_change(request, job)
            return redirect("house:index", job.pk)
    pages = [page_of(record, job) for record in job.house_records.filter(removed_at=None)]
    status = 422 if form.is_bound else 200
    return render(
        request, "house/index.html", {"job": job, "form": form, "pages": pages}, status=status
    )


@require_POST
@of_job
def remove(request: HttpRequest, job: Job, record: int) -> HttpResponse:
    stored = get_object_or_404(job.house_records.filter(removed_at=None), pk=record)
    stored.job = job
    actions.remove_record(stored)
    announce_change(request, job)
    return redirect("house:index", job.pk)
