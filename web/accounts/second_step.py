"""An optional second step at sign-in: a code from a phone, by django-otp (TOTP, RFC 6238)."""

from __future__ import annotations

import base64
from typing import Any, cast

from django.contrib import messages
from django.contrib.auth import get_user_model, login
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.models import User
from django.db import transaction
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.utils import timezone
from django.views.decorators.http import require_http_methods
from django_otp import match_token
from django_otp.plugins.otp_static.models import StaticDevice, StaticToken
from django_otp.plugins.otp_totp.models import TOTPDevice

from web.accounts.forms import CodeForm, PasswordForm
from web.accounts.guards import OWN_PASSWORD, WRONG_CODES, is_everybodys
from web.common.addresses import own_path
from web.drawing.qr import qr_code

#: Codes for a lost phone, each used once.
SPARE_CODES = 8
#: Who gave the password and not yet the code, in the session, and for how long, s.
_WAITING, _WAITS_S = "second-step", 600


def has_second_step(user: Any) -> bool:
    """Whether an account asks for a code after the password."""
    return bool(TOTPDevice.objects.devices_for_user(user, confirmed=True).exists())


def ask_for_code(request: HttpRequest, user: Any, wanted: str) -> HttpResponse:
    """Go on to the code of somebody whose password was right; nobody is signed in yet."""
    asked_at = timezone.now().timestamp()
    request.session[_WAITING] = {"user": user.pk, "at": asked_at, "next": wanted}
    return redirect("accounts:code")


@login_not_required
@require_http_methods(["GET", "POST"])
def code(request: HttpRequest) -> HttpResponse:
    """The code, then the account."""
    waiting = request.session.get(_WAITING)
    if not waiting or timezone.now().timestamp() - waiting["at"] > _WAITS_S:
        return redirect("accounts:sign-in")
    user = get_user_model().objects.filter(pk=waiting["user"], is_active=True).first()
    form = CodeForm(request.POST or None)
    if user is not None and request.method == "POST" and form.is_valid():
        if WRONG_CODES.is_spent(str(user.pk)):
            return render(request, "accounts/locked.html", status=429)
        if match_token(user, form.cleaned_data["code"]) is not None:
            del request.session[_WAITING]
            login(request, user, backend="web.accounts.backends.AnyCaseBackend")
            return redirect(own_path(waiting["next"]) or "jobs:list")
        WRONG_CODES.count(str(user.pk))
        form.add_error("code", "That is not the code of this moment: wait for the next one.")
    return _page(request, "accounts/code.html", form)


@require_http_methods(["GET", "POST"])
def begin(request: HttpRequest) -> HttpResponse:
    """Set the second step up: it counts once a first code was right."""
    user = _own(request)
    if has_second_step(user):
        return redirect("accounts:account")
    device, _ = TOTPDevice.objects.get_or_create(
        user=user, confirmed=False, defaults={"name": "phone"}
    )
    form = CodeForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        if device.verify_token(form.cleaned_data["code"]):
            codes = _confirm(user, device)
            response = render(request, "accounts/spare_codes.html", {"codes": codes})
            response["Cache-Control"] = "no-store"
            return response
        form.add_error("code", "That is not the code of this moment: wait for the next one.")
    context = {"drawing": qr_code(device.config_url, "Code for an app"), "secret": _secret(device)}
    return _page(request, "accounts/second_step.html", form, **context)


@require_http_methods(["GET", "POST"])
def end(request: HttpRequest) -> HttpResponse:
    """Go back to the password alone, after it was given once more."""
    user = _own(request)
    if request.method == "POST" and OWN_PASSWORD.is_spent(str(user.pk)):
        return render(request, "accounts/locked.html", status=429)
    form = PasswordForm(request.POST or None, user=user)
    if request.method == "POST" and form.is_valid():
        end_for(user)
        messages.success(request, "From now on the password is enough to sign in.")
        return redirect("accounts:account")
    if form.is_bound:
        OWN_PASSWORD.count(str(user.pk))
    return _page(request, "accounts/second_step_end.html", form)


def end_for(user: Any) -> None:
    """Take the second step away from an account, with its spare codes."""
    with transaction.atomic():
        TOTPDevice.objects.filter(user=user).delete()
        StaticDevice.objects.filter(user=user).delete()


def _own(request: HttpRequest) -> User:
    """The person, who has a password that others do not know."""
    user = cast(User, request.user)
    if not user.has_usable_password() or is_everybodys(user):
        raise Http404
    return user


def _confirm(user: Any, device: TOTPDevice) -> list[str]:
    """Let the second step count; codes for a lost phone, which are shown this once."""
    with transaction.atomic():
        device.confirmed = True
        device.save()
        spare, _ = StaticDevice.objects.get_or_create(user=user, defaults={"name": "spare"})
        spare.token_set.all().delete()
        codes = [StaticToken.random_token() for _ in range(SPARE_CODES)]
        spare.token_set.bulk_create(StaticToken(device=spare, token=one) for one in codes)
    return codes


def _secret(device: TOTPDevice) -> str:
    """The secret, for typing: groups of four letters."""
    letters = base64.b32encode(device.bin_key).decode().rstrip("=")
    return " ".join(letters[place : place + 4] for place in range(0, len(letters), 4))


def _page(request: HttpRequest, template: str, form: Any, **context: Any) -> HttpResponse:
    status = 422 if form.is_bound else 200
    return render(request, template, {"form": form, **context}, status=status)
