"""Where heavy answers are worked out: a few processes beside the site's own.

The same question is worked out once however many ask, one at a time for each owner, and nobody
waits longer than they said: what is not ready yet is asked for again. Without such processes
(``ANSWER_WORKERS`` 0) a question is answered in the thread that asks.
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
    """The answer is being worked out; ask again in a moment."""


class AnswerFailedError(DocumentError):
    """Raised when working out an answer ends in a fault of this program.

    A refusal like any other, so that the pages on which the figures stand can still be opened.
    """

    def __init__(self) -> None:
        super().__init__("", "a fault of this program, not of your figures; it was written down")

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), ()


class AnswerPool:
    """Questions that are being worked out, by key."""

    def __init__(self) -> None:
        self.pool: ProcessPoolExecutor | None = None
        self.open: dict[str, Future[Any]] = {}
        self.owners: dict[Hashable, str] = {}
        self.moved = threading.Condition()

    def ask(
        self, key: str, owner: Hashable, wait_s: float, work: Callable[..., T], *args: Any
    ) -> T:
        """The answer to a question.

        Parameters
        ----------
        key : str
            The same for the same question.
        owner : hashable
            On whose behalf; one has a single question on the desk.
        wait_s : float
            How long one waits, s.
        work, *given
            A function of a module, and what it is given; both travel to another process.

        Raises
        ------
        NotReady
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
        """Lay a question on the desk; None where there is no room for it yet."""
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
            caches["answers"].set(key, future.result(), KEPT_S)
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
        """End the processes; what lies on the desk is dropped."""
        with self.moved:
            if self.pool is not None:
                self.pool.shutdown(wait=False, cancel_futures=True)
            self.pool = None


def _end_with_parent() -> None:
    """A process of the desk ends when the site's does, however that ends."""
    parent = multiprocessing.parent_process()
    assert parent is not None

    def watch() -> None:
        connection.wait([parent.sentinel])
        os._exit(0)

    threading.Thread(target=watch, daemon=True).start()


ANSWER_POOL = AnswerPool()


def cached(key: str) -> Any:
    """An answer that was worked out before; None where there is none."""
    return caches["answers"].get(key)


def worked_out(key: str, owner: Hashable, wait_s: float, work: Callable[..., T], *args: Any) -> T:
    """An answer, from what is kept or worked out now; see :meth:`AnswerPool.ask`.

    Raises
    ------
    NotReady
        It takes longer than ``wait_s``.
    DocumentError
        What was given is refused, or leads to a fault (:class:`AnswerFailedError`).
    """
    known: T | None = cached(key)
    if known is not None:
        return known
    if settings.ANSWER_WORKERS:
        answer: T = guarded(ANSWER_POOL.ask, key, owner, wait_s, work, *args)
        return answer
    if wait_s <= 0:
        raise AnswerPending
    answer = guarded(work, *args)
    caches["answers"].set(key, answer, KEPT_S)
    return answer


def guarded(work: Callable[..., T], *args: Any) -> T:
    """What a function answers; a fault in it is logged and becomes a refusal.

    Raises
    ------
    NotReady, DocumentError
        As the function raises them.
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
