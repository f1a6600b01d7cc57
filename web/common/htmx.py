"""Requests with htmx information."""

from __future__ import annotations

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect
from django_htmx.middleware import HtmxDetails


class HtmxRequest(HttpRequest):
    """A request that went through django-htmx's middleware."""

    htmx: HtmxDetails


def screen_of(request: HttpRequest) -> str:
    """How wide the screen is, as the page's script stored in a cookie: narrow, wide or large."""
    screen = request.COOKIES.get("screen", "")
    return screen if screen in ("narrow", "large") else "wide"


def refusal(sentence: str) -> HttpResponse:
    """Refusal in one sentence, which the page's script shows without replacing anything."""
    return HttpResponse(sentence, status=422, content_type="text/plain")


def refused(request: HtmxRequest, sentence: str, page: str) -> HttpResponse:
    """Refusal in one sentence: alone for a script, as a message on a page for a browser."""
    if request.htmx:
        return refusal(sentence)
    messages.error(request, sentence)
    return redirect(page)
