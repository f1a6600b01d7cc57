"""How much a request may send: little, but for addresses that take files."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from django.http import HttpRequest, HttpResponse
from django.urls import Resolver404, resolve

View = TypeVar("View", bound=Callable[..., Any])
#: Bytes of a body where an address does not say otherwise: forms, and documents of programs.
USUAL_BYTES = 3_000_000
#: Of a form with a photo, and of one with many.
PHOTO_BYTES, PHOTOS_BYTES = 12_000_000, 100_000_000
#: The largest of any address: what the server takes at all.
MOST_BYTES = 130_000_000


def takes_up_to(most_bytes: int) -> Callable[[View], View]:
    """Mark a view whose requests may be larger than usual; its forms say more exactly what fits."""

    def marked(view: View) -> View:
        view.most_bytes = most_bytes  # type: ignore[attr-defined]
        return view

    return marked


def bounded_bodies(
    get_response: Callable[[HttpRequest], HttpResponse],
) -> Callable[[HttpRequest], HttpResponse]:
    """Refuse what is too large for its address before anything reads it.

    A body without a stated length, which no browser sends, is read as empty.
    """

    def middleware(request: HttpRequest) -> HttpResponse:
        length = str(request.META.get("CONTENT_LENGTH") or "0")
        size = int(length) if length.isascii() and length.isdigit() else 0
        if size > USUAL_BYTES and size > _most_bytes(request.path_info):
            words = "This is too large for this page. Send less, or split it."
            return HttpResponse(words, status=413, content_type="text/plain")
        return get_response(request)

    return middleware


def _most_bytes(path: str) -> int:
    try:
        return int(getattr(resolve(path).func, "most_bytes", USUAL_BYTES))
    except Resolver404:
        return USUAL_BYTES
