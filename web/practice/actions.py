"""All changes of tries at drills."""

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
from needle.message import kept
from web.practice.models import DrillRun

#: Doings of one try, tries that are kept of one person.
MOST_DOINGS, MOST_RUNS = 60, 200
MOVED_ON = "something was done since this page came: here is the bench as it stands"


def begin(user: Any, number: int, key: uuid.UUID | None = None) -> DrillRun:
    """Start a new try at a built-in drill, with other values than in earlier tries."""
    tried = DrillRun.objects.visible_to(user).filter(shipped=number).count()
    return _begun(user, {**DRILLS[number - 1], "seed": tried + 1}, number, key)


def begin_own(user: Any, document: Any) -> DrillRun:
    """Start a new try at a teacher's drill.

    Raises
    ------
    DocumentError
    """
    parse_drill(document)
    return _begun(user, document, 0, None)


def _begun(user: Any, document: Any, number: int, key: uuid.UUID | None) -> DrillRun:
    mine = DrillRun.objects.visible_to(user)
    known: DrillRun | None = mine.filter(client_key=key).first() if key is not None else None
    if known is not None:
        return known
    if mine.count() >= MOST_RUNS:
        raise DocumentError("", f"you have {MOST_RUNS} tries: remove some")
    return DrillRun.objects.create(
        owner=user, document=document, shipped=number, client_key=key or uuid.uuid4()
    )


def do(run: DrillRun, doing: dict[str, Any], after: int | None = None) -> None:
    """Do one more action; ``after`` is the number of actions that the page showed, if known.

    Raises
    ------
    DocumentError
        The action is impossible, there is no time left, or another action was done meanwhile.
    """
    if run.answer is not None:
        raise DocumentError("", "the answer was given: begin another one like it")
    if after is not None and after != len(run.doings):
        raise DocumentError("", MOVED_ON)
    if len(run.doings) >= MOST_DOINGS:
        raise DocumentError("", f"{MOST_DOINGS} things were done: answer now")
    doings = [*run.doings, doing]
    played(run.drill(), doings)
    _store(run, doings=doings)


def answer(run: DrillRun, given: DrillAnswer) -> None:
    """Store the answer, once, with its result.

    Raises
    ------
    DocumentError
        Another action was done meanwhile.
    """
    if run.answer is not None:
        return
    drill = run.drill()
    outcome = as_document(judged(run.session(), given), drill) | {
        "round": [[f"{at:%H:%M}", what] for at, what in advised(drill)]
    }
    given_answer = {"low": given.low, "high": given.high, "yes": given.yes}
    _store(run, answer=given_answer, outcome=kept(outcome))


def _store(run: DrillRun, **changed: Any) -> None:
    """Store the result, computed outside of any lock."""
    with transaction.atomic():
        stored = DrillRun.objects.select_for_update().filter(pk=run.pk).first()
        if stored is None or (stored.doings, stored.answer) != (run.doings, run.answer):
            raise DocumentError("", MOVED_ON)
        for name, value in changed.items():
            setattr(run, name, value)
        run.save(update_fields=list(changed))
