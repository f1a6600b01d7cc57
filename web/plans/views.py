"""Day plans: one page each, updated in place."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from needle.document import DocumentError
from needle.plan.advice.shift import propose
from needle.plan.sources.registry import KINDS
from web.background.questions import AnswerPending
from web.common.addresses import keys_of
from web.common.downloads import csv_attachment, json_attachment, svg_attachment
from web.common.forms import client_key
from web.common.htmx import HtmxRequest, screen_of
from web.drawing.standalone import standalone
from web.drawing.timeline import HALF, NARROW, paper_for
from web.jobs.access import acting, of_job
from web.jobs.actions import latest_change
from web.jobs.announcing import announce_change
from web.jobs.models import Change, Job, Role
from web.loads.models import Load
from web.plans import actions
from web.plans.alone import alone_rows
from web.plans.charts import ViewAsked, asked_of
from web.plans.compare import choices_of, compared
from web.plans.draft import Draft, document, draft_of
from web.plans.forms import (
    EntryDetailsForm,
    EntryForm,
    PlanForm,
    WhatIfForm,
)
from web.plans.measurement_tips import measurement_tips
from web.plans.models import Plan, PlanEntry, PlanSource
from web.plans.outcomes import (
    LONG_WAIT_S,
    Answer,
    answer_draft,
    answer_of,
    current_plan,
    still_working,
    told,
)
from web.plans.page import MANY_ROWS, PlanPage, csv_rows, form_of, rows_of, view_of
from web.plans.rests import rests_of
from web.plans.sizes import sizes_of
from web.plans.source_forms import SOURCE_FORMS, SourceForm
from web.supplies.models import supplies_of

#: Keys of the page, for its sheet of keys.
PAGE_KEYS = (
    ("← →", "move the chosen block by 15 min, with Shift by 1 h"),
    ("↑ ↓", "make it longer or shorter"),
    ("Delete", "take it out"),
    ("[ ]", "show fewer or more hours"),
    (", .", "show earlier or later hours"),
)
STILL = "The plan is still being calculated: try again in a moment."
DOWNLOADS = ("plan.json", "answer.json", "curve.csv", "curve.svg", "lanes.svg")


def plan_of(job: Job, pk: int) -> Plan:
    """A plan of the job; 0 is the default plan before any is stored."""
    if pk == 0:
        return current_plan(job)
    record: Plan = get_object_or_404(job.plans.live().select_related("supply"), pk=pk)
    record.job = job
    return record


def shown_context(request: HtmxRequest, job: Job, answer: Answer) -> dict[str, Any]:
    """Context of the page and its fragments, which the answer bar uses too."""
    job.cache.answer = answer
    return {
        "job": job,
        "plan": answer.plan,
        "plan_id": answer.plan.pk or 0,
        "answer": answer,
        "outcome": answer.outcome,
        "view": view_of(answer, _asked(request)),
    }


def _asked(request: HtmxRequest) -> ViewAsked:
    """The requested view, from the request and a cookie with the screen's width."""
    wanted = request.POST if request.method == "POST" else request.GET
    return asked_of(wanted, paper_for(screen_of(request)))


def page_context(
    request: HtmxRequest,
    job: Job,
    answer: Answer,
    refused: Mapping[int, EntryForm] | None = None,
) -> dict[str, Any]:
    """Context of an answered plan's page; ``refused`` are forms with errors, by load."""
    job.cache.answer = answer
    asked, access = _asked(request), acting()
    changes = access is not None and access.owns
    with_forms = changes and asked.part == "loads" and len(answer.used) <= MANY_ROWS
    page = PlanPage(
        job=job,
        answer=answer,
        view=view_of(answer, asked),
        rows=rows_of(answer, refused or {}, with_forms),
        plans=list(job.plans.live()),
        measurement_tips=measurement_tips(answer)[:4],
        what_if=WhatIfForm(draft=answer.draft),
        latest=_undoable(job),
        part=asked.part,
        is_folded=asked.paper.is_narrow,
        shows_all=(request.POST if request.method == "POST" else request.GET).get("all") == "1",
    )
    return {"job": job, "page": page, "page_keys": PAGE_KEYS}


def _undoable(job: Job) -> Change | None:
    """The job's latest change, if the reader may take it back."""
    latest, access = latest_change(job), acting()
    may = latest is not None and access is not None and access.may_undo(latest)
    return latest if may else None


