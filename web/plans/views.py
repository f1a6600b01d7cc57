"""Day plans: one page each, changed in place."""

from __future__ import annotations

import csv
import json
from typing import Any

from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from needle.plan.report import as_document
from web.common.forms import client_key
from web.jobs.access import of_job
from web.jobs.models import Job
from web.jobs.telling import tell
from web.plans import actions
from web.plans.forms import EntryForm, PlanForm
from web.plans.models import Plan, PlanEntry
from web.plans.outcomes import answer, current_plan, document
from web.plans.page import csv_rows, rows_of, view_of

DOWNLOADS = ("plan.json", "answer.json", "curve.csv", "curve.svg")


def _plan(job: Job, pk: int) -> Plan:
    """A plan of the job; 0 is the one that stands in until any was stored."""
    if pk == 0:
        return current_plan(job)
    found = get_object_or_404(job.plans.live().select_related("supply"), pk=pk)
    found.job = job
    return found


def _context(job: Job, plan: Plan) -> dict[str, Any]:
    found = answer(plan)
    return {
        "job": job,
        "plan": plan,
        "plan_id": plan.pk or 0,
        "answer": found,
        "outcome": found.outcome,
        "rows": rows_of(found),
        "view": view_of(found),
        "plans": list(job.plans.live()),
    }


@require_GET
@of_job
def current(request: HttpRequest, job: Job) -> HttpResponse:
    """The plan that the answer bar speaks of."""
    return render(request, "plans/plan.html", _context(job, current_plan(job)))


@require_GET
@of_job
def plan_page(request: HttpRequest, job: Job, plan: int) -> HttpResponse:
    return render(request, "plans/plan.html", _context(job, _plan(job, plan)))


@require_http_methods(["GET", "POST"])
@of_job
def add(request: HttpRequest, job: Job) -> HttpResponse:
    return _edit(request, job, Plan(job=job, name=""))


@require_http_methods(["GET", "POST"])
@of_job
def edit(request: HttpRequest, job: Job, plan: int) -> HttpResponse:
    return _edit(request, job, _plan(job, plan))


def _edit(request: HttpRequest, job: Job, plan: Plan) -> HttpResponse:
    form = PlanForm(request.POST or None, instance=plan, job=job)
    if request.method == "POST" and form.is_valid():
        if form.instance.pk is None:
            form.instance.client_key = client_key(form)
        stored = actions.save_plan(form.instance)
        tell(request, job)
        return redirect("plans:plan", job.pk, stored.pk)
    status = 422 if form.is_bound else 200
    context = {"job": job, "form": form, "plan_id": plan.pk or 0}
    return render(request, "plans/edit.html", context, status=status)


@require_POST
@of_job
def use_load(request: HttpRequest, job: Job, plan: int, load: int) -> HttpResponse:
    """Take a load in or leave it out, and when it is used; answers with the plan anew."""
    found = _plan(job, plan)
    target = get_object_or_404(job.loads.live(), pk=load)
    entry = found.entries.live().filter(load=target).first() if found.pk else None
    entry = entry or PlanEntry(load=target)
    entry.plan, entry.load = found, target
    form = EntryForm(request.POST, instance=entry, prefix=f"load{load}")
    if form.is_valid():
        if entry.pk is None:
            entry.client_key = client_key(form)
        actions.use_load(form.instance)
        tell(request, job)
        found = form.instance.plan
        if not request.htmx:  # type: ignore[attr-defined]
            return redirect("plans:plan", job.pk, found.pk)
        return render(request, "plans/_changed.html", _context(job, _plan(job, found.pk)))
    context = _context(job, _plan(job, plan))
    for row in context["rows"]:
        if row.used.load.pk == load:
            object.__setattr__(row, "form", form)
    name = "plans/_changed.html" if request.htmx else "plans/plan.html"  # type: ignore[attr-defined]
    return render(request, name, context, status=422)


@require_POST
@of_job
def make_current(request: HttpRequest, job: Job, plan: int) -> HttpResponse:
    actions.make_current(_plan(job, plan))
    return redirect("plans:plan", job.pk, plan)


@require_POST
@of_job
def remove(request: HttpRequest, job: Job, plan: int) -> HttpResponse:
    actions.remove_plan(_plan(job, plan))
    tell(request, job)
    return redirect("plans:current", job.pk)


@require_GET
@of_job
def download(request: HttpRequest, job: Job, plan: int, form: str) -> HttpResponse:
    """The plan as its open document, its answer as JSON, or its curve as CSV or SVG."""
    found = answer(_plan(job, plan))
    if found.outcome is None or found.supply is None or form not in DOWNLOADS:
        raise Http404
    if form == "plan.json":
        text = json.dumps(document(found.plan, found.supply, found.used), indent=1)
        response = HttpResponse(text, content_type="application/json")
    elif form == "answer.json":
        response = JsonResponse(as_document(found.outcome))
    elif form == "curve.svg":
        response = HttpResponse(view_of(found).curve, content_type="image/svg+xml")
    else:
        response = HttpResponse(content_type="text/csv; charset=utf-8")
        csv.writer(response).writerows(csv_rows(found.outcome))
    response["Content-Disposition"] = f'attachment; filename="{form}"'
    return response
