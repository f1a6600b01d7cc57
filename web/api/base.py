"""What all views of the interface for programs share."""

from __future__ import annotations

import uuid
from collections.abc import Callable, Iterable
from contextlib import ExitStack
from http import HTTPStatus
from typing import Any, ClassVar

from django.contrib.auth.decorators import login_not_required
from django.http import HttpRequest, HttpResponse
from django.http.response import HttpResponseBase
from django.utils.cache import patch_vary_headers
from django.utils.decorators import method_decorator
from django.views.decorators.http import conditional_page
from rest_framework.exceptions import ValidationError
from rest_framework.pagination import PageNumberPagination
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from needle.words import worded
from web.jobs.access import Access, Needs, acting_as
from web.jobs.models import Job, Role

#: Namespace of the keys under which what a program sends counts once.
_SENT = uuid.UUID("6a1f1c1e-3c55-4b0e-9a0e-6f1f6d2b7a10")
#: Letters of such a key.
MOST_KEY = 200


# The ETag is of the whole answer: what is asked for again unchanged is a 304.
@method_decorator(login_not_required, name="dispatch")
@method_decorator(conditional_page, name="dispatch")
class JobView(APIView):
    """A view of the job that the token belongs to: all tokens read it, some add to it."""

    #: As of :func:`web.jobs.access.of_job`: what reading and what adding needs.
    needs: ClassVar[Needs] = Needs(Role.VIEWER, Role.MEASURER)

    def dispatch(self, request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponseBase:
        with ExitStack() as self.using:
            response: HttpResponseBase = super().dispatch(request, *args, **kwargs)
        patch_vary_headers(response, ["Authorization"])
        return response

    def initial(self, request: Request, *args: Any, **kwargs: Any) -> None:
        super().initial(request, *args, **kwargs)
        self.using.enter_context(acting_as(self.access))

    @property
    def access(self) -> Access:
        access: Access = self.request.auth
        return access

    @property
    def job(self) -> Job:
        return self.access.job

    def sent_key(self) -> uuid.UUID:
        """The key of what is sent: the same ``Idempotency-Key`` counts once in a job."""
        text = self.request.headers.get("Idempotency-Key", "")
        if len(text) > MOST_KEY:
            raise ValidationError(f"Idempotency-Key: at most {MOST_KEY} characters.")
        return uuid.uuid5(_SENT, f"{self.job.pk}:{text}") if text else uuid.uuid4()


class Pages(PageNumberPagination):
    """``?page=2&page_size=50``; at most 100 rows a page."""

    page_size = 25
    page_size_query_param = "page_size"
    max_page_size = 100


def paged(request: Request, records: Any, row: Callable[[Any], dict[str, Any]]) -> Response:
    """A page of rows: ``count``, ``next``, ``previous``, ``results``."""
    pages = Pages()
    page: Iterable[Any] = pages.paginate_queryset(records, request) or ()
    return pages.get_paginated_response([row(record) for record in page])


def document(content: Any, status: int = HTTPStatus.OK) -> Response:
    """A document, with its messages as sentences."""
    return Response(worded(content), status)


def plain(content: bytes | str, content_type: str) -> HttpResponse:
    return HttpResponse(content, content_type=content_type)