def changed(request: HtmxRequest, job: Job, plan: Plan, draft: Draft | None = None) -> HttpResponse:
    """Response after a stored change: the page, or a fragment for htmx and scripts.

    ``draft`` is the plan as it was just stored, if that is at hand.
    """
    if not request.htmx:
        return redirect("plans:plan", job.pk, plan.pk)
    answer = answer_of(plan_of(job, plan.pk)) if draft is None else answer_draft(draft)
    return render(request, "plans/_changed.html", page_context(request, job, answer))


@require_GET
@of_job
def current(request: HtmxRequest, job: Job) -> HttpResponse:
    """The job's current plan."""
    return _page(request, job, current_plan(job))


@require_GET
@of_job
def plan_page(request: HtmxRequest, job: Job, plan: int) -> HttpResponse:
    return _page(request, job, plan_of(job, plan))


def _page(request: HtmxRequest, job: Job, plan: Plan) -> HttpResponse:
    name = "plans/_changed.html" if request.htmx else "plans/plan.html"
    return render(request, name, page_context(request, job, answer_of(plan)))


@require_http_methods(["GET", "POST"])
@of_job(see=Role.OWNER)
def add(request: HtmxRequest, job: Job) -> HttpResponse:
    return _edit(request, job, Plan(job=job, name=""))


@require_http_methods(["GET", "POST"])
@of_job(see=Role.OWNER)
def edit(request: HtmxRequest, job: Job, plan: int) -> HttpResponse:
    return _edit(request, job, plan_of(job, plan))


def _edit(request: HtmxRequest, job: Job, plan: Plan) -> HttpResponse:
    form = PlanForm(request.POST or None, instance=plan, job=job)
    if request.method == "POST" and form.is_valid():
        if form.instance.pk is None:
            form.instance.client_key = client_key(form)
        stored = actions.save_plan(form.instance)
        announce_change(request, job)
        return redirect("plans:plan", job.pk, stored.pk)
    status = 422 if form.is_bound else 200
    context = {"job": job, "form": form, "plan_id": plan.pk or 0}
    return render(request, "plans/edit.html", context, status=status)


def _entry(draft: Draft, load: Load) -> PlanEntry:
    entry = draft.entries.get(load.pk) or PlanEntry(load=load)
    entry.plan, entry.load = draft.plan, load
    return entry


@require_GET
@of_job
def lanes_of_plan(request: HtmxRequest, job: Job, plan: int) -> HttpResponse:
    """The lanes of a plan with many loads, once somebody opens them."""
    context = shown_context(request, job, answer_of(plan_of(job, plan), LONG_WAIT_S))
    if context["view"] is None:
        raise Http404
    movable = any(used.entry.flexible and used.steps for used in context["answer"].used)
    more = {"movable": movable, "proposing": False, "moves": None, "refused": ""}
    return render(request, "plans/_lanes.html", {**context, **more})


@require_POST
@of_job
def use_load(request: HtmxRequest, job: Job, plan: int, load: int) -> HttpResponse:
    """Change how a load is used; return the updated plan."""
    record = plan_of(job, plan)
    target = get_object_or_404(job.loads.live(), pk=load)
    entry = _entry(draft_of(record), target)
    form = EntryForm(request.POST, instance=entry, prefix=f"load{load}")
    if form.is_valid():
        if entry.pk is None:
            entry.client_key = client_key(form)
        actions.use_load(form.instance)
        announce_change(request, job)
        return changed(request, job, form.instance.plan)
    context = page_context(request, job, answer_of(plan_of(job, plan)), {load: form})
    name = "plans/_changed.html" if request.htmx else "plans/plan.html"
    return render(request, name, context, status=422)


@require_GET
@of_job(see=Role.OWNER)
def row(request: HtmxRequest, job: Job, plan: int, load: int) -> HttpResponse:
    """One load of a plan with the form of its use, in place of its text."""
    answer = answer_of(plan_of(job, plan))
    forms = {used.load.pk: form_of(used) for used in answer.used if used.load.pk == load}
    found = [row for row in rows_of(answer, forms, with_forms=False) if row.form is not None]
    if not found:
        raise Http404
    context = {"job": job, "plan_id": plan, "row": found[0]}
    return render(request, "plans/_use.html", context)


