"""The watch: begin, switch, look, ask, and end; and the card for the wall."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta

from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils import timezone
from django.utils.dateparse import parse_datetime
from django.views.decorators.http import require_GET, require_http_methods, require_POST
from django_htmx.http import HttpResponseClientRedirect

from needle.document import DocumentError
from web.background.questions import AnswerPending
from web.common.addresses import key_of, number_of
from web.common.downloads import svg_attachment
from web.common.htmx import HtmxRequest, refused
from web.drawing.standalone import standalone
from web.jobs.access import of_job
from web.jobs.announcing import announce_change
from web.jobs.models import Job, Role
from web.jobs.outbox import moment_made, once
from web.plans.outcomes import LONG_WAIT_S, current_plan, still_working
from web.trials.models import Trial
from web.trials.page import view_of
from web.watch import actions
from web.watch.actions import running_rehearsal, running_watch
from web.watch.card_page import card_page, picture_of
from web.watch.forms import BackForm, ChangeForm, LookForm
from web.watch.page import job_has_plan, may_of, may_row, page_of
from web.watch.rehearsals import empty_h, judgement_of, shown_now

#: Farthest that a charger is planned ahead.
LONGEST_AHEAD = timedelta(days=4)


def _running(job: Job) -> Trial:
    """The job's watch that is under way, else its rehearsal; 404 without either."""
    trial = running_watch(job) or running_rehearsal(job)
    if trial is None:
        raise Http404
    return trial


def _meant(request: HtmxRequest, job: Job) -> Trial:
    """The watch in which an entry was made, whether it still runs or not; else the one running."""
    pk = key_of(request.POST.get("trial", ""))
    trial = None if pk is None else actions.watch_of(job, pk)
    if pk is not None and trial is None:
        raise Http404
    return trial or _running(job)


def _shown(
    request: HtmxRequest, job: Job, trial: Trial, look: LookForm | None = None, status: int = 200
) -> HttpResponse:
    context = {
        "job": job,
        "trial": trial,
        "watch": page_of(trial),
        "look": look or LookForm(trial=trial),
        "back": BackForm(trial=trial),
    }
    name = "watch/_now.html" if request.htmx else "watch/watch.html"
    return render(request, name, context, status=status)


def _changed(request: HtmxRequest, job: Job) -> HttpResponse:
    """Response after a stored change."""
    announce_change(request, job)
    trial = running_watch(job) or running_rehearsal(job)
    if request.htmx:
        return _shown(request, job, trial) if trial else HttpResponse(status=204)
    return redirect("watch:watch", job.pk)


def _change(
    request: HtmxRequest, job: Job, change: Callable[[Trial, datetime], None]
) -> HttpResponse:
    """Apply a posted entry once, at the moment it was made, to the watch it was made in.

    ``change`` gets the watch and that moment, by the clock of the watch.
    """
    trial = _meant(request, job)
    made_at = trial.now(moment_made(request))
    page = reverse("watch:watch", args=[job.pk])
    if trial.ended_at is not None and made_at > trial.ended_at:
        return refused(request, f"{trial.name} had ended by then. Nothing was changed.", page)
    try:
        with once(request, job) as is_first:
            if is_first:
                change(trial, made_at)
    except LookupError:
        raise Http404 from None
    except DocumentError as error:
        return refused(request, error.sentence, page)
    return _changed(request, job)


@require_GET
@of_job
def page(request: HtmxRequest, job: Job) -> HttpResponse:
    """The watch as it stands, or how to begin one."""
    trial = running_watch(job) or running_rehearsal(job)
    if trial is None:
        context = {"job": job, "plan": current_plan(job), "can": job_has_plan(job)}
        return render(request, "watch/begin.html", context)
    return _shown(request, job, trial)


@require_POST
@of_job(post=Role.MEASURER)
def begin(request: HtmxRequest, job: Job) -> HttpResponse:
    """The power is out."""
    if not job_has_plan(job):
        return redirect("watch:watch", job.pk)
    with once(request, job) as is_first:
        if is_first:
            actions.begin_watch(job, moment_made(request))
    announce_change(request, job)
    url = reverse("watch:watch", args=[job.pk])
    return HttpResponseClientRedirect(url) if request.htmx else redirect(url)


@require_POST
@of_job(post=Role.MEASURER)
def rehearse(request: HtmxRequest, job: Job) -> HttpResponse:
    """Begin a rehearsal; a watch that runs goes on."""
    if job_has_plan(job) and running_watch(job) is None:
        actions.begin_rehearsal(job)
        announce_change(request, job)
    return redirect("watch:watch", job.pk)


@require_GET
@of_job
def rehearsed(request: HtmxRequest, job: Job, trial: int) -> HttpResponse:
    """How a rehearsal went, beside other rules."""
    record = get_object_or_404(job.trials.live().with_check_ins(), pk=trial)
    record.job = job
    if not record.is_rehearsal or record.running or not record.load_names:
        raise Http404
    try:
        judgement = judgement_of(record, LONG_WAIT_S)
    except AnswerPending:
        return still_working()
    context = {"job": job, "trial": record, "judgement": judgement}
    return render(request, "watch/rehearsed.html", context)


@require_http_methods(["GET", "POST"])
@of_job(see=Role.MEASURER, post=Role.MEASURER)
def change(request: HtmxRequest, job: Job) -> HttpResponse:
    """Since when it is out, with what charge, and until when it is needed."""
    trial = _running(job)
    form = ChangeForm(request.POST or None, trial=trial)
    if request.method == "POST" and form.is_valid():
        cleaned = form.cleaned_data
        try:
            actions.change_watch(trial, cleaned["since"], cleaned["charge"], cleaned["until"])
        except DocumentError as error:
            form.add_error(None, error.sentence)
        else:
            return _changed(request, job)
    status = 422 if form.is_bound else 200
    context = {"job": job, "trial": trial, "form": form}
    return render(request, "watch/change.html", context, status=status)


