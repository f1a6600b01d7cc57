"""Requests as htmx sends them."""

from __future__ import annotations

from django.http import HttpRequest
from django_htmx.middleware import HtmxDetails


class HtmxRequest(HttpRequest):
    """A request that went through django-htmx's middleware."""

    htmx: HtmxDetails
