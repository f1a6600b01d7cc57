"""The user's meters: list, form, and comparison."""

from __future__ import annotations

from typing import cast

from django.contrib import messages
from django.contrib.auth.models import User
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from needle.measure.instruments import INSTRUMENTS
from web.accounts.views import spares_the_shared_demo
from web.common.forms import client_key
from web.meters import actions
from web.meters.forms import ComparisonForm, MeterForm
from web.meters.models import Meter, meters_of
from web.meters.page import row_of


@require_GET
def index(request: HttpRequest) -> HttpResponse:
    known = meters_of(request.user)
    live = Meter.objects.visible_to(request.user).select_related("against")
    removed = Meter.objects.filter(owner_id=request.user.pk).exclude(removed_at=None)
    context = {
        "rows": [row_of(known[meter.name], meter) for meter in live],
        "classes": [row_of(instrument) for instrument in INSTRUMENTS.values()],
        "removed": removed.order_by("-removed_at")[:10],
    }
    return render(request, "meters/list.html", context)


@require_http_methods(["GET", "POST"])
def add(request: HttpRequest) -> HttpResponse:
    form = MeterForm(request.POST or None, instance=Meter(owner=cast(User, request.user)))
    if request.method == "POST" and form.is_valid():
        form.instance.client_key = client_key(form)
        actions.add_meter(form.instance)
        return redirect("meters:list")
    status = 422 if form.is_bound else 200
    return render(request, "meters/edit.html", {"form": form, "meter": None}, status=status)


def _meter(request: HttpRequest, pk: int) -> Meter:
    record: Meter = get_object_or_404(Meter.objects.visible_to(request.user), pk=pk)
    return record


@require_http_methods(["GET", "POST"])
def edit(request: HttpRequest, meter: int) -> HttpResponse:
    form = MeterForm(request.POST or None, instance=_meter(request, meter))
    if request.method == "POST" and form.is_valid():
        actions.change_meter(form.instance)
        return redirect("meters:list")
    status = 422 if form.is_bound else 200
    context = {"form": form, "meter": _meter(request, meter)}
    return render(request, "meters/edit.html", context, status=status)


@require_http_methods(["GET", "POST"])
def compare(request: HttpRequest, meter: int) -> HttpResponse:
    """Comparison of a meter with another on the same constant load."""
    record = _meter(request, meter)
    form = ComparisonForm(request.POST or None, meter=record)
    if request.method == "POST" and form.is_valid():
        cleaned = form.cleaned_data
        actions.keep_comparison(record, cleaned["against"], cleaned["pairs"])
        return redirect("meters:list")
    status = 422 if form.is_bound else 200
    return render(request, "meters/compare.html", {"form": form, "meter": record}, status=status)


@require_POST
@spares_the_shared_demo
def remove(request: HttpRequest, meter: int) -> HttpResponse:
    record = _meter(request, meter)
    actions.remove_meter(record)
    messages.info(request, f"Removed {record.name}. Its readings count as of its class.")
    return redirect("meters:list")


@require_POST
def bring_back(request: HttpRequest, meter: int) -> HttpResponse:
    get_object_or_404(Meter, owner_id=request.user.pk, pk=meter)
    if actions.bring_back(request.user, meter) is None:
        messages.error(request, "Another meter has that name by now: rename it first.")
    return redirect("meters:list")
