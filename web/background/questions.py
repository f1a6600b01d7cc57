"""A question whose answer takes long, what can become of it, and the answers that are kept."""

from __future__ import annotations

import hashlib
import json
import logging
import signal
import threading
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from enum import IntEnum
from types import FrameType
from typing import Any, Protocol, TypeVar

from django.conf import settings
from django.core.cache import caches

from needle.document import DocumentError
from web.common.version import core_version

log = logging.getLogger("steady.answers")

T = TypeVar("T")
#: How long an answer is kept, and how long a refusal, s.
KEPT_S, REFUSED_S = 24 * 3600, 600


class Urgency(IntEnum):
    """Which question is worked out first."""

    NOW = 0
    LATER = 1


@dataclass(frozen=True)
class Question:
    """Something to be worked out.

    Attributes
    ----------
    key : str
        Equal for equal questions.
    owner : hashable
        The person who asks, and for what; one question of an owner is worked out at a time.
    work : callable
        A module-level function of the core; pickled, like ``args``.
    args : tuple
    urgency : Urgency
    """

    key: str
    owner: Hashable
    work: Callable[..., Any]
    args: tuple[Any, ...] = ()
    urgency: Urgency = Urgency.NOW


class Engine(Protocol):
    """Works questions out, each once."""

    def ask(self, question: Question, wait_s: float) -> Any:
        """The answer, or :class:`AnswerPending` after ``wait_s``, or the refusal it ended in."""


class AnswerPending(Exception):
    """Raised while an answer is being worked out; ask again in a moment.

    Attributes
    ----------
    waiting : bool
        Whether nobody works at it yet.
    for_s : float
        How long ago it was asked, s.
    """

    def __init__(self, waiting: bool = False, for_s: float = 0.0) -> None:
        super().__init__()
        self.waiting, self.for_s = waiting, for_s

    @property
    def words(self) -> str:
        """How it stands, for a page."""
        if self.for_s < 3.0:
            return "Calculating…"
        so_far = f"{self.for_s:.0f} s so far"
        return (
            f"Calculating… others are before it, {so_far}."
            if self.waiting
            else (f"Calculating… {so_far}.")
        )


class AnswerFailedError(DocumentError):
    """Raised if computing an answer fails because of a fault of this program.

    It is a refusal like any other, so that the pages with the figures can still be opened.
    """

    def __init__(self) -> None:
        super().__init__("", "a fault of this program, not of your figures; it was written down")

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), ()


class AnswerTooLongError(DocumentError):
    """Raised if an answer takes longer than a question may."""

    def __init__(self, limit_s: float) -> None:
        super().__init__(
            "", f"it takes longer than {limit_s:.0f} s; take fewer loads or fewer hours"
        )
        self.limit_s = limit_s

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), (self.limit_s,)


def key_of(kind: str, *asked: Any) -> str:
    """Key of a question of a kind about documents and other values that JSON can say."""
    text = json.dumps(asked, sort_keys=True)
    return f"{kind}:" + hashlib.sha256(text.encode()).hexdigest()


def _read(name: str) -> Any:
    try:
        return caches["answers"].get(name)
    except Exception:
        # A file that the power's end left half-written, say: worked out again.
        log.exception("A kept answer could not be read")
        caches["answers"].delete(name)
        return None


def _write(name: str, value: Any, for_s: float) -> None:
    try:
        caches["answers"].set(name, value, for_s)
    except Exception:
        # A full disk: who asks gets it all the same.
        log.exception("An answer could not be kept")


def cached(key: str) -> Any:
    """A kept answer, which nobody changes; None if there is none."""
    live, name = caches["live"], f"{core_version()}:{key}"
    known = live.get(name)
    if known is None and (known := _read(name)) is not None:
        live.set(name, known)
    return known


def keep(key: str, answer: Any) -> None:
    """Keep what was worked out, for as long as answers are kept."""
    name = f"{core_version()}:{key}"
    _write(name, answer, KEPT_S)
    caches["live"].set(name, answer)


def refusal_of(key: str) -> DocumentError | None:
    """The refusal in which the same question ended a short time ago."""
    refusal: DocumentError | None = _read(f"{core_version()}:refused:{key}")
    return refusal


def keep_refusal(key: str, refusal: DocumentError) -> None:
    """Keep a refusal, so that it is not worked out again with each look at a page."""
    _write(f"{core_version()}:refused:{key}", refusal, REFUSED_S)


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


def in_time(limit_s: float, work: Callable[..., T], *args: Any) -> T:
    """Call a function in a worker process, for ``limit_s`` at most.

    Raises
    ------
    AnswerTooLongError
    """
    with _limited(limit_s):
        return work(*args)


@contextmanager
def _limited(limit_s: float) -> Iterator[None]:
    if threading.current_thread() is not threading.main_thread():
        # Only a main thread gets signals; workers do their work there.
        yield
        return

    def stop(_number: int, _frame: FrameType | None) -> None:
        raise AnswerTooLongError(limit_s)

    before = signal.signal(signal.SIGALRM, stop)
    # Again each second: code that takes refusals in its stride may have caught the first.
    signal.setitimer(signal.ITIMER_REAL, limit_s, 1.0)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0.0)
        signal.signal(signal.SIGALRM, before)
