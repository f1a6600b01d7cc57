"""Starts, cords, and power-factor correction."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from needle.decide.power_factor import STOCK_UF, TARGET
from web.accounts.models import keep_stock, stock_of
from web.bench.live import look
from web.bench.models import Session
from web.common.addresses import keys_of
from web.common.forms import client_key
from web.common.htmx import HtmxRequest
from web.jobs.access import may_open, of_job
from web.jobs.announcing import announce_change
from web.jobs.models import Job, Role
from web.loads.actions import change_cord
from web.loads.models import Load
from web.matching import actions
from web.matching.compare import choices_of, pick
from web.matching.compare import compare as compare_loads
from web.matching.correction import Running, page_of, running_of
from web.matching.forms import (
    CordForm,
    CorrectionForm,
    StartTestForm,
    StockForm,
    TargetForm,
    stock_text,
)
from web.matching.models import Correction
from web.matching.starts import contender_of, matrix_of
from web.plans.outcomes import answer_of, current_plan
from web.supplies.actions import add_start_test, remove_start_test
from web.supplies.models import StartTest, supplies_of


def _keys(request: HtmxRequest, name: str) -> list[int]:
    """Primary keys in a query's values; others are ignored."""
    return keys_of(request.GET.getlist(name))


@require_GET
@of_job
def starts(request: HtmxRequest, job: Job) -> HttpResponse:
    """The start matrix; ``load`` selects loads, ``supply`` the switching order."""
    answer = answer_of(current_plan(job), page_first=not request.htmx)
    job.cache.answer = answer
    chosen = _keys(request, "load") if "chosen" in request.GET else None
    supply = next(iter(_keys(request, "supply")), None)
    matrix = matrix_of(job, answer, chosen, supply)
    record = reverse("matching:record-start", args=[job.pk])
    context = {
        "job": job,
        "plan": answer.plan,
        "matrix": matrix,
        "record": record if may_open(record) else "",
        "pending": answer.pending,
    }
    name = "matching/_starts.html" if request.htmx else "matching/starts.html"
    return render(request, name, context)


@require_http_methods(["GET", "POST"])
@of_job(see=Role.MEASURER, post=Role.MEASURER)
def record_start(request: HtmxRequest, job: Job) -> HttpResponse:
    first = {name: next(iter(_keys(request, name)), None) for name in ("load", "supply")}
    form = StartTestForm(job, request.POST or None, initial=first)
    if request.method == "POST" and form.is_valid():
        form.instance.client_key = client_key(form)
        add_start_test(form.instance)
        announce_change(request, job)
        return redirect("matching:starts", job.pk)
    status = 422 if form.is_bound else 200
    return render(request, "matching/record_start.html", {"job": job, "form": form}, status=status)


@require_POST
@of_job
def remove_start(request: HtmxRequest, job: Job, test: int) -> HttpResponse:
    remove_start_test(get_object_or_404(StartTest.objects.live(), pk=test, supply__job=job))
    announce_change(request, job)
    return redirect("matching:starts", job.pk)


def _load(job: Job, pk: int) -> Load:
    record: Load = get_object_or_404(job.loads.live().with_readings(), pk=pk)
    record.job = job
    return record


@require_GET
@of_job
def compare(request: HtmxRequest, job: Job) -> HttpResponse:
    """Loads or settings compared with the first one."""
    choices = choices_of(job)
    picked = pick(choices, request.GET.getlist("item"), request.GET.get("ref", ""))
    supplies = supplies_of(job)
    wanted = request.GET.get("on", "")
    supply = next(
        (supply for supply in supplies if str(supply.pk) == wanted),
        supplies[0] if supplies else None,
    )
    context = {
        "job": job,
        "choices": choices,
        "picked": [choice.key for choice in picked],
        "supplies": supplies,
        "on": supply.pk if supply else None,
        "compared": compare_loads(job, picked, supply) if picked else None,
    }
    return render(request, "matching/compare.html", context)


