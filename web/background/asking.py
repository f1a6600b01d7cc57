"""Asking for what takes long: one function, whichever engine works it out."""

from __future__ import annotations

import time
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager
from typing import Any, TypeVar

from django.conf import settings

from needle.document import DocumentError
from web.background.pool import POOL
from web.background.questions import (
    AnswerPending,
    Engine,
    Question,
    Urgency,
    cached,
    guarded,
    keep,
    refusal_of,
)
from web.common.metrics import ANSWER_SECONDS

T = TypeVar("T")


def worked_out(
    key: str,
    owner: Hashable,
    wait_s: float,
    work: Callable[..., T],
    *args: Any,
    urgency: Urgency = Urgency.NOW,
) -> T:
    """Return an answer, kept or worked out; see :class:`web.background.questions.Question`.

    Without workers (``ANSWER_WORKERS`` 0) it is worked out in the thread that asks.

    Raises
    ------
    AnswerPending
        It takes longer than ``wait_s``.
    DocumentError
        The arguments are refused, it took too long, or a fault occurred.
    """
    if work.__module__.startswith("web."):
        raise TypeError(f"{work.__qualname__} is of the site, which its workers do not load")
    known: T | None = cached(key)
    if known is not None:
        return known
    refusal: DocumentError | None = refusal_of(key)
    if refusal is not None:
        raise refusal
    engine = _engine()
    if engine is not None:
        with _measured():
            answer: T = guarded(engine.ask, Question(key, owner, work, args, urgency), wait_s)
        return answer
    if wait_s <= 0:
        raise AnswerPending
    answer = guarded(work, *args)
    keep(key, answer)
    return answer


def warm_up() -> None:
    """Have this process's own workers ready before the first question."""
    if _engine() is POOL:
        POOL.warm_up()


def close() -> None:
    """Drop the questions that wait for this process's own workers."""
    POOL.close()


@contextmanager
def _measured() -> Iterator[None]:
    """Count how long somebody waited for an answer, and how it ended."""
    began, end = time.perf_counter(), "answered"
    try:
        yield
    except AnswerPending:
        end = "pending"
        raise
    except DocumentError:
        end = "refused"
        raise
    finally:
        ANSWER_SECONDS.labels(end).observe(time.perf_counter() - began)


def _engine() -> Engine | None:
    """What works answers out beside the requests; None if each request does itself."""
    if settings.QUEUE_URL:
        # Its packages are there only where a queue is wanted.
        from web.background.queue import the_queue

        return the_queue()
    return POOL if settings.ANSWER_WORKERS else None
