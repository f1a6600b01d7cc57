"""Supplies: the list, and each one's page."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from web.common.forms import client_key
from web.jobs.access import of_job
from web.jobs.models import Job
from web.jobs.telling import tell
from web.supplies import actions
from web.supplies.forms import SupplyForm
from web.supplies.models import Supply
from web.supplies.page import card_of


@require_GET
@of_job
def index(request: HttpRequest, job: Job) -> HttpResponse:
    cards = [card_of(supply) for supply in job.supplies.live()]
    return render(request, "supplies/list.html", {"job": job, "cards": cards})


@require_http_methods(["GET", "POST"])
@of_job
def add(request: HttpRequest, job: Job) -> HttpResponse:
    form = SupplyForm(request.POST or None, instance=Supply(job=job))
    if request.method == "POST" and form.is_valid():
        form.instance.client_key = client_key(form)
        actions.add_supply(form.instance)
        tell(request, job)
        return redirect("plans:current", job.pk)
    status = 422 if form.is_bound else 200
    return render(request, "supplies/edit.html", {"job": job, "form": form}, status=status)


@require_http_methods(["GET", "POST"])
@of_job
def edit(request: HttpRequest, job: Job, supply: int) -> HttpResponse:
    found = get_object_or_404(job.supplies.live(), pk=supply)
    form = SupplyForm(request.POST or None, instance=found)
    if request.method == "POST" and form.is_valid():
        actions.change_supply(form.instance)
        tell(request, job)
        return redirect("supplies:list", job.pk)
    status = 422 if form.is_bound else 200
    stored = Supply.objects.get(pk=found.pk)
    context = {"job": job, "form": form, "supply": stored}
    return render(request, "supplies/edit.html", context, status=status)


@require_POST
@of_job
def remove(request: HttpRequest, job: Job, supply: int) -> HttpResponse:
    actions.remove_supply(get_object_or_404(job.supplies.live(), pk=supply))
    tell(request, job)
    return redirect("supplies:list", job.pk)
