"""Each request has an id, which its answer and its log lines carry; lines as text or as JSON."""

from __future__ import annotations

import json
import logging
import time
import uuid
from collections.abc import Callable
from contextvars import ContextVar
from datetime import UTC, datetime

from django.http import HttpRequest, HttpResponse

from web.common.metrics import REQUESTS_OPEN, count_request

log = logging.getLogger("steady.requests")

_request_id: ContextVar[str] = ContextVar("request_id", default="-")
HEADER = "X-Request-ID"


def logged_requests(
    get_response: Callable[[HttpRequest], HttpResponse],
) -> Callable[[HttpRequest], HttpResponse]:
    """Give a request an id, count it, and log a line: its address by name, so without secrets."""

    def middleware(request: HttpRequest) -> HttpResponse:
        name, began = uuid.uuid4().hex[:16], time.perf_counter()
        token = _request_id.set(name)
        try:
            with REQUESTS_OPEN.track_inprogress():
                response = get_response(request)
            response[HEADER] = name
            seconds = time.perf_counter() - began
            count_request(request, response.status_code, seconds)
            match = request.resolver_match
            figures = {
                "method": request.method,
                "address": match.view_name if match is not None else "none",
                "status": response.status_code,
                "ms": round(seconds * 1000),
            }
            log.info("%(method)s %(address)s %(status)s %(ms)s ms", figures, extra=figures)
            return response
        finally:
            _request_id.reset(token)

    return middleware


class WithRequestId(logging.Filter):
    """Adds the id of the request that is being answered to each line."""

    def filter(self, record: logging.LogRecord) -> bool:
        record.request_id = _request_id.get()
        return True


class AsJson(logging.Formatter):
    """A line as a JSON object: time (UTC, ISO 8601), level, logger, request, message, figures."""

    FIGURES = ("method", "address", "status", "ms")

    def format(self, record: logging.LogRecord) -> str:
        line = {
            "time": datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds"),
            "level": record.levelname.lower(),
            "logger": record.name,
            "request": getattr(record, "request_id", "-"),
            "message": record.getMessage(),
        }
        line |= {key: getattr(record, key) for key in self.FIGURES if hasattr(record, key)}
        if record.exc_info:
            line["fault"] = self.formatException(record.exc_info)
        return json.dumps(line, ensure_ascii=False, default=str)
