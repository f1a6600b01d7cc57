"""Signing in and up, account, forgotten password; based on Django's own views."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any, cast

from axes.models import AccessLog
from django.conf import settings
from django.contrib import messages
from django.contrib.auth import login, logout, views
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.models import User
from django.http import Http404, HttpRequest, HttpResponse
from django.http.response import HttpResponseBase
from django.shortcuts import redirect, render
from django.urls import reverse_lazy
from django.utils.decorators import method_decorator
from django.views.decorators.http import require_GET, require_http_methods

from web.accounts.backends import name_for_lockout
from web.accounts.forms import MailForm, PasswordForm, SignUpForm, UnitsForm
from web.accounts.guards import OWN_PASSWORD, is_everybodys
from web.accounts.middleware import remember
from web.accounts.models import Preferences
from web.accounts.second_step import ask_for_code, has_second_step
from web.common.addresses import own_path
from web.common.quotas import quotas_of
from web.common.rates import Rate, address_of

BACKEND = "web.accounts.backends.AnyCaseBackend"
#: From one address: wrong passwords, new accounts, letters asked for.
GUESSES = Rate("guesses", 40, 900)
SIGN_UPS = Rate("sign-ups", 10, 3600)
#: From one address, sign-ups that are refused: each tells whether a name is taken.
REFUSED_SIGN_UPS = Rate("refused-sign-ups", 20, 3600)
#: Wrong passwords of one name, from wherever: then one try in so many seconds is left to everybody,
#: so that the owner of the name is slowed down, but never shut out.
NAME_GUESSES = Rate("name-guesses", 30, 3600)
SLOW_TRIES = Rate("slow-tries", 1, 10)
LETTERS = Rate("letters", 10, 3600)
#: Sign-ins that an account's page lists.
SIGN_INS = 5


def too_often(request: HttpRequest) -> HttpResponse:
    """Response to too many attempts from one address."""
    return render(request, "accounts/locked.html", status=429)


@method_decorator(login_not_required, name="dispatch")
class SignIn(views.LoginView):
    template_name = "accounts/sign_in.html"
    redirect_authenticated_user = True

    def dispatch(self, request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponseBase:
        if request.method == "POST" and self._is_too_often(request):
            return too_often(request)
        if request.method == "GET" and not User.objects.exists():
            # A fresh site: nobody can sign in yet.
            return redirect("accounts:sign-up")
        return super().dispatch(request, *args, **kwargs)

    def _is_too_often(self, request: HttpRequest) -> bool:
        """Whether too many wrong passwords came from this address, or of this name."""
        if GUESSES.is_spent(address_of(request)):
            return True
        name = name_for_lockout(request)
        return NAME_GUESSES.is_spent(name) and SLOW_TRIES.count(name)

    def form_valid(self, form: Any) -> HttpResponse:
        user = form.get_user()
        if has_second_step(user):
            return ask_for_code(self.request, user, self.get_redirect_url())
        return super().form_valid(form)

    def form_invalid(self, form: Any) -> HttpResponse:
        GUESSES.count(address_of(self.request))
        NAME_GUESSES.count(name_for_lockout(self.request))
        return super().form_invalid(form)


@login_not_required
@require_http_methods(["GET", "POST"])
def sign_up(request: HttpRequest) -> HttpResponse:
    if request.method == "POST" and REFUSED_SIGN_UPS.is_spent(address_of(request)):
        return too_often(request)
    # Whoever came to join a job goes on there.
    wanted = own_path(request.POST.get("next") or request.GET.get("next", ""))
    form = SignUpForm(request.POST or None)
    if not settings.MAIL:
        del form.fields["email"]
    if request.method == "POST" and form.is_valid():
        if SIGN_UPS.count(address_of(request)):
            return too_often(request)
        login(request, form.save(), backend=BACKEND)
        return redirect(wanted or "jobs:list")
    if form.is_bound:
        REFUSED_SIGN_UPS.count(address_of(request))
    status = 422 if form.is_bound else 200
    context = {"form": form, "next": wanted}
    return render(request, "accounts/sign_up.html", context, status=status)


class SignOut(views.LogoutView):
    """Signing out; a shared computer forgets the pages that it kept (over HTTPS)."""

    def dispatch(self, request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponse:
        response = super().dispatch(request, *args, **kwargs)
        response["Clear-Site-Data"] = '"cache"'
        return response


def spares_the_shared_demo(view: Callable[..., HttpResponse]) -> Callable[..., HttpResponse]:
    """Refuse to take away what everybody looks at who signs in with the published password."""

    @wraps(view)
    def inner(request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponse:
        if request.method == "POST" and is_everybodys(request.user):
            messages.error(request, "This stays: others look at it too. “Look around” has a copy.")
            return redirect("jobs:list")
        return view(request, *args, **kwargs)

    return inner


def _stays(request: HttpRequest) -> HttpResponse:
    messages.error(request, "The demo account stays as it is: others look around with it too.")
    return redirect("accounts:account")


@require_GET
def account(request: HttpRequest) -> HttpResponse:
    """The account page."""
    context = {
        "fixed": is_everybodys(request.user),
        "mail": settings.MAIL,
        "second_step": has_second_step(request.user),
        "quotas": quotas_of(request.user),
        "sign_ins": [] if is_everybodys(request.user) else _sign_ins(request.user),
    }
    return render(request, "accounts/account.html", context)


def _sign_ins(user: Any) -> list[AccessLog]:
    """When and from where somebody signed in, the latest first; thirty days are kept."""
    known = AccessLog.objects.filter(username=user.get_username())
    return list(known.order_by("-attempt_time")[:SIGN_INS])


class ChangePassword(views.PasswordChangeView):
    """A new password; all other sessions of the account end."""

    template_name = "accounts/password.html"
    extra_context = {"validlink": True}
    success_url = reverse_lazy("accounts:account")

    def dispatch(self, request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponseBase:
        if is_everybodys(request.user):
            return _stays(request)
        if not request.user.has_usable_password():  # type: ignore[union-attr]
            raise Http404
        if request.method == "POST" and OWN_PASSWORD.is_spent(str(request.user.pk)):
            return too_often(request)
        return super().dispatch(request, *args, **kwargs)

    def form_invalid(self, form: Any) -> HttpResponse:
        OWN_PASSWORD.count(str(self.request.user.pk))
        return super().form_invalid(form)

    def form_valid(self, form: Any) -> HttpResponse:
        messages.success(self.request, "Your password is changed; other devices are signed out.")
        return super().form_valid(form)


@require_http_methods(["GET", "POST"])
def units(request: HttpRequest) -> HttpResponse:
    """Choose °C or °F, and the clock."""
    user = cast(User, request.user)
    form = UnitsForm(request.POST or None, instance=Preferences.objects.filter(user=user).first())
    if request.method == "POST" and form.is_valid():
        form.instance.user = user
        remember(request, form.save().units())
        messages.success(request, "Pages show these units from now on.")
        return redirect("accounts:account")
    status = 422 if form.is_bound else 200
    return render(request, "accounts/units.html", {"form": form}, status=status)


@require_http_methods(["GET", "POST"])
def mail(request: HttpRequest) -> HttpResponse:
    """The address for a forgotten password."""
    if not settings.MAIL:
        raise Http404
    if is_everybodys(request.user):
        return _stays(request)
    form = MailForm(request.POST or None, instance=request.user)
    if request.method == "POST" and form.is_valid():
        form.save()
        messages.success(request, "Your address is stored.")
        return redirect("accounts:account")
    status = 422 if form.is_bound else 200
    return render(request, "accounts/mail.html", {"form": form}, status=status)


class _WithMail:
    """A step of resetting a forgotten password, if the site can send mail."""

    def dispatch(self, request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponseBase:
        if not settings.MAIL:
            raise Http404
        if request.method == "POST" and LETTERS.count(address_of(request)):
            return too_often(request)
        dispatch = super().dispatch  # type: ignore[misc]
        response: HttpResponseBase = dispatch(request, *args, **kwargs)
        return response


@method_decorator(login_not_required, name="dispatch")
class Forgotten(_WithMail, views.PasswordResetView):
    template_name = "accounts/forgotten.html"
    email_template_name = "accounts/forgotten_mail.txt"
    subject_template_name = "accounts/forgotten_subject.txt"
    success_url = reverse_lazy("accounts:sign-in")

    def form_valid(self, form: Any) -> HttpResponse:
        messages.info(
            self.request, "If an account has that address, a letter with a link is on its way."
        )
        return super().form_valid(form)


@method_decorator(login_not_required, name="dispatch")
class NewPassword(_WithMail, views.PasswordResetConfirmView):
    template_name = "accounts/password.html"
    success_url = reverse_lazy("accounts:sign-in")

    def form_valid(self, form: Any) -> HttpResponse:
        messages.success(self.request, "Your password is changed: sign in with it.")
        return super().form_valid(form)


@require_http_methods(["GET", "POST"])
def delete(request: HttpRequest) -> HttpResponse:
    """Delete an account permanently with all its jobs, after the password was given."""
    if is_everybodys(request.user):
        return _stays(request)
    posted, who = request.method == "POST", str(request.user.pk)
    if posted and OWN_PASSWORD.is_spent(who):
        return too_often(request)
    form = PasswordForm(request.POST if posted else None, user=request.user)
    if posted and form.is_valid():
        user = request.user
        logout(request)
        user.delete()
        messages.success(request, "Your account and all of its jobs are deleted.")
        return redirect("accounts:sign-in")
    if posted:
        OWN_PASSWORD.count(who)
    status = 422 if form.is_bound else 200
    return render(request, "accounts/delete.html", {"form": form}, status=status)
