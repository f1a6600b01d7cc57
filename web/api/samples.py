"""Samples that loggers send: each with the token of its logger, which belongs to a load."""

from __future__ import annotations

from http import HTTPStatus

from django.contrib.auth.decorators import login_not_required
from django.utils.decorators import method_decorator
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from needle.document import DocumentError
from web.api.authentication import bearer_of
from web.api.openapi import TAKEN
from web.api.problems import problem
from web.bench import loggers


@method_decorator(login_not_required, name="dispatch")
class Samples(APIView):
    authentication_classes = ()
    permission_classes = ()
    throttle_classes = ()

    @extend_schema(
        request={"text/csv": OpenApiTypes.STR, "application/x-ndjson": OpenApiTypes.STR},
        responses=TAKEN,
    )
    def post(self, request: Request) -> Response:
        """Send samples of a logger, JSON lines or CSV; the same post counts once."""
        body = request._request.body
        token = bearer_of(request.headers.get("Authorization", ""))
        logger = loggers.logger_of(token) if token else None
        if logger is None:
            return problem(HTTPStatus.UNAUTHORIZED, "Give a token that is known and not revoked.")
        if loggers.too_fast(logger):
            words = f"At most {loggers.POSTS_A_MINUTE} posts a minute: send more rows in each."
            response = problem(HTTPStatus.TOO_MANY_REQUESTS, words)
            response["Retry-After"] = "60"
            return response
        if len(body) > loggers.MOST_BYTES:
            words = f"At most {loggers.MOST_BYTES} bytes a post."
            return problem(HTTPStatus.REQUEST_ENTITY_TOO_LARGE, words)
        try:
            return Response({"rows": loggers.take(logger, body)})
        except DocumentError as error:
            return problem(HTTPStatus.BAD_REQUEST, str(error))
