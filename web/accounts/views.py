"""Signing up, and the demo account; signing in and out are Django's own views."""

from __future__ import annotations

from django.conf import settings
from django.contrib import messages
from django.contrib.auth import get_user_model, login, logout
from django.contrib.auth.decorators import login_not_required
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_http_methods, require_POST

from web.accounts.forms import PasswordForm, SignUpForm

BACKEND = "django.contrib.auth.backends.ModelBackend"


@login_not_required
@require_http_methods(["GET", "POST"])
def sign_up(request: HttpRequest) -> HttpResponse:
    form = SignUpForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        login(request, form.save(), backend=BACKEND)
        return redirect("jobs:list")
    status = 422 if form.is_bound else 200
    return render(request, "accounts/sign_up.html", {"form": form}, status=status)


@login_not_required
@require_POST
def look_around(request: HttpRequest) -> HttpResponse:
    """Sign in as the demo account; in demo mode only."""
    user = get_user_model().objects.filter(username="demo").first() if settings.DEMO else None
    if user is None:
        raise Http404
    login(request, user, backend=BACKEND)
    return redirect("jobs:list")


@require_http_methods(["GET", "POST"])
def delete(request: HttpRequest) -> HttpResponse:
    """Delete one's account for good with all its jobs, once the password was given."""
    form = PasswordForm(request.POST or None, user=request.user)
    if request.method == "POST" and form.is_valid():
        user = request.user
        logout(request)
        user.delete()
        messages.success(request, "Your account and all of its jobs are deleted.")
        return redirect("accounts:sign-in")
    status = 422 if form.is_bound else 200
    return render(request, "accounts/delete.html", {"form": form}, status=status)
