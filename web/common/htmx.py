"""Requests with htmx information."""

from __future__ import annotations

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect
from django_htmx.middleware import HtmxDetails


class HtmxRequest(HttpRequest):
    """A request that went through django-htmx's middleware."""

    htmx: HtmxDetails


def is_narrow(request: HttpRequest) -> bool:
    """Whether the page is on a phone, as its script stored in a cookie."""
    return request.COOKIES.get("screen") == "narrow"


def refusal(sentence: str) -> HttpResponse:
    """Refusal in one sentence, which the page's script shows without replacing anything."""
    return HttpResponse(sentence, status=422, content_type="text/plain")


def refused(request: HtmxRequest, sentence: str, page: str) -> HttpResponse:
    """Refusal in one sentence: alone for a script, as a message on a page for a browser."""
    if request.htmx:
        return refusal(sentence)
    messages.error(request, sentence)
    return redirect(page)
