"""What a plan comes to: its open document, run by the core, kept while nothing changes."""

from __future__ import annotations

import hashlib
import json
import math
import re
from dataclasses import dataclass, field, replace
from typing import Any

from django.core.cache import caches

from needle.document import DocumentError
from needle.plan.advice import Narrowing, measure_next
from needle.plan.helps import Help, helps, hours_won
from needle.plan.likely import likely_hours
from needle.plan.plan import MOST_HOURS, parse_plan
from needle.plan.plan import Plan as CorePlan
from needle.plan.simulate import Outcome, simulate
from web.jobs.models import Job
from web.loads.models import Load
from web.plans.draft import Draft, Used, document, draft_of
from web.plans.models import Plan
from web.supplies.models import Supply

#: Raised when the core answers the same document differently.
ANSWER_VERSION = 4
#: Cells (loads times minutes times draws) that one answer may cost, and a quick one.
MOST_CELLS, QUICK_CELLS = 40e6, 3e6
#: Draws of an answer, and of a quick one that is shown while something is being moved.
MOST_DRAWS, QUICK_DRAWS, LEAST_DRAWS = 200, 60, 30
KEPT_S = 24 * 3600
#: Plans of up to so many loads are answered while one waits.
QUICK_LOADS = 15


@dataclass(frozen=True)
class Answer:
    """What a plan comes to, or why it cannot be answered yet.

    ``trouble`` is empty, or one of ``loads``, ``evidence``, ``supply``, ``output``, ``refused``,
    ``pending``; then ``outcome`` is None and ``words`` says what is missing. A ``quick`` one has
    fewer draws and no advice.
    """

    draft: Draft
    outcome: Outcome | None = None
    narrowings: list[Narrowing] = field(default_factory=list)
    helps: list[Help] = field(default_factory=list)
    trouble: str = ""
    words: str = ""
    quick: bool = False

    @property
    def plan(self) -> Plan:
        return self.draft.plan

    @property
    def supply(self) -> Supply | None:
        return self.draft.supply

    @property
    def used(self) -> list[Used]:
        return self.draft.used


def current_plan(job: Job) -> Plan:
    """The plan that the answer bar speaks of; an unsaved one where the job has none yet."""
    plans = list(job.plans.live().select_related("supply"))
    current = next((plan for plan in plans if plan.is_current), plans[0] if plans else None)
    return current or Plan(job=job, name="Outage", is_current=True)


def answer(plan: Plan, at_once: bool = False) -> Answer:
    """Run a stored plan, or say what it still wants.

    With ``at_once`` an answer that is not kept yet and would take long is left ``pending``.
    """
    return answer_draft(draft_of(plan), at_once)


def answer_draft(draft: Draft, at_once: bool = False, quick: bool = False) -> Answer:
    """Run a plan as it stands or is tried."""
    trouble, words = _missing(draft)
    if trouble:
        return Answer(draft, trouble=trouble, words=words, quick=quick)
    try:
        doc = document(draft)
        kept = caches["answers"].get(key_of(doc))
        if at_once and len(doc["loads"]) > QUICK_LOADS and kept is None:
            return Answer(draft, trouble="pending", words="Working it out…")
        outcome, narrowings, found = _run_quickly(doc) if quick else _run(doc)
    except DocumentError as error:
        words = f"The plan cannot be run: {_named(error, draft)}."
        return Answer(draft, trouble="refused", words=words, quick=quick)
    return Answer(draft, outcome, narrowings, found, quick=quick)


def _named(error: DocumentError, draft: Draft) -> str:
    """A refusal that names the load it speaks of, not its place in the document."""
    counted = [one.name for one in draft.used if one.counted]
    found = re.match(r"loads\[(\d+)\]\.?(.*)", error.path)
    if found is None or int(found[1]) >= len(counted):
        return str(error)
    return f"{counted[int(found[1])]}: {found[2]} {error.message}".replace("  ", " ")


def _missing(draft: Draft) -> tuple[str, str]:
    used, supply = draft.used, draft.supply
    if not used:
        return "loads", "No load yet: add the first thing that must run."
    if supply is None:
        return "supply", "No supply yet: add the battery that shall carry these loads."
    if not any(one.counted for one in used):
        if any(one.entry.taken_in for one in used):
            return "evidence", "No load has a label or a reading yet: give one of them a figure."
        return "loads", "Every load is left out of this plan: take one in."
    if not supply.continuous_w and not supply.known_outputs():
        wanted = "give its inverter's continuous watts, or add a DC or USB output"
        return "output", f"{supply.name} has no way out yet: {wanted}."
    return "", ""


def key_of(doc: dict[str, Any]) -> str:
    """Under which a document's answer is kept."""
    text = json.dumps([ANSWER_VERSION, doc], sort_keys=True)
    return "answer:" + hashlib.sha256(text.encode()).hexdigest()


def _run(doc: dict[str, Any]) -> tuple[Outcome, list[Narrowing], list[Help]]:
    key = key_of(doc)
    kept = caches["answers"].get(key)
    if kept is None:
        plan = _with_horizon(parse_plan(doc))
        outcome = simulate(plan, _draws(plan, MOST_DRAWS, MOST_CELLS))
        kept = (outcome, measure_next(outcome), helps(outcome))
        caches["answers"].set(key, kept, KEPT_S)
    return kept


def _run_quickly(doc: dict[str, Any]) -> tuple[Outcome, list[Narrowing], list[Help]]:
    """With few draws and no advice, for what is being moved; the full one where it is kept."""
    kept = caches["answers"].get(key_of(doc))
    if kept is not None:
        return kept
    plan = parse_plan(doc)
    plan = _looking(plan, 1.5 * plan.needed_hours + 2)
    return simulate(plan, _draws(plan, QUICK_DRAWS, QUICK_CELLS)), [], []


def won_by(found: Answer, load: Load, running_w: float) -> tuple[float, float, float] | None:
    """Hours that an answered plan wins where a load runs at other W; None where it is not in it."""
    if found.supply is None or found.outcome is None:
        return None
    plan = found.outcome.plan
    if not any(one.name == load.name for one in plan.loads):
        return None
    changed = tuple(
        replace(one, running_w=running_w) if one.name == load.name else one for one in plan.loads
    )
    return hours_won(plan, replace(plan, loads=changed))


def _with_horizon(plan: CorePlan) -> CorePlan:
    """Look far enough ahead that the high end of the answer is seen, where it can be."""
    ahead = min(MOST_HOURS, 2 * plan.needed_hours)
    while (likely := likely_hours(replace(plan, hours=ahead))) >= ahead < MOST_HOURS:
        ahead = min(MOST_HOURS, 3 * ahead)
    return _looking(plan, max(plan.needed_hours * 1.1, likely * 1.6 + 2))


def _looking(plan: CorePlan, hours: float) -> CorePlan:
    """The plan as far as so many hours."""
    return replace(plan, hours=min(MOST_HOURS, float(math.ceil(hours))))


def _draws(plan: CorePlan, most: int, cells: float) -> int:
    cost = plan.hours * 60 * max(1, sum(load.count for load in plan.loads))
    return int(min(most, max(min(most, LEAST_DRAWS), cells / cost)))
