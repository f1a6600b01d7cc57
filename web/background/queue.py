"""A queue that all servers share and workers on any machine take from, by Celery and Redis.

Beside the queue, Redis holds marks of each question: that it is asked, that its owner has one, and
that it was put further forward. Whoever works at it renews them; when a worker is lost they end,
and the next request that asks puts the question into the queue again. The answer itself goes into
the shared cache.
"""

from __future__ import annotations

import hashlib
import pickle
import threading
import time
from collections.abc import Hashable, Iterator
from contextlib import contextmanager, suppress
from functools import cache
from typing import Any

import redis
from celery import Celery
from django.conf import settings
from django.core.signing import Signer
from kombu.exceptions import OperationalError

from needle.document import DocumentError
from web.background.pool import POOL
from web.background.questions import (
    AnswerPending,
    Question,
    cached,
    guarded,
    in_time,
    keep,
    keep_refusal,
    refusal_of,
)
from web.common.metrics import WITHOUT_QUEUE

#: How long a mark lasts while a question waits, and while somebody works at it, s.
WAITS_S, WORKS_S = 30.0, 10.0
#: How often the one who works at it renews the mark, s.
BEAT_S = 3.0
#: How long the site tries to reach Redis, s.
REACH_S = 1.0
#: Pauses between looks at the cache for an answer, the first and the longest, s.
FIRST_LOOK_S, LONGEST_LOOK_S = 0.02, 0.2
#: What is tried for this long without Redis before it is looked for again, s.
WITHOUT_S = 2.0

app = Celery("steady-needle")
app.conf.update(
    broker_url=settings.QUEUE_URL,
    broker_connection_retry_on_startup=True,
    broker_transport_options={
        "queue_order_strategy": "priority",
        "priority_steps": [0, 1],
        "socket_timeout": REACH_S,
        "socket_connect_timeout": REACH_S,
        "max_retries": 0,
    },
    task_default_queue="answers",
    task_ignore_result=True,
    # A question stays in the queue until it is answered; each worker takes one at a time.
    task_acks_late=True,
    task_reject_on_worker_lost=True,
    worker_prefetch_multiplier=1,
    worker_hijack_root_logger=False,
    # Beyond the limit that the work itself keeps.
    task_time_limit=settings.ANSWER_LIMIT_S + 30,
)


class _Pickled:
    """Questions name functions and hold objects of the core, which JSON cannot."""

    @staticmethod
    def dumps(question: Question) -> bytes:
        return pickle.dumps(question)

    @staticmethod
    def loads(data: bytes) -> Any:
        return pickle.loads(data)  # noqa: S301 (its signature was checked)


#: What the queue holds is read only if this site wrote it.
_SIGNER = Signer(salt="steady.questions")


