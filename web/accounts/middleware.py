"""Pages in the units of whoever asks for them."""

from __future__ import annotations

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse

from web.accounts.models import units_of
from web.common.units import Units, page_in_own_units, shown_in

SESSION_KEY = "units"
_TURNED = ("text/html", "image/svg+xml")


def units_in_session(request: HttpRequest) -> Units:
    """The person's units, read from the database once a session."""
    if not request.user.is_authenticated:
        return Units()
    if SESSION_KEY not in request.session:
        remember(request, units_of(request.user))
    return Units(*request.session[SESSION_KEY])


def remember(request: HttpRequest, units: Units) -> None:
    request.session[SESSION_KEY] = [units.fahrenheit, units.clock_12]


def own_units(
    get_response: Callable[[HttpRequest], HttpResponse],
) -> Callable[[HttpRequest], HttpResponse]:
    """Fields are read, and pages shown, in a person's own units."""

    def middleware(request: HttpRequest) -> HttpResponse:
        units = units_in_session(request)
        if units == Units():
            return get_response(request)
        with shown_in(units):
            response = get_response(request)
        kind = response.get("Content-Type", "").split(";")[0]
        if kind in _TURNED and not response.streaming:
            page = response.content.decode(response.charset)
            response.content = page_in_own_units(page, units).encode(response.charset)
        return response

    return middleware
