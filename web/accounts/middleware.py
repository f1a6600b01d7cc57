"""Pages in the units of the person who requests them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.http import HttpRequest, HttpResponse

from needle.words import USUAL, Units
from web.accounts.models import units_of
from web.common.units import shown_in

SESSION_KEY = "units"


def units_in_session(request: HttpRequest) -> Units:
    """The person's units, as stored in the session."""
    return Units(*request.session.get(SESSION_KEY, ()))


def remember(request: HttpRequest, units: Units) -> None:
    if units != USUAL or SESSION_KEY in request.session:
        request.session[SESSION_KEY] = [units.fahrenheit, units.clock_12]


def at_sign_in(sender: Any, request: HttpRequest, user: Any, **_: Any) -> None:
    """Store the person's units in a new session."""
    remember(request, units_of(user))


def own_units(
    get_response: Callable[[HttpRequest], HttpResponse],
) -> Callable[[HttpRequest], HttpResponse]:
    """Parse fields and render pages in a person's own units."""

    def middleware(request: HttpRequest) -> HttpResponse:
        units = units_in_session(request)
        if units == USUAL:
            return get_response(request)
        with shown_in(units):
            return get_response(request)

    return middleware
