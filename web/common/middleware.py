"""Middleware for every response of the site."""

from __future__ import annotations

import logging
from collections.abc import Callable

from django.db import OperationalError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.utils.cache import patch_cache_control, patch_vary_headers

from web.common.models import StaleRecordError
from web.common.quotas import QuotaExceededError
from web.common.stored_bytes import BytesLostError, BytesUnreachableError
from web.common.version import version


def private_pages(
    get_response: Callable[[HttpRequest], HttpResponse],
) -> Callable[[HttpRequest], HttpResponse]:
    """Forbid shared caches to store pages, and browsers those of somebody who is signed in.

    Nobody reads them after signing out. What was typed into one outlives it: see ``gone_back.js``.
    """

    def middleware(request: HttpRequest) -> HttpResponse:
        response = get_response(request)
        if not response.has_header("Cache-Control"):
            # Who uses the interface for programs is a token.
            is_somebody = getattr(request.user, "is_authenticated", True)
            unkept = {"no_store": True} if is_somebody else {}
            patch_cache_control(response, private=True, no_cache=True, **unkept)
            patch_vary_headers(response, ["Cookie", "HX-Request"])
        return response

    return middleware


def named_version(
    get_response: Callable[[HttpRequest], HttpResponse],
) -> Callable[[HttpRequest], HttpResponse]:
    """Name the site's version in parts of pages: a page of another version does not take them."""

    def middleware(request: HttpRequest) -> HttpResponse:
        response = get_response(request)
        if "HX-Request" in request.headers:
            response["Steady-Version"] = version()
        return response

    return middleware


#: Letters of one value of a query, and of all of it: what pages ask for is far shorter.
MOST_VALUE, MOST_QUERY = 2_000, 20_000


def short_queries(
    get_response: Callable[[HttpRequest], HttpResponse],
) -> Callable[[HttpRequest], HttpResponse]:
    """Refuse long query strings before any parser or regular expression sees them."""

    def middleware(request: HttpRequest) -> HttpResponse:
        if len(request.META.get("QUERY_STRING", "")) > MOST_QUERY or any(
            len(value) > MOST_VALUE for values in request.GET.lists() for value in values[1]
        ):
            words = f"This address is too long: at most {MOST_VALUE} letters a value."
            return HttpResponse(words, status=414, content_type="text/plain")
        return get_response(request)

    return middleware


_MANY_WRITE = "Too many are writing at once. Your change was not saved: try again in a few seconds."


class Refusals:
    """Turns writes that are refused into a message instead of an error page.

    The write waited too long for a lock, another request was faster, a quota is used up, or the
    storage of photos does not answer.
    """

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        return self.get_response(request)

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        if isinstance(error, StaleRecordError):
            return render(request, "changed.html", status=409)
        if isinstance(error, QuotaExceededError) and request.headers.get("HX-Request"):
            return HttpResponse(error.sentence, status=413, content_type="text/plain")
        if isinstance(error, QuotaExceededError):
            return render(request, "full.html", {"why": error.sentence}, status=413)
        if isinstance(error, BytesUnreachableError):
            return _unreachable(request, error)
        if not isinstance(error, OperationalError) or "locked" not in str(error):
            return None
        context = {"why": _MANY_WRITE, "heading": "The site is busy", "typed": True}
        response = render(request, "busy.html", context, status=503)
        response["Retry-After"] = "5"
        return response


def _unreachable(request: HttpRequest, error: BytesUnreachableError) -> HttpResponse:
    logging.getLogger("steady").error("%s", error)
    writes = request.method not in ("GET", "HEAD")
    unsaved = "Nothing was stored." if writes else ""
    why = " ".join(filter(None, (error.sentence, unsaved, error.advice)))
    if request.headers.get("HX-Request"):
        response = HttpResponse(why, status=503, content_type="text/plain")
    else:
        context = {"why": why, "heading": "Not there just now", "typed": writes}
        response = render(request, "busy.html", context, status=503)
    if not isinstance(error, BytesLostError):
        response["Retry-After"] = "60"
    return response
