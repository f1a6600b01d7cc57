"""What somebody with a link sees: no account, no other page, nothing kept by caches."""

from __future__ import annotations

import uuid
from collections.abc import Callable
from functools import wraps
from typing import Any

from django.contrib.auth.decorators import login_not_required
from django.core import signing
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET, require_http_methods

from web.common.bodies import PHOTOS_BYTES, takes_up_to
from web.common.forms import posted_key
from web.common.rates import Rate, address_of
from web.jobs.access import acting_as
from web.plans.outcomes import LONG_WAIT_S
from web.share import actions
from web.share.forms import ClientFormSet, WordForm
from web.share.models import ShareLink
from web.share.shown import photo_of, sheet_context
from web.watch.card_page import card_page

#: Addresses opened from one place in a minute, and words tried on one link in a quarter of an hour.
OPENINGS = Rate("links", 240, 60)
WORDS = Rate("words", 10, 900)
#: Where a session keeps the links whose word was said.
SAID = "said_words"


def _kept_nowhere(response: HttpResponse) -> HttpResponse:
    """Forbid caches and search engines to pass on what a link shows, and referrers its address.

    Within the site a referrer stays: without one browsers send no origin, and no form is taken.
    """
    response["Cache-Control"] = "no-store"
    response["X-Robots-Tag"] = "noindex, nofollow"
    response["Referrer-Policy"] = "same-origin"
    return response


def by_link(view: Callable[..., HttpResponse]) -> Callable[..., HttpResponse]:
    """Pass the open :class:`ShareLink` of a token to the view; anything else is one and the same
    404."""

    @login_not_required
    @wraps(view)
    def inner(request: HttpRequest, token: str, *args: Any, **kwargs: Any) -> HttpResponse:
        if OPENINGS.count(address_of(request)):
            return _kept_nowhere(render(request, "share/ended.html", {"busy": True}, status=429))
        link = actions.link_of(token)
        if link is None:
            return _kept_nowhere(render(request, "share/ended.html", {"busy": False}, status=404))
        with acting_as(link.access()):
            return _kept_nowhere(view(request, link, token, *args, **kwargs))

    return inner


def _is_said(request: HttpRequest, link: ShareLink) -> bool:
    return not link.word or link.digest in request.session.get(SAID, []) or _proves(request, link)


def _proves(request: HttpRequest, link: ShareLink) -> bool:
    """Whether a list that is sent was opened after its word was said.

    A session may end while somebody fills a list; what they typed is taken all the same.
    """
    try:
        return bool(signing.loads(request.POST.get("said", ""), salt=SAID) == link.pk)
    except signing.BadSignature:
        return False


def _ask_for_word(request: HttpRequest, link: ShareLink) -> HttpResponse | None:
    """The page that asks for a link's word; None once it was said."""
    if _is_said(request, link):
        return None
    form = WordForm(request.POST if "word" in request.POST else None)
    if form.is_valid():
        if WORDS.count(link.digest):
            form.add_error("word", "Too many tries: wait a quarter of an hour.")
        elif actions.is_word(link, form.cleaned_data["word"]):
            request.session[SAID] = [*request.session.get(SAID, []), link.digest]
            return None
        else:
            form.add_error("word", "That is not the word.")
    status = 422 if form.is_bound else 200
    return render(request, "share/word.html", {"form": form}, status=status)


@takes_up_to(PHOTOS_BYTES)
@require_http_methods(["GET", "POST"])
@by_link
def reader(request: HttpRequest, link: ShareLink, token: str) -> HttpResponse:
    """The sheet, the card, or the list to fill."""
    if (asked := _ask_for_word(request, link)) is not None:
        return asked
    if request.method == "GET" or "word" in request.POST:
        actions.count_opening(link)
    if link.shows == "list":
        return _list(request, link, token)
    context: dict[str, Any] = {"link": link, "token": token, "sheet": None}
    if link.shows == "card":
        job = link.job
        context["card"] = card_page(job, LONG_WAIT_S)
        return render(request, "share/card.html", {**context, "job": job})
    if not link.frozen:
        context |= sheet_context(link, token, LONG_WAIT_S)
    return render(request, "share/sheet.html", context)


def _list(request: HttpRequest, link: ShareLink, token: str) -> HttpResponse:
    """The list to fill; a POST sends it."""
    sends = request.method == "POST" and "word" not in request.POST
    forms = ClientFormSet(*((request.POST, request.FILES) if sends else ()), prefix="row")
    context = {"link": link, "token": token, "forms": forms, "key": uuid.uuid4(), "sent": 0}
    context |= {"trouble": "", "said": signing.dumps(link.pk, salt=SAID)}
    if not sends:
        return render(request, "share/list.html", context)
    rows = [form for form in forms.forms if form.has_changed()] if forms.is_valid() else []
    if rows and not actions.is_full(link):
        key = posted_key(request, "sent_key") or uuid.uuid4()
        actions.propose(link, key, [form.values() for form in rows])
        return render(request, "share/list.html", {**context, "sent": len(rows)})
    full = "There is no room for more just now: tell whoever sent you this."
    context["trouble"] = full if rows else "Nothing is entered yet." if forms.is_valid() else ""
    return render(request, "share/list.html", context, status=422)


@require_GET
@by_link
def photo(request: HttpRequest, link: ShareLink, token: str, photo: int) -> HttpResponse:
    """A photo of the sheet, where photos are shared."""
    record = photo_of(link, photo) if _is_said(request, link) else None
    if record is None:
        raise Http404
    return HttpResponse(bytes(record.large), content_type="image/jpeg")