@require_http_methods(["GET", "POST"])
@of_job(see=Role.OWNER)
def entry(request: HtmxRequest, job: Job, plan: int, load: int) -> HttpResponse:
    """All details of one load in a plan."""
    draft = draft_of(plan_of(job, plan))
    get_object_or_404(job.loads.live(), pk=load)
    used = next(used_load for used_load in draft.used if used_load.load.pk == load)
    form = EntryDetailsForm(
        request.POST or None, instance=_entry(draft, used.load), used=used, draft=draft
    )
    if request.method == "POST" and form.is_valid():
        if form.instance.pk is None:
            form.instance.client_key = client_key(form)
        actions.use_load(form.instance)
        announce_change(request, job)
        return redirect("plans:plan", job.pk, form.instance.plan.pk)
    context = {"job": job, "plan": draft.plan, "plan_id": plan, "used": used, "form": form}
    return render(request, "plans/entry.html", context, status=422 if form.is_bound else 200)


@require_http_methods(["GET", "POST"])
@of_job(see=Role.OWNER)
def add_source(request: HtmxRequest, job: Job, plan: int, kind: str) -> HttpResponse:
    if kind not in SOURCE_FORMS:
        raise Http404
    draft = draft_of(plan_of(job, plan))
    return _source(request, job, draft, PlanSource(plan=draft.plan, kind=kind))


@require_http_methods(["GET", "POST"])
@of_job(see=Role.OWNER)
def source(request: HtmxRequest, job: Job, plan: int, source: int) -> HttpResponse:
    draft = draft_of(plan_of(job, plan))
    return _source(request, job, draft, source_of(draft, source))


def source_of(draft: Draft, pk: int) -> PlanSource:
    """A source of the plan, whose plan is the draft's own object."""
    source = next((source for source in draft.sources if source.pk == pk), None)
    if source is None:
        raise Http404
    source.plan = draft.plan
    return source


def _source(request: HtmxRequest, job: Job, draft: Draft, source: PlanSource) -> HttpResponse:
    form: SourceForm = SOURCE_FORMS[source.kind](request.POST or None, source=source, draft=draft)
    if request.method == "POST" and form.is_valid():
        if source.pk is None:
            source.client_key = client_key(form)
        actions.save_source(source)
        announce_change(request, job)
        return redirect("plans:plan", job.pk, source.plan.pk)
    context = {
        "job": job,
        "plan": draft.plan,
        "plan_id": draft.plan.pk or 0,
        "source": source,
        "form": form,
        "about": KINDS[source.kind].ABOUT,
    }
    return render(request, "plans/source.html", context, status=422 if form.is_bound else 200)


@require_POST
@of_job
def remove_source(request: HtmxRequest, job: Job, plan: int, source: int) -> HttpResponse:
    record = plan_of(job, plan)
    actions.remove_source(source_of(draft_of(record), source))
    announce_change(request, job)
    return redirect("plans:plan", job.pk, record.pk)


@require_GET
@of_job
def proposal(request: HtmxRequest, job: Job, plan: int) -> HttpResponse:
    """Proposed times of movable tasks, shown as ghosts in the lanes."""
    answer = answer_of(plan_of(job, plan), LONG_WAIT_S)
    context = {**shown_context(request, job, answer), "moves": [], "refused": ""}
    if answer.outcome is not None:
        try:
            context["moves"] = propose(answer.outcome.plan)
        except DocumentError as error:
            context["refused"] = error.sentence
        context["view"] = view_of(answer, _asked(request), context["moves"])
    return render(request, "plans/_lanes.html", {**context, "proposing": True})


@require_POST
@of_job
def place(request: HtmxRequest, job: Job, plan: int) -> HttpResponse:
    """Accept a proposal, which is recomputed to fit the present plan."""
    answer = answer_of(plan_of(job, plan), LONG_WAIT_S)
    if answer.pending:
        messages.info(request, STILL)
    try:
        if answer.outcome is not None and (moves := propose(answer.outcome.plan)):
            actions.place_tasks(answer.draft, moves)
            announce_change(request, job)
    except DocumentError as error:
        messages.error(request, f"Nothing was moved: {error.message}.")
    return changed(request, job, answer.plan)


@require_POST
@of_job
def apply_help(request: HtmxRequest, job: Job, plan: int) -> HttpResponse:
    """Store the change of a suggestion."""
    answer = answer_of(plan_of(job, plan), LONG_WAIT_S)
    if answer.pending:
        messages.info(request, STILL)
    wanted = tuple(request.POST.get(name, "") for name in ("kind", "load", "to"))
    for suggestion in answer.suggestions:
        change = suggestion.change
        if (change.kind, change.load, change.to) == wanted and answer.outcome is not None:
            try:
                actions.apply_help(answer.draft, change, answer.outcome.plan)
                announce_change(request, job)
            except DocumentError as error:
                messages.error(request, f"Nothing was changed: {error.message}.")
            break
    else:
        if not answer.pending:
            messages.info(request, "The plan has changed since: this is not among what helps now.")
    return changed(request, job, answer.plan)


