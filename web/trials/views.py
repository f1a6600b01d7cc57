"""Trials: start, check in, follow, finish, and use the results."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from needle.document import DocumentError
from needle.trial.prediction import as_document
from web.common.addresses import key_of, keys_of
from web.common.bodies import takes_up_to
from web.common.downloads import attachment, csv_attachment, json_attachment, svg_attachment
from web.common.folding import folded
from web.common.forms import client_key
from web.common.htmx import HtmxRequest
from web.drawing.score import drawing_of
from web.drawing.standalone import standalone
from web.jobs.access import of_job
from web.jobs.announcing import announce_change
from web.jobs.models import Job, Role
from web.jobs.outbox import moment_made
from web.plans.draft import supply_of
from web.plans.forms import floor_of
from web.plans.honesty import honesty_of
from web.plans.models import Plan
from web.plans.outcomes import LONG_WAIT_S, current_plan, still_working
from web.trials import actions
from web.trials.compare import MOST, compare
from web.trials.display import display_rows
from web.trials.forms import CheckInForm, EndForm, PastRunForm, TrialForm
from web.trials.models import CheckIn, Trial, owned
from web.trials.page import CheckInRow, upcoming, view_of
from web.trials.reminders import calendar_of
from web.trials.taught import taught_by
from web.trials.trial_summaries import score_of

DOWNLOADS = ("trial.json", "forecast.json", "check-ins.csv", "trial.svg", "reminders.ics")


def _trial(job: Job, pk: int) -> Trial:
    trials = job.trials.live().with_check_ins().select_related("supply", "plan")
    return owned(get_object_or_404(trials, pk=pk), job)


@require_GET
@of_job
def index(request: HtmxRequest, job: Job) -> HttpResponse:
    name = "trials/_list.html" if request.htmx else "trials/list.html"
    return render(request, name, {"job": job, **_listed(job, request)})


def _listed(job: Job, request: HtmxRequest) -> dict[str, Any]:
    """The job's trials, how good their forecasts were, and what follows for its plans."""
    trials = _trials(job)
    shown = folded(trials, request)
    views = [view_of(trial, whole=False) for trial in shown.rows]
    scored, waiting = score_of(trials)
    return {
        "views": views,
        "trials": shown,
        "honesty": honesty_of(job),
        "score": scored,
        "score_drawing": drawing_of(scored) if scored.trials else None,
        "waiting": waiting or sum(view.pending for view in views),
    }


def _trials(job: Job) -> list[Trial]:
    trials = job.trials.live().with_check_ins().select_related("supply", "plan")
    return [owned(trial, job) for trial in trials]


@require_POST
@of_job
def follow(request: HtmxRequest, job: Job) -> HttpResponse:
    """Let the job's ranges follow how its runs ended, or not."""
    actions.follow_runs(job, bool(request.POST.get("follow")))
    announce_change(request, job)
    return redirect("trials:index", job.pk)


@require_GET
@of_job
def side_by_side(request: HtmxRequest, job: Job) -> HttpResponse:
    """Comparison of two to four trials; the reference is named, or the first."""
    trials = _trials(job)
    wanted = keys_of(request.GET.getlist("item"))
    picked = [trial for trial in trials if trial.pk in wanted][:MOST]
    reference = key_of(request.GET.get("reference", ""))
    # The reference comes first; the others keep their order.
    picked.sort(key=lambda trial: trial.pk != reference)
    compared = compare(picked) if len(picked) > 1 else None
    context = {
        "job": job,
        "trials": trials,
        "picked": [trial.pk for trial in picked],
        "reference": picked[0].pk if picked else None,
        "compared": compared,
    }
    return render(request, "trials/compare.html", context)


def _new(job: Job, plan: Plan | None) -> Trial:
    """A new trial with its default values."""
    supply = supply_of(plan) if plan is not None else job.supplies.live().first()
    number = job.trials.count() + 1
    name = f"{plan.name} rehearsal" if plan and plan.pk else f"Trial {number}"
    floor = floor_of(Plan(supply=supply, floor=plan.floor if plan else None))
    return Trial(
        job=job,
        name=name,
        plan=plan if plan and plan.pk else None,
        supply=supply,
        start_charge=plan.start_charge if plan else 1.0,
        stop_at=floor or 0.0,
        room_c=plan.room_c if plan else None,
    )


def _named_plan(request: HtmxRequest, job: Job) -> Plan:
    """The plan in the query, or the current one."""
    plan = current_plan(job)
    if (wanted := key_of(request.GET.get("plan", ""))) is not None:
        plan = job.plans.live().filter(pk=wanted).first() or plan
    plan.job = job
    return plan


