"""The answer to a plan: computed by the core from its document, and cached."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from django.http import HttpResponse

from needle.document import DocumentError
from needle.plan.advice.measurements import Narrowing
from needle.plan.advice.suggestions import Suggestion, hours_gained
from needle.plan.answering import Worked, work_out, work_out_quickly
from needle.plan.energy.simulate import Outcome
from needle.quantity import hours_text
from needle.words.answer import answer_document
from web.background import questions
from web.background.asking import worked_out
from web.background.questions import AnswerFailedError, AnswerPending, cached, guarded, keep
from web.jobs.models import Job
from web.loads.models import Load
from web.plans.draft import Draft, document, draft_of
from web.plans.models import Plan
from web.plans.used import UsedLoad
from web.supplies.models import Supply

#: How long a page waits for an answer before it shows that it is being worked out, and how long
#: one waits who asked for nothing else, s.
PAGE_WAIT_S, LONG_WAIT_S = 1.0, 60.0
#: Loads of a plan from which on a page comes before its answer.
QUICK_LOADS = 15


@dataclass(frozen=True)
class Answer:
    """The answer to a plan, or why there is none yet.

    ``reason`` is empty, or one of ``loads``, ``evidence``, ``supply``, ``output``, ``refused``,
    ``pending``; then ``outcome`` is None and ``words`` says what is missing. A ``quick`` one has
    fewer draws and no advice.
    """

    draft: Draft
    outcome: Outcome | None = None
    narrowings: Sequence[Narrowing] = ()
    suggestions: Sequence[Suggestion] = ()
    reason: str = ""
    words: str = ""
    quick: bool = False

    @property
    def pending(self) -> bool:
        """Whether it is still being computed."""
        return self.reason == "pending"

    @property
    def plan(self) -> Plan:
        return self.draft.plan

    @property
    def supply(self) -> Supply | None:
        return self.draft.supply

    @property
    def used(self) -> list[UsedLoad]:
        return self.draft.used


def current_plan(job: Job) -> Plan:
    """The job's current plan; an unsaved one if the job has none yet."""
    plans = list(job.plans.live().select_related("supply"))
    current = next((plan for plan in plans if plan.is_current), plans[0] if plans else None)
    return current or Plan.default_of(job)


def answer_of(plan: Plan, wait_s: float = PAGE_WAIT_S, page_first: bool = False) -> Answer:
    """The answer to a stored plan, or what is missing; ``pending`` after ``wait_s``.

    With ``page_first`` plans with many loads are not waited for.
    """
    draft = draft_of(plan)
    if page_first and sum(used.counted for used in draft.used) > QUICK_LOADS:
        wait_s = 0.0
    return answer_draft(draft, wait_s)


def answer_draft(draft: Draft, wait_s: float = PAGE_WAIT_S, quick: bool = False) -> Answer:
    """The answer to a stored or tried draft."""
    reason, words = missing(draft)
    if reason:
        return Answer(draft, reason=reason, words=words, quick=quick)
    try:
        doc = document(draft)
        # While something moves: where it is what it was before, the whole answer is at hand.
        known = cached(key_of(doc)) if quick else None
        quick = quick and known is None
        worked = known or (guarded(work_out_quickly, doc) if quick else _worked(doc, draft, wait_s))
    except AnswerPending as pending:
        return Answer(draft, reason="pending", words=pending.words)
    except AnswerFailedError as error:
        words = f"The plan cannot be calculated: {error.message}. Change it, or undo the last step."
        return Answer(draft, reason="refused", words=words, quick=quick)
    except DocumentError as error:
        words = f"The plan cannot be run: {_named(error, draft)}."
        return Answer(draft, reason="refused", words=words, quick=quick)
    return Answer(draft, worked.outcome, worked.narrowings, worked.suggestions, quick=quick)


def told(answer: Answer) -> dict[str, Any]:
    """What ``needle plan`` prints of an answered plan, kept as long as the answer is."""
    if answer.outcome is None:
        raise ValueError("a plan without an answer tells nothing")
    source = document(answer.draft)
    key = f"told-{key_of(source)}"
    known: dict[str, Any] | None = cached(key)
    if known is None:
        known = answer_document(source, answer.outcome, answer.suggestions, answer.narrowings)
        keep(key, known)
    return known


def energies_until(outcome: Outcome) -> str:
    """The hours that the energies cover, in words."""
    if outcome.likely.until_h >= outcome.plan.needed_hours - 1e-6:
        return f"in the {hours_text(outcome.plan.needed_hours)} needed, likely"
    return "until it stops, in the likely run"


def still_working() -> HttpResponse:
    """Response while the answer is still being computed."""
    words = "This takes longer than usual: try again in a moment."
    return HttpResponse(words, status=503, content_type="text/plain", headers={"Retry-After": "10"})


def _worked(doc: dict[str, Any], draft: Draft, wait_s: float) -> Worked:
    return worked_out(key_of(doc), draft.plan.job.owner_id, wait_s, work_out, doc)


def _named(error: DocumentError, draft: Draft) -> str:
    """An error that names the load instead of its path in the document."""
    counted = [used_load.name for used_load in draft.used if used_load.counted]
    match = re.match(r"loads\[(\d+)\]\.?(.*)", error.path)
    if match is None or int(match[1]) >= len(counted):
        return str(error)
    return f"{counted[int(match[1])]}: {match[2]} {error.message}".replace("  ", " ")


def missing(draft: Draft) -> tuple[str, str]:
    """What a draft lacks for an answer, as of :class:`Answer`: reason and words, empty for none."""
    used, supply = draft.used, draft.supply
    if not used:
        return "loads", "No load yet: add the first thing that must run."
    if supply is None:
        return "supply", "No supply yet: add the battery that will power these loads."
    if not any(used_load.counted for used_load in used):
        return _why_none_counts(used)
    if not supply.continuous_w and not supply.known_outputs():
        wanted = "give its inverter's continuous watts, or add a DC or USB output"
        return "output", f"{supply.name} has no way out yet: {wanted}."
    return "", ""


def _why_none_counts(used: Sequence[UsedLoad]) -> tuple[str, str]:
    unknown = [used_load.name for used_load in used if not used_load.use_known]
    if unknown:
        return "loads", f"Say in the plan when {unknown[0]} is used."
    if any(used_load.entry.taken_in for used_load in used):
        return "evidence", "No load has a label or a reading yet: give one of them a figure."
    return "loads", "No load is included in this plan: include one."


def key_of(doc: dict[str, Any]) -> str:
    """Cache key of a document's answer."""
    return questions.key_of("answer", doc)


def hours_gained_by(answer: Answer, load: Load, **draw: Any) -> tuple[float, float, float] | None:
    """Hours that an answered plan gains from a change of a load; None if the load is not in it.

    ``draw`` are figures of :class:`needle.plan.load.LoadDraw`.
    """
    if answer.supply is None or answer.outcome is None:
        return None
    plan = answer.outcome.plan
    if not any(other.name == load.name for other in plan.loads):
        return None
    changed = tuple(
        replace(other, draw=replace(other.draw, **draw)) if other.name == load.name else other
        for other in plan.loads
    )
    return hours_gained(plan, replace(plan, loads=changed))
