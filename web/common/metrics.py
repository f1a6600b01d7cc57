"""Figures for whoever watches the site, in the format of Prometheus."""

from __future__ import annotations

import os

from django.http import HttpRequest, HttpResponse
from prometheus_client import (
    CONTENT_TYPE_LATEST,
    REGISTRY,
    CollectorRegistry,
    Counter,
    Gauge,
    Histogram,
    generate_latest,
)
from prometheus_client.multiprocess import MultiProcessCollector

#: Upper ends of the classes into which times fall, s.
_PAGE_S = (0.05, 0.1, 0.2, 0.4, 1, 2, 5, 10, 30)
_ANSWER_S = (0.2, 0.5, 1, 2, 5, 10, 20, 60)
_METHODS = ("GET", "HEAD", "POST", "OPTIONS")

REQUEST_SECONDS = Histogram(
    "steady_request_seconds",
    "Time that requests took, by the name of their address.",
    ["method", "address", "status"],
    buckets=_PAGE_S,
)
REQUESTS_OPEN = Gauge(
    "steady_requests_open", "Requests being answered.", multiprocess_mode="livesum"
)
ANSWER_SECONDS = Histogram(
    "steady_answer_seconds",
    "Time from asking for an answer until it was there, for who waited, by how it ended.",
    ["end"],
    buckets=_ANSWER_S,
)
WITHOUT_QUEUE = Counter(
    "steady_answers_without_queue_total", "Questions that met no queue and went to the own pool."
)


def page() -> HttpResponse:
    """All figures, of all processes of this server if they share a folder for them."""
    registry = REGISTRY
    if "PROMETHEUS_MULTIPROC_DIR" in os.environ:
        registry = CollectorRegistry()
        MultiProcessCollector(registry)  # type: ignore[no-untyped-call]
    return HttpResponse(generate_latest(registry), content_type=CONTENT_TYPE_LATEST)


def count_request(request: HttpRequest, status: int, seconds: float) -> None:
    """Count a request that was answered."""
    match = request.resolver_match
    address = match.view_name if match is not None else "none"
    # A client may make methods up: each label kept would cost memory.
    method = request.method if request.method in _METHODS else "other"
    REQUEST_SECONDS.labels(method, address, str(status)).observe(seconds)
