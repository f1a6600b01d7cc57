"""Who asks: a program with a token; how often; and what it may do."""

from __future__ import annotations

from typing import Any

from rest_framework.authentication import BaseAuthentication
from rest_framework.exceptions import AuthenticationFailed
from rest_framework.permissions import BasePermission
from rest_framework.request import Request
from rest_framework.throttling import BaseThrottle

from web.api import actions
from web.common.rates import Rate, address_of

SCHEME = "bearer"
#: Requests of one token in a minute; wrong tokens from one address in a quarter of an hour.
REQUESTS = Rate("api", 240, 60)
WRONG = Rate("wrong-tokens", 60, 900)


def bearer_of(header: str) -> str:
    """The token in an Authorization header; empty if there is none."""
    scheme, _, token = header.partition(" ")
    return token.strip() if scheme.casefold() == SCHEME else ""


class TokenAuthentication(BaseAuthentication):
    """``request.auth`` becomes the :class:`~web.jobs.access.Access` of the token."""

    def authenticate(self, request: Request) -> tuple[Any, Any] | None:
        text = bearer_of(request.headers.get("Authorization", ""))
        if not text:
            return None
        address = address_of(request._request)
        token = None if WRONG.is_spent(address) else actions.token_of(text)
        if token is None:
            WRONG.count(address)
            raise AuthenticationFailed
        return token, token.access()

    def authenticate_header(self, request: Request) -> str:
        return 'Bearer realm="Steady Needle"'


class RoleSuffices(BasePermission):
    """The token's role is enough for what the view needs."""

    def has_permission(self, request: Request, view: Any) -> bool:
        if request.auth is None:
            return False
        request.auth.check(view.needs.of(str(request.method)))
        return True


class PerToken(BaseThrottle):
    """A token may not ask too often."""

    def allow_request(self, request: Request, view: Any) -> bool:
        return request.auth is None or not REQUESTS.count(str(request.user.pk))

    def wait(self) -> float:
        return REQUESTS.span_s