@require_http_methods(["GET", "POST"])
@of_job
def cord(request: HtmxRequest, job: Job, load: int) -> HttpResponse:
    """The voltage drop of a load's cord."""
    record = _load(job, load)
    form = CordForm(request.POST or None, instance=record)
    if request.method == "POST" and form.is_valid():
        change_cord(form.instance)
        announce_change(request, job)
        return redirect("matching:cord", job.pk, load)
    stored = _load(job, load)
    contender = contender_of(stored)
    context: dict[str, Any] = {"job": job, "load": stored, "form": form, "contender": contender}
    if contender is not None:
        profile, volts = stored.profile(), stored.volts()
        assert profile is not None
        running_va = contender.running_w.value / profile.power_factor.value
        context |= {"volts": volts, "check": stored.cord(running_va, contender.start_va.value)}
        if volts is not None:
            context |= {
                "running_a": running_va / volts,
                "start_a": contender.start_va.value / volts,
            }
    return render(request, "matching/cord.html", context, status=422 if form.is_bound else 200)


def _target(form: TargetForm) -> float:
    """The target power factor of a valid form, or the usual one."""
    if not form.is_bound or not form.is_valid():
        return TARGET
    return form.cleaned_data["target"] or TARGET


def _running(request: HtmxRequest, load: Load) -> Running | None:
    """Running values from a live session of the load if given, else from its readings."""
    for key in _keys(request, "session"):
        session = Session.objects.live().filter(pk=key, load=load, stopped=False).first()
        if session is not None:
            session.load = load
            live = look(session).columns
            if live["watts"] > 0 and live["va"] >= live["watts"]:
                return Running(live["watts"], live["va"], live["volts"], "on the bench just now")
    return running_of(load, request.GET.get("state", ""))


@require_http_methods(["GET", "POST"])
@of_job(post=Role.VIEWER)
def correction(request: HtmxRequest, job: Job, load: int) -> HttpResponse:
    """Power-factor correction of a load; a POST stores the user's stock of capacitors."""
    record = _load(job, load)
    own_stock = stock_of(request.user)
    stock = StockForm(request.POST or None, initial={"stock": stock_text(own_stock or STOCK_UF)})
    if request.method == "POST" and stock.is_valid():
        keep_stock(request.user, stock.cleaned_data["stock"])
        return redirect("matching:correction", job.pk, load)
    form = TargetForm(request.GET if "target" in request.GET else None)
    target = _target(form)
    running = _running(request, record)
    current = answer_of(current_plan(job))
    page = page_of(record, running, target, current, own_stock or STOCK_UF)
    context = {
        "job": job,
        "page": page,
        "form": form,
        "target": target,
        "stock": stock,
        "state": request.GET.get("state", "running"),
    }
    status = 422 if stock.is_bound else 200
    return render(request, "matching/correction.html", context, status=status)


@require_http_methods(["GET", "POST"])
@of_job(see=Role.MEASURER, post=Role.MEASURER)
def record_correction(request: HtmxRequest, job: Job, load: int) -> HttpResponse:
    record = _load(job, load)
    running = _running(request, record)
    first = {"watts_without": running.watts, "va_without": running.va} if running else {}
    first = {name: round(value, 1) for name, value in first.items()}
    form = CorrectionForm(request.POST or None, instance=Correction(load=record), initial=first)
    if request.method == "POST" and form.is_valid():
        form.instance.client_key = client_key(form)
        actions.add_correction(form.instance)
        announce_change(request, job)
        return redirect("matching:correction", job.pk, load)
    status = 422 if form.is_bound else 200
    context = {"job": job, "load": record, "form": form}
    return render(request, "matching/record_correction.html", context, status=status)


@require_POST
@of_job
def remove_correction(request: HtmxRequest, job: Job, load: int, tried: int) -> HttpResponse:
    actions.remove_correction(
        get_object_or_404(Correction.objects.live(), pk=tried, load=load, load__job=job)
    )
    announce_change(request, job)
    return redirect("matching:correction", job.pk, load)
