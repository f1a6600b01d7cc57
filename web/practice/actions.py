"""What changes tries at drills."""

from __future__ import annotations

import uuid
from typing import Any

from django.db import transaction

from needle.document import DocumentError
from needle.drill.advised import advised
from needle.drill.answer import DrillAnswer
from needle.drill.drill import parse_drill
from needle.drill.judge import as_document, judged
from needle.drill.session import played
from needle.drill.shipped import DRILLS
from web.practice.models import DrillRun

#: Doings of one try, tries that are kept of one person.
MOST_DOINGS, MOST_RUNS = 60, 200


def begin(user: Any, number: int, key: uuid.UUID | None = None) -> DrillRun:
    """A new try at a drill that ships: another one like those tried before."""
    tried = DrillRun.objects.visible_to(user).filter(shipped=number).count()
    return _begun(user, {**DRILLS[number - 1], "seed": tried + 1}, number, key)


def begin_own(user: Any, document: Any) -> DrillRun:
    """A new try at a teacher's drill.

    Raises
    ------
    DocumentError
    """
    parse_drill(document)
    return _begun(user, document, 0, None)


def _begun(user: Any, document: Any, number: int, key: uuid.UUID | None) -> DrillRun:
    mine = DrillRun.objects.visible_to(user)
    if key is not None and (known := mine.filter(client_key=key).first()) is not None:
        return known
    if mine.count() >= MOST_RUNS:
        raise DocumentError("", f"you have {MOST_RUNS} tries: remove some")
    return DrillRun.objects.create(
        owner=user, document=document, shipped=number, client_key=key or uuid.uuid4()
    )


def do(run: DrillRun, doing: dict[str, Any]) -> None:
    """One more thing done.

    Raises
    ------
    DocumentError
        It cannot be done, or the time is over.
    """
    with transaction.atomic():
        stored = DrillRun.objects.select_for_update().get(pk=run.pk)
        if stored.answer is not None:
            raise DocumentError("", "the answer was given: begin another one like it")
        if len(stored.doings) >= MOST_DOINGS:
            raise DocumentError("", f"{MOST_DOINGS} things were done: answer now")
        doings = [*stored.doings, doing]
        played(stored.drill(), doings)
        stored.doings = doings
        stored.save(update_fields=["doings"])


def answer(run: DrillRun, given: DrillAnswer) -> None:
    """Answer, once; the outcome is kept."""
    with transaction.atomic():
        stored = DrillRun.objects.select_for_update().get(pk=run.pk)
        if stored.answer is not None:
            return
        session = stored.session()
        stored.answer = {"low": given.low, "high": given.high, "yes": given.yes}
        stored.outcome = as_document(judged(session, given), stored.drill()) | {
            "round": [[f"{at:%H:%M}", words] for at, words in advised(stored.drill())]
        }
        stored.save(update_fields=["answer", "outcome"])