@require_http_methods(["GET", "POST"])
@of_job(see=Role.MEASURER, post=Role.MEASURER)
def start(request: HtmxRequest, job: Job) -> HttpResponse:
    """Start a trial, from a plan if one is given."""
    instance = _new(job, _named_plan(request, job))
    form = TrialForm(request.POST or None, instance=instance, job=job)
    if request.method == "POST" and form.is_valid():
        trial = form.instance
        trial.client_key = client_key(form)
        if "simulate" in request.POST:
            trial.simulated_seed = 1 + job.trials.count()
        trial = actions.start_trial(trial, form.ticked)
        announce_change(request, job)
        return redirect("trials:trial", job.pk, trial.pk)
    status = 422 if form.is_bound else 200
    return render(request, "trials/edit.html", {"job": job, "form": form}, status=status)


@takes_up_to(12_000_000)
@require_http_methods(["GET", "POST"])
@of_job(see=Role.MEASURER, post=Role.MEASURER)
def past(request: HtmxRequest, job: Job) -> HttpResponse:
    """Enter a finished run, from its log."""
    instance = _new(job, _named_plan(request, job))
    instance.name = f"Run {job.trials.count() + 1}"
    form = PastRunForm(request.POST or None, request.FILES or None, instance=instance, job=job)
    if request.method == "POST" and form.is_valid():
        trial = form.instance
        trial.client_key = client_key(form)
        cleaned = form.cleaned_data
        try:
            trial = actions.enter_run(trial, form.ticked, cleaned["check_ins"], cleaned["ended_h"])
        except DocumentError as error:
            form.add_core_error(error, {"check_ins": "log"})
        else:
            announce_change(request, job)
            return redirect("trials:trial", job.pk, trial.pk)
    status = 422 if form.is_bound else 200
    return render(request, "trials/past.html", {"job": job, "form": form}, status=status)


@require_http_methods(["GET", "POST"])
@of_job(see=Role.MEASURER, post=Role.MEASURER)
def edit(request: HtmxRequest, job: Job, trial: int) -> HttpResponse:
    record = _trial(job, trial)
    form = TrialForm(request.POST or None, instance=record, job=job)
    if request.method == "POST" and form.is_valid():
        actions.change_trial(form.instance)
        announce_change(request, job)
        return redirect("trials:trial", job.pk, trial)
    status = 422 if form.is_bound else 200
    return render(request, "trials/edit.html", {"job": job, "form": form}, status=status)


def _context(job: Job, trial: Trial, **forms: Any) -> dict[str, Any]:
    return {
        "job": job,
        "view": view_of(trial),
        "trial": trial,
        "form": CheckInForm(record=CheckIn(trial=trial)),
        "end": EndForm(trial=trial),
        **forms,
    }


@require_GET
@of_job
def page(request: HtmxRequest, job: Job, trial: int) -> HttpResponse:
    context = _context(job, _trial(job, trial))
    # While it is being worked out the body asks for itself again.
    name = "trials/_body.html" if request.htmx else "trials/trial.html"
    return render(request, name, context)


def _changed(request: HtmxRequest, job: Job, trial: Trial) -> HttpResponse:
    """Response after a stored change."""
    if request.htmx:
        return render(request, "trials/_changed.html", _context(job, _trial(job, trial.pk)))
    return redirect("trials:trial", job.pk, trial.pk)


@require_POST
@of_job(post=Role.MEASURER)
def check_in(request: HtmxRequest, job: Job, trial: int) -> HttpResponse:
    """Store a check-in; return the updated trial."""
    record = _trial(job, trial)
    made_at = moment_made(request)
    form = CheckInForm(request.POST, record=CheckIn(trial=record), made_at=made_at)
    if not form.is_valid():
        name = "trials/_changed.html" if request.htmx else "trials/trial.html"
        return render(request, name, _context(job, record, form=form), status=422)
    form.record.client_key = client_key(form)
    actions.check_in(form.record)
    announce_change(request, job)
    return _changed(request, job, record)


@require_http_methods(["GET", "POST"])
@of_job(see=Role.MEASURER, post=Role.MEASURER)
def edit_check_in(request: HtmxRequest, job: Job, trial: int, pk: int) -> HttpResponse:
    trial_record = _trial(job, trial)
    record = get_object_or_404(trial_record.check_ins.live(), pk=pk)
    record.trial = trial_record
    form = CheckInForm(request.POST or None, record=record)
    if request.method == "POST" and form.is_valid():
        actions.check_in(form.record)
        announce_change(request, job)
        return redirect("trials:trial", job.pk, trial)
    context = {"job": job, "trial": trial_record, "form": form, "record": record}
    return render(request, "trials/check_in.html", context, status=422 if form.is_bound else 200)


