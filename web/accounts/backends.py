"""User names are compared without case: Ada and ada are one user."""

from __future__ import annotations

from typing import Any

from django.contrib.auth import get_user_model
from django.contrib.auth.backends import ModelBackend
from django.http import HttpRequest


class AnyCaseBackend(ModelBackend):
    """Django's backend, for names in any case."""

    def authenticate(
        self,
        request: HttpRequest | None,
        username: str | None = None,
        password: str | None = None,
        **more: Any,
    ) -> Any:
        name = _as_stored(username or "")
        return super().authenticate(request, username=name, password=password, **more)


def _as_stored(name: str) -> str:
    """The stored name that differs at most in case; an exact match first."""
    names = (
        get_user_model().objects.filter(username__iexact=name).values_list("username", flat=True)
    )
    return name if name in names else next(iter(names), name)


def name_for_lockout(request: HttpRequest, credentials: dict[str, Any] | None = None) -> str:
    """Under which name guesses are counted: the same in every case."""
    given = (credentials or {}).get("username") or request.POST.get("username", "")
    return str(given).casefold()[:255]
