"""Measuring rounds: new round, page, steps, downloads."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any
from uuid import uuid5

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_GET, require_http_methods, require_POST
from icalendar import Calendar, Event

from needle.document import DocumentError
from needle.message import unkept
from web.accounts.views import spares_the_shared_demo
from web.background.questions import AnswerPending
from web.common.downloads import attachment, csv_attachment, json_attachment, svg_attachment
from web.common.forms import client_key
from web.common.htmx import HtmxRequest, refused, screen_of
from web.common.units import said
from web.drawing.standalone import standalone
from web.drawing.timeline import WIDE, paper_for
from web.jobs.access import of_job
from web.jobs.announcing import announce_change
from web.jobs.models import Job, Role
from web.jobs.outbox import moment_made
from web.plans.outcomes import still_working
from web.rounds import actions
from web.rounds.forms import RoundForm
from web.rounds.models import PLANNED, STARTED, STATES, MeasuringRound
from web.rounds.page import page_of

STILL = "The round is still being calculated: try again in a moment."
DOWNLOADS = ("round.json", "round.csv", "round.ics", "round.svg")


def _record(job: Job, pk: int) -> MeasuringRound:
    rounds = job.rounds.filter(removed_at=None).select_related("plan__supply")
    record: MeasuringRound = get_object_or_404(rounds, pk=pk)
    record.job = job
    return record


@require_http_methods(["GET", "POST"])
@of_job(post=Role.MEASURER)
def index(request: HtmxRequest, job: Job) -> HttpResponse:
    """Form of a new round, and earlier rounds. A POST plans a new one."""
    form = RoundForm(request.POST or None, instance=MeasuringRound(job=job), job=job)
    if request.method == "POST" and form.is_valid():
        form.instance.client_key = client_key(form)
        try:
            stored = actions.begin(form.instance)
        except DocumentError as error:
            form.add_error(None, error.sentence)
        except AnswerPending:
            form.add_error(None, STILL)
        else:
            announce_change(request, job)
            return redirect("rounds:round", job.pk, stored.pk)
    context = {
        "job": job,
        "form": form,
        "has_loads": job.loads.live().exists(),
        "rounds": list(job.rounds.filter(removed_at=None)[:20]),
    }
    return render(request, "rounds/index.html", context, status=422 if form.is_bound else 200)


@require_GET
@of_job
def page(request: HtmxRequest, job: Job, record: int) -> HttpResponse:
    paper = paper_for(screen_of(request))
    context = {"job": job, "page": page_of(_record(job, record), job, paper)}
    return render(request, "rounds/round.html", context)


@require_POST
@of_job(post=Role.MEASURER)
def mark(request: HtmxRequest, job: Job, record: int) -> HttpResponse:
    """Set the state of a step: started, done, skipped, impossible, or planned again."""
    stored = _record(job, record)
    key, state = request.POST.get("step", ""), request.POST.get("state", "")
    if state not in (PLANNED, *STATES):
        raise Http404
    at = moment_made(request) or timezone.now()
    return _changed(request, job, stored, lambda: actions.mark(stored, key, state, at))


@require_POST
@of_job(post=Role.MEASURER)
def anew(request: HtmxRequest, job: Job, record: int) -> HttpResponse:
    """Plan the rest again."""
    stored = _record(job, record)
    return _changed(request, job, stored, lambda: actions.plan_anew(stored))


def _changed(
    request: HtmxRequest, job: Job, stored: MeasuringRound, change: Callable[[], None]
) -> HttpResponse:
    """Change a round and redirect to its page, with an error message if needed."""
    page = reverse("rounds:round", args=[job.pk, stored.pk])
    try:
        change()
        announce_change(request, job)
    except DocumentError as error:
        return refused(request, f"Nothing was changed: {error.message}.", page)
    except AnswerPending:
        if request.htmx:
            return still_working()
        messages.info(request, STILL)
    return redirect(page)


@require_POST
@of_job
@spares_the_shared_demo
def remove(request: HtmxRequest, job: Job, record: int) -> HttpResponse:
    actions.end(_record(job, record))
    announce_change(request, job)
    return redirect("rounds:index", job.pk)


@require_GET
@of_job
def download(request: HtmxRequest, job: Job, record: int, filename: str) -> HttpResponse:
    """The round's document, its steps as CSV, a calendar, or its drawing."""
    stored = _record(job, record)
    if filename not in DOWNLOADS:
        raise Http404
    if filename == "round.json":
        return json_attachment(unkept(stored.told["document"]), filename)
    if filename == "round.svg":
        return svg_attachment(standalone(page_of(stored, job, WIDE).drawing), filename)
    if filename == "round.csv":
        return csv_attachment(_table(stored), filename)
    url = request.build_absolute_uri(reverse("rounds:round", args=[job.pk, record]))
    return attachment(_calendar(stored, url), "text/calendar", filename)


def _table(stored: MeasuringRound) -> list[list[Any]]:
    rows: list[list[Any]] = [["from", "until", "meter", "what", "load", "do", "state"]]
    for step in stored.steps:
        rows.append(
            [
                step["first"],
                step["last"],
                step["meter"],
                step["what"],
                step["load"],
                said(step["do"]),
                step["state"],
            ]
        )
    return rows


def _calendar(stored: MeasuringRound, url: str) -> bytes:
    """Calendar (RFC 5545) of the steps' starts, and of ends at which something is read."""
    calendar = Calendar()
    calendar.add("prodid", "-//Steady Needle//round//EN")
    calendar.add("version", "2.0")
    for step in stored.steps_in(PLANNED, STARTED):
        first, last = (datetime.fromisoformat(step[key]) for key in ("first", "last"))
        ends = last - timedelta(minutes=step["after_min"])
        moments = [(first, step["before_min"], said(step["do"]))]
        if step["end"]:
            moments.append((ends, step["after_min"], said(step["end"])))
        for place, (moment, minutes, words) in enumerate(moments):
            event = Event()
            # A step that was planned anew moves in a calendar that has it already.
            name = uuid5(stored.client_key, f"{step['key']} {place}")
            event.add("uid", f"{name}@steady-needle")
            event.add("dtstamp", timezone.now())
            event.add("dtstart", moment)
            event.add("dtend", moment + timedelta(minutes=max(1.0, minutes)))
            event.add("summary", words)
            event.add("url", url)
            calendar.add_component(event)
    return bytes(calendar.to_ical())