@require_POST
@of_job
def remove_check_in(request: HtmxRequest, job: Job, trial: int, pk: int) -> HttpResponse:
    trial_record = _trial(job, trial)
    record = get_object_or_404(trial_record.check_ins.live(), pk=pk)
    record.trial = trial_record
    actions.remove_check_in(record)
    announce_change(request, job)
    return _changed(request, job, trial_record)


@require_POST
@of_job(post=Role.MEASURER)
def end(request: HtmxRequest, job: Job, trial: int) -> HttpResponse:
    record = _trial(job, trial)
    form = EndForm(request.POST, trial=record)
    if not form.is_valid():
        return render(request, "trials/trial.html", _context(job, record, end=form), status=422)
    actions.end_trial(record, form.cleaned_data["ended_at"], form.cleaned_data["why"], form.seen)
    announce_change(request, job)
    return _changed(request, job, record)


@require_POST
@of_job(post=Role.MEASURER)
def resume(request: HtmxRequest, job: Job, trial: int) -> HttpResponse:
    record = _trial(job, trial)
    actions.resume_trial(record)
    announce_change(request, job)
    return _changed(request, job, record)


@require_POST
@of_job(post=Role.MEASURER)
def simulate(request: HtmxRequest, job: Job, trial: int) -> HttpResponse:
    """Continue the simulated supply: one check-in, or to the end."""
    record = _trial(job, trial)
    if record.simulated_seed is None or not record.running:
        raise Http404
    actions.simulate_on(record, "to_the_end" in request.POST)
    announce_change(request, job)
    return _changed(request, job, record)


@require_GET
@of_job
def taught(request: HtmxRequest, job: Job, trial: int) -> HttpResponse:
    """What a finished trial taught."""
    record = _trial(job, trial)
    if record.running:
        return redirect("trials:trial", job.pk, trial)
    context = {"job": job, "trial": record, "taught": taught_by(record, asked=request.GET)}
    return render(request, f"trials/{'_taught' if request.htmx else 'taught'}.html", context)


@require_POST
@of_job
def carry(request: HtmxRequest, job: Job, trial: int) -> HttpResponse:
    """Store the trial's result with its supply, its load and its panels."""
    record = _trial(job, trial)
    found = taught_by(record, LONG_WAIT_S) if not record.running else None
    if found is None or not found.can_carry:
        raise Http404
    actions.carry_over(record, found.carry, found.learnt, found.sun)
    announce_change(request, job)
    return redirect("trials:taught", job.pk, trial)


@require_GET
@of_job
def display(request: HtmxRequest, job: Job, supply: int) -> HttpResponse:
    """What a supply's display means by its finished runs, as a part of the supply's page."""
    record = get_object_or_404(job.supplies.live(), pk=supply)
    return render(request, "trials/_display.html", {"rows": display_rows(record)})


@require_POST
@of_job
def remove(request: HtmxRequest, job: Job, trial: int) -> HttpResponse:
    actions.remove_trial(_trial(job, trial))
    announce_change(request, job)
    return redirect("trials:index", job.pk)


@require_GET
@of_job
def download(request: HtmxRequest, job: Job, trial: int, filename: str) -> HttpResponse:
    """The trial's document, its forecast, check-ins as CSV, drawing, reminders."""
    record = _trial(job, trial)
    view = view_of(record, LONG_WAIT_S)
    if view.pending:
        return still_working()
    needs_forecast = filename not in ("trial.json", "check-ins.csv")
    if filename not in DOWNLOADS or (needs_forecast and view.prediction is None):
        raise Http404
    if filename == "trial.json":
        return json_attachment(record.to_document(), filename)
    if filename == "check-ins.csv":
        return csv_attachment(_check_in_table(view.rows), filename)
    if filename == "trial.svg":
        return svg_attachment(standalone(view.drawing or ""), filename)
    assert view.prediction is not None
    if filename == "forecast.json":
        return json_attachment(as_document(view.prediction), filename)
    url = request.build_absolute_uri(reverse("trials:trial", args=[job.pk, trial]))
    moments = upcoming(record, view.prediction)
    return attachment(calendar_of(record, moments, url), "text/calendar", filename)


def _check_in_table(rows: Sequence[CheckInRow]) -> Iterator[list[Any]]:
    yield ["h", "time", "charge", "drawn", "counted", "display_says", "note"]
    for row in rows:
        at = timezone.localtime(row.record.at).isoformat(timespec="minutes")
        yield [f"{row.h:.3f}", at, row.charge, row.drawn, row.counted, row.promised, row.note]
