"""Trying a plan: changing conditions and dragging blocks, and storing the result.

With ``quick``, each returns at once an answer of fewer draws, and stores nothing.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.http import Http404, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_POST

from needle.document import DocumentError
from needle.usage.schedule import copied_block, moved_block, stretched_block, without_block
from web.common.htmx import HtmxRequest, refusal
from web.jobs.access import of_job
from web.jobs.announcing import announce_change
from web.jobs.models import Job, Role
from web.plans import actions
from web.plans.draft import Draft, draft_of
from web.plans.forms import WhatIfForm
from web.plans.models import PlanEntry, PlanSource
from web.plans.outcomes import answer_draft
from web.plans.views import changed, plan_of, shown_context, source_of

#: Most minutes by which a block can be moved: two weeks.
_FAR_MIN = 14 * 1440
_Change = Callable[[dict[str, Any]], dict[str, Any]]


def _live(
    request: HtmxRequest, job: Job, draft: Draft, quick: bool, trying: bool = False
) -> HttpResponse:
    context = shown_context(request, job, answer_draft(draft, quick=quick))
    return render(request, "plans/_live.html", {**context, "trying": trying})


def _refuse(words: str) -> HttpResponse:
    return refusal(f"{words[0].upper()}{words[1:]}.")


def _words(form: WhatIfForm) -> str:
    return " ".join(str(error) for errors in form.errors.values() for error in errors).rstrip(".")


@require_POST
@of_job(post=Role.VIEWER)
def what_if(request: HtmxRequest, job: Job, plan: int) -> HttpResponse:
    """The answer under other conditions, which are not stored."""
    form = WhatIfForm(request.POST, draft=draft_of(plan_of(job, plan)))
    if not form.is_valid():
        return _refuse(_words(form))
    return _live(request, job, form.apply(), "quick" in request.POST, trying=form.has_changed())


@require_POST
@of_job
def keep_what_if(request: HtmxRequest, job: Job, plan: int) -> HttpResponse:
    """Store the conditions that were tried."""
    draft = draft_of(plan_of(job, plan))
    form = WhatIfForm(request.POST, draft=draft)
    if not form.is_valid():
        return _refuse(_words(form))
    if form.has_changed():
        actions.keep_conditions(form.apply(), form.changed_data)
        announce_change(request, job)
    return changed(request, job, draft.plan)


class Movable:
    """The owner of a block, a load's entry or a source, with its use."""

    def __init__(self, draft: Draft, record: PlanEntry | PlanSource, use: dict[str, Any]) -> None:
        self.draft, self.record, self.use = draft, record, use

    def tried(self, use: dict[str, Any]) -> Draft:
        """The plan with this use, in memory."""
        if isinstance(self.record, PlanSource):
            self.record.data = {**self.record.data, **use}
            return self.draft.with_source(self.record)
        self.record.use = use
        return self.draft.with_entry(self.record)

    def keep(self) -> None:
        if isinstance(self.record, PlanSource):
            actions.save_source(self.record)
        else:
            actions.use_load(self.record)


def _of_load(draft: Draft, job: Job, pk: int) -> Movable:
    used = next((used_load for used_load in draft.used if used_load.load.pk == pk), None)
    if used is None:
        raise Http404
    used.entry.plan = draft.plan
    return Movable(draft, used.entry, used.use)


def _of_source(draft: Draft, job: Job, pk: int) -> Movable:
    source = source_of(draft, pk)
    return Movable(draft, source, {"between": source.data.get("between", [])})


HOLDERS = {"loads": _of_load, "sources": _of_source}


def _change(
    request: HtmxRequest, job: Job, plan: int, of: str, key: int, change: _Change
) -> HttpResponse:
    """Change the use that a block belongs to: try it, or store it."""
    draft = draft_of(plan_of(job, plan))
    block = HOLDERS[of](draft, job, key)
    try:
        use = change(block.use)
    except DocumentError as error:
        return _refuse(error.message)
    tried = block.tried(use)
    if "quick" in request.POST:
        return _live(request, job, tried, quick=True)
    block.keep()
    announce_change(request, job)
    return changed(request, job, draft.plan, tried)


def _minutes(request: HtmxRequest) -> int:
    try:
        value = int(request.POST.get("by_min", ""))
    except ValueError:
        raise DocumentError("by_min", "say by how many minutes") from None
    if not -_FAR_MIN <= value <= _FAR_MIN:
        raise DocumentError("by_min", "that is farther than a plan reaches")
    return value


@require_POST
@of_job
def move_block(
    request: HtmxRequest, job: Job, plan: int, of: str, key: int, index: int
) -> HttpResponse:
    """Move a block, or its start or end, by minutes."""
    edge = request.POST.get("edge", "")

    def change(use: dict[str, Any]) -> dict[str, Any]:
        by_min = _minutes(request)
        if edge in ("begin", "end"):
            return stretched_block(use, index, by_min, edge == "end")
        return moved_block(use, index, by_min)

    return _change(request, job, plan, of, key, change)


@require_POST
@of_job
def copy_block(
    request: HtmxRequest, job: Job, plan: int, of: str, key: int, index: int
) -> HttpResponse:
    return _change(request, job, plan, of, key, lambda use: copied_block(use, index, 120))


@require_POST
@of_job
def remove_block(
    request: HtmxRequest, job: Job, plan: int, of: str, key: int, index: int
) -> HttpResponse:
    """Remove a block; a load without any is not in the plan."""
    draft = draft_of(plan_of(job, plan))
    block = HOLDERS[of](draft, job, key)
    try:
        use = without_block(block.use, index)
    except DocumentError as error:
        return _refuse(error.message)
    if use:
        block.tried(use)
    else:
        block.record.taken_in = False
    block.keep()
    announce_change(request, job)
    return changed(request, job, draft.plan)
