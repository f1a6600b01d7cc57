"""Looking around a demo."""

from __future__ import annotations

from django.conf import settings
from django.contrib.auth import login
from django.contrib.auth.decorators import login_not_required
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_POST

from web.accounts.views import BACKEND, too_often
from web.common.rates import Rate, address_of
from web.demo.stock import welcome
from web.demo.visits import is_full, say_goodbye

VISITS = Rate("visits", 30, 3600)


@login_not_required
@require_POST
def look_around(request: HttpRequest) -> HttpResponse:
    """Sign in as a new visitor with a copy of the demo; in demo mode only."""
    if not settings.DEMO:
        raise Http404
    if VISITS.count(address_of(request)):
        return too_often(request)
    say_goodbye()
    if is_full():
        return too_often(request)
    visitor = welcome()
    if visitor is None:
        raise Http404
    login(request, visitor, backend=BACKEND)
    return redirect("jobs:list")
