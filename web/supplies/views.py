"""Supplies: the list, each one's page, its parts and its tests."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.html import escape
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from web.common.forms import client_key
from web.jobs.access import of_job
from web.jobs.actions import as_one, job_grew
from web.jobs.announcing import announce_change
from web.jobs.models import Job, Role
from web.supplies import actions
from web.supplies.forms import InputForm, OutputForm, SupplyForm
from web.supplies.models import Input, Output, Supply, supplies_of
from web.supplies.page import card_of, page_of
from web.supplies.standin import simulated
from web.supplies.supply_test_forms import FORMS

#: Parts of a supply by the word in their address.
PARTS: dict[str, Any] = {"output": (Output, OutputForm), "input": (Input, InputForm)}


@require_GET
@of_job
def index(request: HttpRequest, job: Job) -> HttpResponse:
    cards = [card_of(supply) for supply in supplies_of(job)]
    return render(request, "supplies/list.html", {"job": job, "cards": cards})


def _supply(job: Job, pk: int) -> Supply:
    record: Supply = get_object_or_404(job.supplies.live().with_parts(), pk=pk)
    return record


@require_GET
@of_job
def page(request: HttpRequest, job: Job, supply: int) -> HttpResponse:
    record = _supply(job, supply)
    return render(request, "supplies/supply.html", {"job": job, "page": page_of(record)})


@require_POST
@of_job(post=Role.VIEWER)
def comes_to(request: HttpRequest, job: Job) -> HttpResponse:
    """The bank's size as typed so far; stores nothing."""
    form = SupplyForm(request.POST, instance=Supply(job=job))
    return HttpResponse(escape(form.comes_to()))


@require_http_methods(["GET", "POST"])
@of_job(see=Role.OWNER)
def add(request: HttpRequest, job: Job) -> HttpResponse:
    form = SupplyForm(request.POST or None, instance=Supply(job=job))
    if request.method == "POST" and form.is_valid():
        form.instance.client_key = client_key(form)
        with as_one(job, f"Added {form.instance.name}"):
            actions.add_supply(form.instance)
            job_grew(job)
        announce_change(request, job)
        return redirect("plans:current", job.pk)
    status = 422 if form.is_bound else 200
    return render(
        request, "supplies/edit.html", {"job": job, "form": form, "supply": None}, status=status
    )


@require_http_methods(["GET", "POST"])
@of_job(see=Role.OWNER)
def edit(request: HttpRequest, job: Job, supply: int) -> HttpResponse:
    record = _supply(job, supply)
    form = SupplyForm(request.POST or None, instance=record)
    if request.method == "POST" and form.is_valid():
        actions.change_supply(form.instance)
        announce_change(request, job)
        return redirect("supplies:supply", job.pk, record.pk)
    status = 422 if form.is_bound else 200
    stored = Supply.objects.get(pk=record.pk)
    context = {"job": job, "form": form, "supply": stored}
    return render(request, "supplies/edit.html", context, status=status)


@require_POST
@of_job
def remove(request: HttpRequest, job: Job, supply: int) -> HttpResponse:
    actions.remove_supply(_supply(job, supply))
    announce_change(request, job)
    return redirect("supplies:list", job.pk)


@require_http_methods(["GET", "POST"])
@of_job(see=Role.MEASURER, post=Role.MEASURER)
def test(request: HttpRequest, job: Job, supply: int, kind: str) -> HttpResponse:
    """A guided test; with ``simulated`` the form is filled in from the simulated supply."""
    record = _supply(job, supply)
    if kind not in FORMS:
        raise Http404
    form = FORMS[kind](record, request.POST or None, initial=_initial(request, record, kind))
    if not (record.known_outputs() if kind == "route" else form.outputs() or kind == "capacity"):
        messages.info(request, "That test needs an output: add one first.")
        return redirect("supplies:supply", job.pk, record.pk)
    if request.method == "POST" and form.is_valid():
        kept = form.as_test()
        kept.client_key = client_key(form)
        actions.add_test(kept)
        announce_change(request, job)
        return redirect("supplies:supply", job.pk, record.pk)
    context = {"job": job, "supply": record, "form": form, "kind": kind}
    return render(request, "supplies/test.html", context, status=422 if form.is_bound else 200)


def _initial(request: HttpRequest, supply: Supply, kind: str) -> dict[str, Any]:
    """Initial values of a test's form: from a round, or from the simulated supply."""
    if kind == "together":
        return {"loads": request.GET.getlist("loads"), "hours": request.GET.get("hours", "")}
    able = FORMS[kind].simulated
    wanted = able and "simulated" in request.GET and (supply.continuous_w or supply.known_outputs())
    if kind == "route" and not supply.known_outputs():
        return {}
    return simulated(supply, kind) if wanted else {}


@require_POST
@of_job
def remove_test(request: HttpRequest, job: Job, supply: int, test: int) -> HttpResponse:
    record = _supply(job, supply)
    actions.remove_test(get_object_or_404(record.tests.live(), pk=test))
    announce_change(request, job)
    return redirect("supplies:supply", job.pk, supply)


def _part_form(side: str) -> tuple[Any, Any]:
    if side not in PARTS:
        raise Http404
    form, model = PARTS[side]
    return form, model


@require_http_methods(["GET", "POST"])
@of_job(see=Role.OWNER)
def add_part(request: HttpRequest, job: Job, supply: int, side: str) -> HttpResponse:
    model, _ = _part_form(side)
    return _edit_part(request, job, side, model(supply=_supply(job, supply)))


@require_http_methods(["GET", "POST"])
@of_job(see=Role.OWNER)
def edit_part(request: HttpRequest, job: Job, supply: int, side: str, part: int) -> HttpResponse:
    model, _ = _part_form(side)
    record = get_object_or_404(
        model.objects.live().select_related("supply__job"), pk=part, supply=_supply(job, supply)
    )
    return _edit_part(request, job, side, record)


def _edit_part(request: HttpRequest, job: Job, side: str, part: Output | Input) -> HttpResponse:
    form = _part_form(side)[1](request.POST or None, instance=part)
    if request.method == "POST" and form.is_valid():
        if not part.pk:
            part.client_key = client_key(form)
        actions.save_part(part)
        announce_change(request, job)
        return redirect("supplies:supply", job.pk, part.supply.pk)
    context = {"job": job, "supply": part.supply, "part": part, "form": form, "side": side}
    return render(request, "supplies/part.html", context, status=422 if form.is_bound else 200)


@require_POST
@of_job
def remove_part(request: HttpRequest, job: Job, supply: int, side: str, part: int) -> HttpResponse:
    model, _ = _part_form(side)
    record = get_object_or_404(model.objects.live(), pk=part, supply=_supply(job, supply))
    actions.remove_part(record)
    announce_change(request, job)
    return redirect("supplies:supply", job.pk, supply)
