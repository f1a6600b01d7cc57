"""Small responses of the whole site."""

from __future__ import annotations

import ipaddress
import logging

from django.conf import settings
from django.contrib.auth.decorators import login_not_required
from django.db import connection
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import render
from django.template.loader import render_to_string
from django.utils import timezone
from django.views.decorators.http import require_GET

from needle import quantity
from needle.household import plain_quantity
from web.common import metrics
from web.common.fields import COUNTER_UNITS, with_own_unit
from web.common.glossary import GLOSSARY, anchor

log = logging.getLogger("steady.ready")


@require_GET
def echo(request: HttpRequest) -> HttpResponse:
    """How a quantity is understood, for the line below its field."""
    text, unit = request.GET.get(request.GET.get("of", ""), ""), request.GET.get("unit", "")
    understood = problem = ""
    if request.GET.get("counter_unit") in COUNTER_UNITS:
        text = with_own_unit(text, request.GET["counter_unit"])
    if text.strip():
        try:
            parsed = quantity.parse(plain_quantity(text, unit), unit)
        except quantity.QuantityError as error:
            problem = str(error)
        else:
            understood = quantity.as_read(parsed.value, parsed.unit)
            if unit == "h":
                understood = quantity.hours_text(parsed.value)
            if parsed.note:
                understood = f"{quantity.as_read(parsed.value, 'VA')}: {parsed.note}"
    return render(request, "common/_echo.html", {"understood": understood, "problem": problem})


@login_not_required
@require_GET
def glossary(request: HttpRequest) -> HttpResponse:
    """The glossary page."""
    words = [
        (term, anchor(term), meaning)
        for term, meaning in sorted(GLOSSARY.items(), key=lambda item: item[0].casefold())
    ]
    return render(request, "common/glossary.html", {"words": words})


@login_not_required
@require_GET
def alive(request: HttpRequest) -> HttpResponse:
    """Health check without database access; it says the time too, in ms since the epoch."""
    time_ms = str(round(timezone.now().timestamp() * 1000))
    return HttpResponse("alive\n", content_type="text/plain", headers={"Steady-Time": time_ms})


@login_not_required
@require_GET
def ready(request: HttpRequest) -> HttpResponse:
    """Whether requests can be answered: the database is there. They can without a shared cache."""
    try:
        with connection.cursor() as cursor:
            cursor.execute("SELECT 1")
    except Exception:
        # Whatever it is: nobody should be sent here now.
        log.exception("Not ready")
        return HttpResponse("not ready\n", status=503, content_type="text/plain")
    return HttpResponse("ready\n", content_type="text/plain")


@login_not_required
@require_GET
def figures(request: HttpRequest) -> HttpResponse:
    """Metrics, for the networks that the settings name; to others there is nothing here."""
    networks = [ipaddress.ip_network(name) for name in settings.METRICS_FROM]
    try:
        address = ipaddress.ip_address(request.META.get("REMOTE_ADDR", ""))
    except ValueError:
        raise Http404 from None
    if not any(address in network for network in networks):
        raise Http404
    return metrics.page()


@login_not_required
def failed(request: HttpRequest) -> HttpResponse:
    """Error page; for a job's page with ways to correct or delete the job."""
    match = request.resolver_match
    job = match.kwargs.get("job") if match is not None else None
    return HttpResponse(render_to_string("500.html", {"job_id": job}), status=500)


@login_not_required
def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    """Page for unknown addresses and other people's records."""
    return render(request, "404.html", status=404)
