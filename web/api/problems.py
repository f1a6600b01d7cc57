"""Errors in the shape of RFC 9457, "Problem Details for HTTP APIs"."""

from __future__ import annotations

from http import HTTPStatus
from typing import Any

from django.core.exceptions import PermissionDenied
from django.http import Http404
from rest_framework import exceptions
from rest_framework.response import Response
from rest_framework.views import exception_handler

from needle.document import DocumentError
from web.background.questions import AnswerPending
from web.common.models import StaleRecordError
from web.common.quotas import QuotaExceededError
from web.common.stored_bytes import BytesUnreachableError

CONTENT_TYPE = "application/problem+json"
#: Seconds after which an answer that is being worked out is asked for again.
AGAIN_S = 2
CHANGED = "This was changed by another request just now. Read it again, then repeat yours."


class Unanswerable(exceptions.APIException):
    """There is no answer yet; the sentence says what is missing."""

    status_code = HTTPStatus.CONFLICT
    default_code = "unanswerable"


def problem(status: int, detail: str, **more: Any) -> Response:
    """A response that says what went wrong.

    ``type`` is "about:blank": the status says what kind of problem it is, ``detail`` what would
    do. ``more`` are further members.
    """
    body = {
        "type": "about:blank",
        "title": HTTPStatus(status).phrase,
        "status": int(status),
        "detail": detail,
        **more,
    }
    return Response(body, status, content_type=CONTENT_TYPE)


def handle(error: Exception, context: dict[str, Any]) -> Response | None:
    """The response to an error that a view raised; None for a fault of the site."""
    if isinstance(error, AnswerPending):
        return _pending(context)
    if isinstance(error, QuotaExceededError):
        return problem(HTTPStatus.REQUEST_ENTITY_TOO_LARGE, error.sentence)
    if isinstance(error, DocumentError):
        return problem(HTTPStatus.UNPROCESSABLE_ENTITY, error.sentence, at=error.path)
    if isinstance(error, StaleRecordError):
        return problem(HTTPStatus.CONFLICT, CHANGED)
    if isinstance(error, BytesUnreachableError):
        return problem(HTTPStatus.SERVICE_UNAVAILABLE, f"{error.sentence} {error.advice}")
    known = exception_handler(error, context)
    if known is None:
        return None
    response = problem(known.status_code, _sentence(error))
    for name in ("WWW-Authenticate", "Retry-After", "Allow"):
        if known.has_header(name):
            response[name] = known[name]
    return response


def _pending(context: dict[str, Any]) -> Response:
    """Accepted: the answer is being worked out, and is asked for at the same address again."""
    address = context["request"].build_absolute_uri()
    body = {"state": "calculating", "again_in_s": AGAIN_S, "url": address}
    # Kept nowhere and without an ETag: it is no answer yet.
    headers = {"Retry-After": str(AGAIN_S), "Location": address, "Cache-Control": "no-store"}
    return Response(body, HTTPStatus.ACCEPTED, headers=headers)


def _sentence(error: Exception) -> str:
    if isinstance(error, Http404):
        return "There is no such thing in this token's job."
    if isinstance(error, PermissionDenied):
        return str(error) or "This token may not do that."
    if isinstance(error, exceptions.NotAuthenticated | exceptions.AuthenticationFailed):
        return "Give a token that is known and not revoked: Authorization: Bearer …"
    return str(getattr(error, "detail", error))
