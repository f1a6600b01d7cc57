"""Worker processes beside the site's own: the engine of a site of one machine."""

from __future__ import annotations

import heapq
import itertools
import multiprocessing
import os
import threading
import time
from collections.abc import Hashable
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass, field
from importlib import import_module
from multiprocessing import connection
from typing import Any

from django.conf import settings

from needle.document import DocumentError
from web.background.questions import (
    AnswerPending,
    Question,
    Urgency,
    in_time,
    keep,
    keep_refusal,
)

#: Questions that may be open at a time.
MAX_OPEN = 64


@dataclass
class _Open:
    """A question that is being worked out or waits for it."""

    question: Question
    urgency: Urgency
    asked_s: float = field(default_factory=time.monotonic)
    at_work: bool = False
    answer: Future[Any] = field(default_factory=Future)

    def pending(self) -> AnswerPending:
        return AnswerPending(not self.at_work, time.monotonic() - self.asked_s)


class AnswerPool:
    """Questions by key, the more urgent ones first, one at a time of each owner.

    The same question is worked out once however many requests ask it. A worker that is killed is
    replaced, and its question is taken up by another one.
    """

    def __init__(self) -> None:
        self.processes: ProcessPoolExecutor | None = None
        self.open: dict[str, _Open] = {}
        self.owners: dict[Hashable, str] = {}
        self.waiting: list[tuple[int, int, _Open]] = []
        self.number = itertools.count()
        self.at_work = 0
        self.moved = threading.Condition(threading.RLock())

    def ask(self, question: Question, wait_s: float) -> Any:
        until = time.monotonic() + wait_s
        while True:
            with self.moved:
                asked = self.open.get(question.key) or self._take(question)
                if asked is not None:
                    self._move_forward(asked, question.urgency)
                elif not self.moved.wait(until - time.monotonic()):
                    raise AnswerPending(waiting=True)
            if asked is not None:
                try:
                    return asked.answer.result(max(0.0, until - time.monotonic()))
                except TimeoutError:
                    raise asked.pending() from None
                except BrokenProcessPool:
                    # Its worker was killed: asked again, another one takes it up.
                    pass
            if time.monotonic() >= until:
                raise AnswerPending

    def _take(self, question: Question) -> _Open | None:
        """Put a question in its place; None while its owner has another or too many are open."""
        if question.owner in self.owners or len(self.open) >= MAX_OPEN:
            return None
        asked = _Open(question, question.urgency)
        self.open[question.key], self.owners[question.owner] = asked, question.key
        self._put(asked)
        self._begin()
        return asked

    def _put(self, asked: _Open) -> None:
        heapq.heappush(self.waiting, (asked.urgency, next(self.number), asked))

    def _move_forward(self, asked: _Open, urgency: Urgency) -> None:
        """Put a question further forward if somebody asks it more urgently than before."""
        if urgency < asked.urgency and not asked.at_work:
            asked.urgency = urgency
            # Its place further back is passed over when its turn comes there.
            self._put(asked)

    def _begin(self) -> None:
        """Give waiting questions to the workers that are free."""
        while self.waiting and self.at_work < _most_workers():
            _, _, asked = heapq.heappop(self.waiting)
            if asked.at_work:
                continue
            self.at_work += 1
            asked.at_work = True
            self._submit(asked.question).add_done_callback(
                lambda done, asked=asked: self._done(asked, done)  # type: ignore[misc]
            )

    def _submit(self, question: Question) -> Future[Any]:
        work = (in_time, settings.ANSWER_LIMIT_S, question.work, *question.args)
        try:
            return self._workers().submit(*work)
        except BrokenProcessPool:
            # One of its processes was killed: the pool gets new ones.
            self.processes = None
            return self._workers().submit(*work)

    def _done(self, asked: _Open, done: Future[Any]) -> None:
        error = None if done.cancelled() else done.exception()
        if isinstance(error, DocumentError):
            keep_refusal(asked.question.key, error)
        elif error is None and not done.cancelled():
            keep(asked.question.key, done.result())
        with self.moved:
            self.at_work -= 1
            self.open.pop(asked.question.key, None)
            self.owners.pop(asked.question.owner, None)
            if isinstance(error, BrokenProcessPool):
                self.processes = None
            if not done.cancelled():
                self._begin()
            self.moved.notify_all()
        if done.cancelled():
            asked.answer.cancel()
        elif error is not None:
            asked.answer.set_exception(error)
        else:
            asked.answer.set_result(done.result())

    def _workers(self) -> ProcessPoolExecutor:
        if self.processes is None:
            self.processes = ProcessPoolExecutor(
                _most_workers(), multiprocessing.get_context("spawn"), _end_with_parent
            )
        return self.processes

    def warm_up(self) -> None:
        """Start the processes and have them load the core, before anybody waits for them."""
        with self.moved:
            for _ in range(_most_workers()):
                self._workers().submit(import_module, "needle.plan.answering")

    def close(self) -> None:
        """Stop the processes; open questions are dropped."""
        with self.moved:
            self.waiting.clear()
            if self.processes is not None:
                self.processes.shutdown(wait=False, cancel_futures=True)
            self.processes = None


def _most_workers() -> int:
    """Processes of the pool: one where the settings want none, but a queue cannot be reached."""
    wanted: int = settings.ANSWER_WORKERS
    return max(1, wanted)


def _end_with_parent() -> None:
    """Make a worker process exit when the site's process does."""
    parent = multiprocessing.parent_process()
    assert parent is not None

    def watch() -> None:
        connection.wait([parent.sentinel])
        os._exit(0)

    threading.Thread(target=watch, daemon=True).start()


POOL = AnswerPool()