class AnswerQueue:
    """Questions that are worked out once across all servers; on the own pool without Redis."""

    def __init__(self, marks: redis.Redis) -> None:
        self.redis = marks
        self.without_until_s = 0.0

    def ask(self, question: Question, wait_s: float) -> Any:
        until = time.monotonic() + wait_s
        if time.monotonic() < self.without_until_s:
            return POOL.ask(question, wait_s)
        pause_s = FIRST_LOOK_S
        try:
            while True:
                known = cached(question.key)
                if known is not None:
                    return known
                if (refusal := refusal_of(question.key)) is not None:
                    raise refusal
                pending = self._put(question)
                left_s = until - time.monotonic()
                if left_s <= 0:
                    raise pending
                time.sleep(min(pause_s, left_s))
                pause_s = min(2 * pause_s, LONGEST_LOOK_S)
        except (redis.RedisError, OperationalError):
            WITHOUT_QUEUE.inc()
            self.without_until_s = time.monotonic() + WITHOUT_S
            return POOL.ask(question, max(0.0, until - time.monotonic()))

    def _put(self, question: Question) -> AnswerPending:
        """Put a question into the queue unless it is there; how it stands."""
        asked, owner = _marks(question.key, question.owner)
        mark = self.redis.get(asked)
        if mark is not None:
            state, urgency, since = str(mark).split()
            if state == "waits" and question.urgency < int(urgency):
                self._move_forward(question)
            return AnswerPending(state == "waits", max(0.0, time.time() - float(since)))
        life_ms = int(1000 * WAITS_S)
        mine = self.redis.set(owner, asked, px=life_ms, nx=True)
        if not mine and self.redis.get(owner) != asked:
            return AnswerPending(waiting=True)
        if self.redis.set(asked, _standing("waits", question), px=life_ms, nx=True):
            _send(question)
        return AnswerPending(waiting=True)

    def _move_forward(self, question: Question) -> None:
        """Put a question in once more, further forward: its other place is passed over."""
        if self.redis.set(_forward_mark(question.key), "1", px=int(1000 * WAITS_S), nx=True):
            _send(question)

    def take(self, question: Question) -> bool:
        """Mark a question as worked at; whether nobody else works at it."""
        asked, _ = _marks(question.key, question.owner)
        try:
            before = self.redis.set(
                asked, _standing("works", question), px=int(1000 * WORKS_S), get=True
            )
        except redis.RedisError:
            return True
        return not str(before).startswith("works")

    @contextmanager
    def at_work(self, question: Question) -> Iterator[None]:
        """Set the marks of a question, and renew them for as long as it is worked at."""
        asked, owner = _marks(question.key, question.owner)
        done = threading.Event()
        state, life_ms = _standing("works", question), int(1000 * WORKS_S)

        def renew() -> None:
            # Redis comes back, or the question is asked again.
            with suppress(redis.RedisError):
                self.redis.set(asked, state, px=life_ms)
                self.redis.set(owner, asked, px=life_ms)

        def beat() -> None:
            while not done.wait(BEAT_S):
                renew()

        renew()
        beating = threading.Thread(target=beat, daemon=True)
        beating.start()
        try:
            yield
        finally:
            done.set()
            beating.join()
            # Without Redis they end by themselves.
            with suppress(redis.RedisError):
                self.redis.delete(asked, owner, _forward_mark(question.key))


@app.task(name="answer")
def answer_question(signed: str) -> None:
    """Work a question out and keep its answer where every server finds it."""
    question: Question = _SIGNER.unsign_object(signed, serializer=_Pickled)
    if not the_queue().take(question):
        return
    with the_queue().at_work(question):
        if cached(question.key) is not None or refusal_of(question.key) is not None:
            return
        try:
            answer = guarded(in_time, settings.ANSWER_LIMIT_S, question.work, *question.args)
        except DocumentError as refusal:
            keep_refusal(question.key, refusal)
        else:
            keep(question.key, answer)


def _send(question: Question) -> None:
    answer_question.apply_async(
        [_SIGNER.sign_object(question, serializer=_Pickled, compress=True)],
        priority=int(question.urgency),
        retry=False,
    )


@cache
def the_queue() -> AnswerQueue:
    """The queue that the settings name."""
    return AnswerQueue(
        redis.Redis.from_url(
            settings.QUEUE_URL,
            decode_responses=True,
            socket_timeout=REACH_S,
            socket_connect_timeout=REACH_S,
        )
    )


def _marks(key: str, owner: Hashable) -> tuple[str, str]:
    """Names in Redis of the two marks of a question."""
    of_owner = hashlib.sha256(repr(owner).encode()).hexdigest()
    return f"steady:asked:{key}", f"steady:owner:{of_owner}"


def _standing(state: str, question: Question) -> str:
    """What the mark of a question tells: how it stands, how urgent it is and since when."""
    return f"{state} {int(question.urgency)} {time.time()}"


def _forward_mark(key: str) -> str:
    """Name in Redis of the mark that a question was put further forward."""
    return f"steady:forward:{key}"