@require_POST
@of_job(post=Role.MEASURER)
def again(request: HtmxRequest, job: Job) -> HttpResponse:
    """Work the watch out from its plan again."""
    return _change(request, job, lambda trial, made_at: actions.take_plan_in(trial))


@require_POST
@of_job(post=Role.MEASURER)
def switch(request: HtmxRequest, job: Job) -> HttpResponse:
    """A load is on, or off, from the moment of the entry on."""
    name, on = request.POST.get("load", ""), bool(request.POST.get("on"))
    return _change(request, job, lambda trial, made_at: actions.switch(trial, name, on, made_at))


@require_POST
@of_job(post=Role.MEASURER)
def charge(request: HtmxRequest, job: Job) -> HttpResponse:
    """A charger of the plan runs for two hours, from the moment that is posted."""
    begin, source = _moment(request.POST.get("at", "")), request.POST.get("source", "")

    def run_charger(trial: Trial, made_at: datetime) -> None:
        at = begin or made_at
        if not at.tzinfo or abs(at - made_at) > LONGEST_AHEAD:
            raise LookupError(source)
        actions.run_charger(trial, source, timezone.localtime(max(at, made_at)))

    return _change(request, job, run_charger)


def _moment(text: str) -> datetime | None:
    """A moment that was posted; None if it is none, such as the 31st of June."""
    try:
        return parse_datetime(text)
    except ValueError:
        return None


#: What may be said of a next step.
STEP_WORDS = ("done", *actions.PUT_OFF)


@require_POST
@of_job(post=Role.MEASURER)
def step(request: HtmxRequest, job: Job) -> HttpResponse:
    """One of the next steps was done, is later, is not possible, or has happened by itself."""
    posted = request.POST
    code, name = posted.get("code", ""), posted.get("name", "")
    at, what = _moment(posted.get("at", "")), posted.get("what")
    if at is None or not at.tzinfo or what not in STEP_WORDS:
        raise Http404

    def act(trial: Trial, made_at: datetime) -> None:
        if what == "done":
            actions.do(trial, code, name, at)
        else:
            later = actions.later_by(what, code, at, made_at)
            actions.put_off_doing(trial, code, name, at, later)

    return _change(request, job, act)


@require_POST
@of_job(post=Role.MEASURER)
def look(request: HtmxRequest, job: Job) -> HttpResponse:
    """What the display shows, or showed at the moment of the entry."""
    trial = _meant(request, job)
    if trial.is_rehearsal:
        return _change(request, job, _look_at_simulated)
    form = LookForm(request.POST, trial=trial)
    if not form.is_valid():
        return _shown(request, job, trial, form, status=422)
    shown = form.cleaned_data["shown"]
    return _change(request, job, lambda trial, made_at: actions.look(trial, shown, made_at))


def _look_at_simulated(trial: Trial, made_at: datetime) -> None:
    percent = round(100 * shown_now(trial, trial.hours_to(made_at)))
    actions.look(trial, {"percent": percent}, made_at)


@require_GET
@of_job
def may(request: HtmxRequest, job: Job) -> HttpResponse:
    """Whether a load may be switched on now."""
    trial = _running(job)
    name = request.GET.get("load", "")
    if name not in trial.load_names:
        raise Http404
    try:
        hour = number_of(request.GET.get("h", ""))
        row = may_row(trial, may_of(trial, name, LONG_WAIT_S, hour))
    except AnswerPending:
        return still_working()
    on = name in trial.on_now()
    context = {"job": job, "may": row, "is_on": on}
    return render(request, f"watch/{'_may' if request.htmx else 'may'}.html", context)


@require_GET
@of_job
def chart(request: HtmxRequest, job: Job) -> HttpResponse:
    """The charge until now and from now on, drawn; a part of the page where it is wide."""
    view = view_of(_running(job), LONG_WAIT_S)
    return still_working() if view.pending else HttpResponse(view.drawing or "")


@require_POST
@of_job(post=Role.MEASURER)
def back(request: HtmxRequest, job: Job) -> HttpResponse:
    """The power is back: the watch ends, and says what it taught."""
    trial = _running(job)
    if trial.is_rehearsal:
        actions.end_rehearsal(trial, empty_h(trial))
        announce_change(request, job)
        return redirect("watch:rehearsed", job.pk, trial.pk)
    form = BackForm(request.POST, trial=trial)
    if not form.is_valid():
        context = {
            "job": job,
            "trial": trial,
            "watch": page_of(trial),
            "look": LookForm(trial=trial),
        }
        return render(request, "watch/watch.html", {**context, "back": form}, status=422)
    cleaned = form.cleaned_data
    actions.power_is_back(trial, cleaned["last_shown"], cleaned.get("charged_wh"))
    announce_change(request, job)
    return redirect("trials:taught", job.pk, trial.pk)


@require_GET
@of_job
def card(request: HtmxRequest, job: Job) -> HttpResponse:
    """The card for the wall, made from the current plan."""
    context = {"job": job, "card": card_page(job), "by_link": False}
    return render(request, f"watch/{'_card' if request.htmx else 'card'}.html", context)


@require_GET
@of_job
def card_svg(request: HtmxRequest, job: Job) -> HttpResponse:
    """The card as a picture for a phone."""
    page = card_page(job, LONG_WAIT_S)
    if page.pending:
        return still_working()
    if page.card is None:
        raise Http404
    return svg_attachment(standalone(picture_of(job, page)), "wall-card.svg")
