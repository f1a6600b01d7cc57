"""Requests with htmx information."""

from __future__ import annotations

from django.http import HttpRequest
from django_htmx.middleware import HtmxDetails


class HtmxRequest(HttpRequest):
    """A request that went through django-htmx's middleware."""

    htmx: HtmxDetails


def is_narrow(request: HttpRequest) -> bool:
    """Whether the page is on a phone, as its script stored in a cookie."""
    return request.COOKIES.get("screen") == "narrow"
