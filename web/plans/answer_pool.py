"""A pool of worker processes for heavy answers.

The same answer is computed once however many requests need it, one at a time for each owner; a
request that has waited long enough gets :class:`AnswerPending` and asks again. Without workers
(``ANSWER_WORKERS`` 0) the answer is computed in the requesting thread.
"""

from __future__ import annotations

import logging
import multiprocessing
import os
import threading
import time
from collections.abc import Callable, Hashable
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from multiprocessing import connection
from typing import Any, TypeVar

from django.conf import settings
from django.core.cache import caches

from needle.document import DocumentError

log = logging.getLogger("steady.answers")

T = TypeVar("T")
KEPT_S = 24 * 3600
#: Questions that may lie on the desk.
MAX_PENDING = 64


class AnswerPending(Exception):
    """Raised while an answer is being computed; ask again in a moment."""


class AnswerFailedError(DocumentError):
    """Raised if computing an answer fails because of a fault of this program.

    It is a refusal like any other, so that the pages with the figures can still be opened.
    """

    def __init__(self) -> None:
        super().__init__("", "a fault of this program, not of your figures; it was written down")

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), ()


class AnswerPool:
    """Answers that are being computed, by key."""

    def __init__(self) -> None:
        self.pool: ProcessPoolExecutor | None = None
        self.open: dict[str, Future[Any]] = {}
        self.owners: dict[Hashable, str] = {}
        self.moved = threading.Condition()

    def ask(
        self, key: str, owner: Hashable, wait_s: float, work: Callable[..., T], *args: Any
    ) -> T:
        """Return an answer, from a worker process.

        Parameters
        ----------
        key : str
            Equal for equal questions.
        owner : hashable
            The requesting user; each has at most one pending answer.
        wait_s : float
            Longest wait, s.
        work, *args
            A module-level function and its arguments; both are pickled.

        Raises
        ------
        AnswerPending
        """
        until = time.monotonic() + wait_s
        while True:
            with self.moved:
                future = self.open.get(key) or self._put(key, owner, work, args)
                if future is None and not self.moved.wait(until - time.monotonic()):
                    raise AnswerPending
            if future is not None:
                try:
                    answer: T = future.result(max(0.0, until - time.monotonic()))
                    return answer
                except TimeoutError:
                    raise AnswerPending from None
                except BrokenProcessPool:
                    # The process was killed: another one takes the question up.
                    with self.moved:
                        self.pool = None
            if time.monotonic() >= until:
                raise AnswerPending

    def _put(
        self, key: str, owner: Hashable, work: Callable[..., Any], args: tuple[Any, ...]
    ) -> Future[Any] | None:
        """Submit a question; None if the pool is full."""
        if owner in self.owners or len(self.open) >= MAX_PENDING:
            return None
        try:
            future = self._processes().submit(work, *args)
        except BrokenProcessPool:
            # One of its processes was killed: the desk gets new ones.
            self.pool = None
            future = self._processes().submit(work, *args)
        self.open[key], self.owners[owner] = future, key
        future.add_done_callback(lambda done: self._done(key, owner, done))
        return future

    def _done(self, key: str, owner: Hashable, future: Future[Any]) -> None:
        if not future.cancelled() and future.exception() is None:
            keep(key, future.result())
        with self.moved:
            self.open.pop(key, None)
            self.owners.pop(owner, None)
            self.moved.notify_all()

    def _processes(self) -> ProcessPoolExecutor:
        if self.pool is None:
            self.pool = ProcessPoolExecutor(
                settings.ANSWER_WORKERS, multiprocessing.get_context("spawn"), _end_with_parent
            )
        return self.pool

    def close(self) -> None:
        """Stop the processes; pending answers are dropped."""
        with self.moved:
            if self.pool is not None:
                self.pool.shutdown(wait=False, cancel_futures=True)
            self.pool = None


def _end_with_parent() -> None:
    """Make a worker process exit when the site's process does."""
    parent = multiprocessing.parent_process()
    assert parent is not None

    def watch() -> None:
        connection.wait([parent.sentinel])
        os._exit(0)

    threading.Thread(target=watch, daemon=True).start()


ANSWER_POOL = AnswerPool()


def cached(key: str) -> Any:
    """A cached answer, which nobody changes; None if there is none."""
    live = caches["live"]
    known = live.get(key)
    if known is None and (known := caches["answers"].get(key)) is not None:
        live.set(key, known)
    return known


def keep(key: str, answer: Any) -> None:
    """Keep what was worked out, for as long as answers are kept."""
    caches["answers"].set(key, answer, KEPT_S)
    caches["live"].set(key, answer)


def worked_out(key: str, owner: Hashable, wait_s: float, work: Callable[..., T], *args: Any) -> T:
    """Return an answer, cached or computed; see :meth:`AnswerPool.ask`.

    Raises
    ------
    AnswerPending
        It takes longer than ``wait_s``.
    DocumentError
        The arguments are refused, or a fault occurred (:class:`AnswerFailedError`).
    """
    if work.__module__.startswith("web."):
        raise TypeError(f"{work.__qualname__} is of the site, which its processes do not load")
    known: T | None = cached(key)
    if known is not None:
        return known
    if settings.ANSWER_WORKERS:
        answer: T = guarded(ANSWER_POOL.ask, key, owner, wait_s, work, *args)
        return answer
    if wait_s <= 0:
        raise AnswerPending
    answer = guarded(work, *args)
    keep(key, answer)
    return answer


def guarded(work: Callable[..., T], *args: Any) -> T:
    """Call a function; log an unexpected error and raise it as a refusal.

    Raises
    ------
    AnswerPending, DocumentError
        As raised by the function.
    AnswerFailedError
    """
    try:
        return work(*args)
    except (AnswerPending, DocumentError):
        raise
    except Exception as error:
        if settings.ANSWER_FAULTS_RAISE:
            raise
        log.exception("An answer failed")
        raise AnswerFailedError from error
