"""What holds for every answer of the site."""

from __future__ import annotations

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse
from django.utils.cache import patch_cache_control, patch_vary_headers


def private_pages(
    get_response: Callable[[HttpRequest], HttpResponse],
) -> Callable[[HttpRequest], HttpResponse]:
    """No cache that people share may keep a page; a browser asks before it shows it again."""

    def middleware(request: HttpRequest) -> HttpResponse:
        response = get_response(request)
        if not response.has_header("Cache-Control"):
            patch_cache_control(response, private=True, no_cache=True)
            patch_vary_headers(response, ["Cookie", "HX-Request"])
        return response

    return middleware