@require_GET
@of_job
def sizes(request: HtmxRequest, job: Job, plan: int) -> HttpResponse:
    """Sizes, fetched after the page since they need many simulations."""
    answer = answer_of(plan_of(job, plan))
    context = {"job": job, "plan": answer.plan, "plan_id": plan, "sizes": None, "pending": False}
    try:
        context["sizes"] = sizes_of(answer)
        context["pending"] = answer.pending
    except AnswerPending:
        context["pending"] = True
    except DocumentError as error:
        return HttpResponse(f"Sizes cannot be calculated: {error.message}.", status=200)
    return render(request, "plans/_sizes.html", context)


@require_GET
@of_job
def rests(request: HtmxRequest, job: Job, plan: int) -> HttpResponse:
    """What a plan's answer uses and what is unused."""
    return render(request, "common/_rests.html", {"rests": rests_of(draft_of(plan_of(job, plan)))})


@require_GET
@of_job
def alone(request: HtmxRequest, job: Job) -> HttpResponse:
    """Each load alone on a supply, on each possible route; ``supply`` selects it."""
    draft = draft_of(current_plan(job))
    supplies = supplies_of(job)
    wanted = next(iter(keys_of(request.GET.getlist("supply"))), None)
    supply = next((record for record in supplies if record.pk == wanted), draft.supply)
    context: dict[str, Any] = {
        "job": job,
        "supplies": supplies,
        "supply": supply,
        "rows": [],
        "pending": False,
        "problem": "",
        "rests": None,
    }
    if supply is not None:
        try:
            context["rows"] = alone_rows(draft.on(supply))
            context["rests"] = rests_of(draft.on(supply))
        except AnswerPending:
            context["pending"] = True
        except DocumentError as error:
            context["problem"] = f"It cannot be calculated: {error.message}."
    name = "plans/_alone.html" if request.htmx else "plans/alone.html"
    return render(request, name, context)


@require_GET
@of_job
def compare(request: HtmxRequest, job: Job, plan: int) -> HttpResponse:
    """This plan compared with another, or with itself on another supply."""
    record = plan_of(job, plan)
    choices = choices_of(job, record)
    pick = request.GET.get("with", "")
    other = choices.get(pick) or next(iter(choices.values()), None)
    drafts = [draft_of(record)] + ([other.draft()] if other else [])
    answers = [answer_draft(draft) for draft in drafts]
    context = {
        "job": job,
        "plan": record,
        "plan_id": record.pk or 0,
        "choices": choices,
        "pick": other.key if other else "",
        "sides": compared(answers, NARROW if screen_of(request) == "narrow" else HALF),
        "pending": any(record.pending for record in answers),
    }
    return render(request, "plans/compare.html", context)


@require_POST
@of_job
def make_current(request: HtmxRequest, job: Job, plan: int) -> HttpResponse:
    actions.make_current(plan_of(job, plan))
    return redirect("plans:plan", job.pk, plan)


@require_POST
@of_job
def copy(request: HtmxRequest, job: Job, plan: int) -> HttpResponse:
    """A copy of the plan with its entries and sources."""
    stored = actions.copy_plan(draft_of(plan_of(job, plan)))
    announce_change(request, job)
    return redirect("plans:plan", job.pk, stored.pk)


@require_POST
@of_job
def remove(request: HtmxRequest, job: Job, plan: int) -> HttpResponse:
    actions.remove_plan(plan_of(job, plan))
    announce_change(request, job)
    return redirect("plans:current", job.pk)


@require_GET
@of_job
def download(request: HtmxRequest, job: Job, plan: int, filename: str) -> HttpResponse:
    """The plan's document, its answer as JSON, or its curve as CSV or SVG."""
    answer = answer_of(plan_of(job, plan), LONG_WAIT_S)
    if answer.pending:
        return still_working()
    view = view_of(answer, asked_of(request.GET))
    if answer.outcome is None or view is None or filename not in DOWNLOADS:
        raise Http404
    if filename == "plan.json":
        # With the simulated horizon, so that it gives the same answer headless.
        hours = {"hours": answer.outcome.plan.hours}
        return json_attachment({**document(answer.draft), **hours}, filename)
    if filename == "answer.json":
        return json_attachment(told(answer), filename)
    if filename.endswith(".svg"):
        drawing = view.charts if filename == "curve.svg" else view.lanes
        return svg_attachment(standalone(drawing), filename)
    return csv_attachment(csv_rows(answer.outcome), filename)
