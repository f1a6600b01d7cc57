"""Bench: live sessions, imports, and each capture's page."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_GET, require_http_methods, require_POST
from django_htmx.http import HttpResponseClientRedirect

from needle.document import DocumentError
from needle.measure.capture import as_csv
from needle.measure.instruments import INSTRUMENTS, clamp_cancelled
from web.bench import actions, loggers
from web.bench.forms import (
    CaptureForm,
    LevelsForm,
    LoggerForm,
    MeterReadingForm,
    SessionForm,
    UploadForm,
)
from web.bench.live import look
from web.bench.models import SPEEDS, Capture, Logger, Session
from web.bench.page import logger_row, page_of, series_json
from web.bench.phone import phone_code
from web.common.addresses import keys_of
from web.common.bodies import MOST_BYTES, PHOTO_BYTES, takes_up_to
from web.common.downloads import CSV_TYPE, attachment, svg_attachment
from web.common.forms import client_key
from web.common.htmx import HtmxRequest
from web.drawing.standalone import standalone
from web.jobs.access import of_job
from web.jobs.announcing import announce_change
from web.jobs.models import Job, Role
from web.jobs.outbox import moment_made
from web.loads.actions import add_reading
from web.loads.models import Load, Reading
from web.loads.words import row_of


@require_http_methods(["GET", "POST"])
@of_job(post=Role.MEASURER)
def index(request: HtmxRequest, job: Job) -> HttpResponse:
    """Real meter, simulated sessions and captures; a POST starts a simulated session.

    ``load`` is the load on the meter.
    """
    form = SessionForm(request.POST or None, instance=Session())
    form.fields["load"].queryset = job.loads.live()  # type: ignore[attr-defined]
    if request.method == "POST" and form.is_valid():
        form.instance.client_key = client_key(form)
        session = actions.start_session(form.instance)
        return redirect("bench:session", job.pk, session.pk)
    loads = list(job.loads.live().with_readings())
    wanted = next(iter(keys_of(request.GET.getlist("load"))), None)
    load = next((other for other in loads if other.pk == wanted), loads[0] if loads else None)
    meter = MeterReadingForm(load=load) if load else None
    return _index(request, job, loads, form, meter)


def _index(
    request: HtmxRequest,
    job: Job,
    loads: list[Load],
    form: SessionForm,
    meter: MeterReadingForm | None,
) -> HttpResponse:
    context = {
        "job": job,
        "form": form,
        "meter": meter,
        "sessions": Session.objects.live().filter(load__job=job, stopped=False),
        "captures": Capture.objects.live()
        .filter(load__job=job, load__removed_at=None)
        .exclude(reading__removed_at__isnull=False)
        .select_related("load")
        .defer("raw", "packed"),
        "loads": loads,
        "instruments": INSTRUMENTS.values(),
        "phone": phone_code(request),
    }
    refused = form.is_bound or (meter is not None and meter.is_bound)
    return render(request, "bench/bench.html", context, status=422 if refused else 200)


def _metered(request: HtmxRequest, job: Job, pk: int) -> tuple[Load, MeterReadingForm]:
    load = get_object_or_404(job.loads.live().with_readings(), pk=pk)
    load.job = job
    return load, MeterReadingForm(request.POST, request.FILES or None, load=load)


@takes_up_to(PHOTO_BYTES)
@require_POST
@of_job(post=Role.MEASURER)
def keep_meter(request: HtmxRequest, job: Job, load: int) -> HttpResponse:
    """Store the figures of a real meter."""
    target, meter = _metered(request, job, load)
    if not meter.is_valid():
        form = SessionForm(instance=Session())
        form.fields["load"].queryset = job.loads.live()  # type: ignore[attr-defined]
        return _index(request, job, list(job.loads.live()), form, meter)
    add_reading(target, "spot", **meter.as_reading(moment_made(request)))
    announce_change(request, job)
    return redirect(f"{reverse('bench:index', args=[job.pk])}?load={load}")


@require_POST
@of_job(post=Role.MEASURER)
def check_meter(request: HtmxRequest, job: Job, load: int) -> HttpResponse:
    """Check the figures against one another before they are stored."""
    target, meter = _metered(request, job, load)
    row = None
    if meter.is_valid():
        unsaved = Reading(load=target, type="spot", data=meter.data_to_store)
        row = row_of(unsaved, meters=job.meters())
    return render(request, "bench/_check.html", {"row": row})


def _session(job: Job, pk: int) -> Session:
    record: Session = get_object_or_404(
        Session.objects.live().select_related("load"), pk=pk, load__job=job, load__removed_at=None
    )
    record.load.job = job
    return record


@require_GET
@of_job
def session(request: HtmxRequest, job: Job, session: int) -> HttpResponse:
    """The live page; polled every second, it returns what changes."""
    record = _session(job, session)
    if record.stopped:
        capture = record.load.captures.filter(client_key=record.client_key).first()
        if capture is not None:
            return redirect("bench:capture", job.pk, capture.pk)
        return redirect("bench:index", job.pk)
    context = {"job": job, "session": record, "live": look(record), "speeds": SPEEDS}
    name = "bench/_live.html" if request.htmx else "bench/session.html"
    return render(request, name, context)


def _after(request: HtmxRequest, job: Job, session: Session) -> HttpResponse:
    """What changes, and out of band what a stored reading affected."""
    if not request.htmx:
        return redirect("bench:session", job.pk, session.pk)
    context = {"job": job, "session": session, "live": look(session), "speeds": SPEEDS}
    return render(request, "bench/_changed.html", context)


@require_POST
@of_job(post=Role.MEASURER)
def keep_spot(request: HtmxRequest, job: Job, session: int) -> HttpResponse:
    """Store the meter's figures as a spot reading of the present state."""
    record = _session(job, session)
    live = look(record)
    data = {
        key: round(live.columns[key], 3) for key in ("watts", "volts", "amps", "va", "pf", "hz")
    }
    add_reading(record.load, "spot", {"state": live.state, **data, **record.conditions()})
    announce_change(request, job)
    return _after(request, job, record)


@require_POST
@of_job(post=Role.MEASURER)
def keep_start(request: HtmxRequest, job: Job, session: int) -> HttpResponse:
    """Store the last start as a clamp in inrush mode would show it."""
    record = _session(job, session)
    live = look(record)
    watts, volts = live.columns["watts"], live.columns["volts"]
    if live.start_a is None:
        messages.info(request, "No start seen yet: wait for it to switch on.")
    elif clamp_cancelled(live.start_a, watts, volts):
        words = (
            f"The clamp read {live.start_a:g} A at a start: around a whole cable the currents "
            "cancel. Clamp one insulated conductor only. Nothing was kept."
        )
        messages.info(request, words)
    else:
        data = {"amps": live.start_a, "volts": round(volts, 1)}
        conditions = {**record.conditions(), "instrument": "clamp"}
        add_reading(record.load, "start", {**data, **conditions})
        announce_change(request, job)
    return _after(request, job, record)


@require_POST
@of_job(post=Role.MEASURER)
def keep_counter(request: HtmxRequest, job: Job, session: int) -> HttpResponse:
    """Store the counter as an energy run."""
    record = _session(job, session)
    live = look(record)
    if record.reset_s is None:
        messages.info(request, live.counter_words)
    elif live.counter_wh <= 0:
        messages.info(request, "The counter has not moved yet: let it run on.")
    else:
        data = {"wh": live.counter_wh, "hours": live.counter_h, "step_wh": 10.0}
        actions.keep_counter(record, {**data, **record.conditions()})
        announce_change(request, job)
    return _after(request, job, record)


@require_POST
@of_job(post=Role.MEASURER)
def reset(request: HtmxRequest, job: Job, session: int) -> HttpResponse:
    record = _session(job, session)
    actions.reset_counter(record)
    return _after(request, job, record)


@require_POST
@of_job(post=Role.MEASURER)
def speed(request: HtmxRequest, job: Job, session: int) -> HttpResponse:
    record = _session(job, session)
    wanted = request.POST.get("speed", "")
    if wanted in map(str, SPEEDS):
        actions.change_speed(record, int(wanted))
    return _after(request, job, record)


@require_POST
@of_job(post=Role.MEASURER)
def tally(request: HtmxRequest, job: Job, session: int) -> HttpResponse:
    """Record that it switched on or off; with ``keep``, store the moments as a reading."""
    record = _session(job, session)
    if request.POST.get("keep"):
        try:
            actions.keep_tally(record)
            announce_change(request, job)
        except DocumentError as error:
            messages.info(request, f"Not yet: {error.message}.")
    else:
        actions.tally(record)
    return _after(request, job, record)


@require_POST
@of_job(post=Role.MEASURER)
def stop(request: HtmxRequest, job: Job, session: int) -> HttpResponse:
    """Stop a session; its recording becomes a capture."""
    record = _session(job, session)
    capture = actions.stop_session(record, request.POST.get("name", ""))
    announce_change(request, job)
    if capture is None:
        return redirect("bench:index", job.pk)
    return redirect("bench:capture", job.pk, capture.pk)


@takes_up_to(MOST_BYTES)
@require_http_methods(["GET", "POST"])
@of_job(see=Role.MEASURER, post=Role.MEASURER)
def upload(request: HtmxRequest, job: Job, load: int) -> HttpResponse:
    """Upload a file; a preview is shown before it counts."""
    record = get_object_or_404(job.loads.live(), pk=load)
    form = UploadForm(request.POST or None, request.FILES or None)
    if request.method == "POST" and form.is_valid():
        file = form.cleaned_data["file"]
        capture = Capture(load=record, name=str(file.name)[:80], client_key=client_key(form))
        try:
            capture = actions.read_file(capture, file.read())
        except DocumentError as error:
            form.add_error("file", error.sentence)
        else:
            address = reverse("bench:capture", args=[job.pk, capture.pk])
            return HttpResponseClientRedirect(address) if request.htmx else redirect(address)
    status = 422 if form.is_bound else 200
    context = {"job": job, "load": record, "form": form}
    return render(request, "bench/upload.html", context, status=status)


def _capture(job: Job, pk: int) -> Capture:
    record: Capture = get_object_or_404(
        Capture.objects.live().select_related("load", "reading"),
        pk=pk,
        load__job=job,
        load__removed_at=None,
    )
    record.load.job = job
    return record


@require_http_methods(["GET", "POST"])
@of_job(post=Role.MEASURER)
def capture(request: HtmxRequest, job: Job, capture: int) -> HttpResponse:
    """A capture's page; with corrections while under preview."""
    record = _capture(job, capture)
    form = CaptureForm(request.POST or None, instance=record)
    if request.method == "POST" and form.is_valid() and not record.kept:
        try:
            actions.correct(form.instance)
            form.instance.analysis()
        except DocumentError as error:
            form.add_error(None, error.sentence)
        else:
            return redirect("bench:capture", job.pk, capture)
    shown = _capture(job, capture)
    context = {"job": job, "capture": shown, "form": form, **_page(shown)}
    context["levels_form"] = LevelsForm(instance=shown)
    return render(request, "bench/capture.html", context, status=422 if form.is_bound else 200)


def _page(capture: Capture) -> dict[str, Any]:
    try:
        return {"page": page_of(capture), "trouble": ""}
    except DocumentError as error:
        return {"page": None, "trouble": error.sentence}


@require_POST
@of_job(post=Role.MEASURER)
def keep(request: HtmxRequest, job: Job, capture: int) -> HttpResponse:
    """Make a capture evidence of its load."""
    record = _capture(job, capture)
    try:
        actions.keep(record)
    except DocumentError as error:
        messages.info(request, f"It cannot be evidence: {error.message}.")
        return redirect("bench:capture", job.pk, capture)
    announce_change(request, job)
    return redirect("loads:load", job.pk, record.load.pk)


@require_POST
@of_job(post=Role.MEASURER)
def levels(request: HtmxRequest, job: Job, capture: int) -> HttpResponse:
    """Correct the boundaries between levels, or their names."""
    record = _capture(job, capture)
    form = LevelsForm(request.POST, instance=record)
    if form.is_valid():
        try:
            actions.correct_levels(form.instance)
        except DocumentError as error:
            form.add_error("bounds", error.sentence)
        else:
            announce_change(request, job)
            return redirect("bench:capture", job.pk, capture)
    shown = _capture(job, capture)
    context = {"job": job, "capture": shown, "form": CaptureForm(instance=shown), **_page(shown)}
    return render(request, "bench/capture.html", {**context, "levels_form": form}, status=422)


@require_POST
@of_job
def discard(request: HtmxRequest, job: Job, capture: int) -> HttpResponse:
    record = _capture(job, capture)
    actions.discard(record)
    announce_change(request, job)
    return redirect("bench:index", job.pk)


@require_GET
@of_job
def series(request: HtmxRequest, job: Job, capture: int) -> HttpResponse:
    """A window of a capture for the chart, reduced so that every spike stays."""
    record = _capture(job, capture)
    try:
        first, last = (float(request.GET.get(key, "nan")) for key in ("from", "to"))
    except ValueError:
        first = last = float("nan")
    try:
        return JsonResponse(series_json(record, first, last))
    except DocumentError as error:
        raise Http404 from error


@require_GET
@of_job
def download(request: HtmxRequest, job: Job, capture: int, filename: str) -> HttpResponse:
    """A capture as CSV, or its strip as SVG."""
    record = _capture(job, capture)
    try:
        if filename == "strip.svg":
            return svg_attachment(standalone(page_of(record).strip), filename)
        return attachment(as_csv(record.to_core()), CSV_TYPE, "capture.csv")
    except DocumentError as error:
        raise Http404 from error


@require_http_methods(["GET", "POST"])
@of_job(see=Role.OWNER)
def logger_list(request: HtmxRequest, job: Job) -> HttpResponse:
    """The loggers of a job; a POST creates one and shows its token, once."""
    form = LoggerForm(request.POST or None, job=job, user=request.user)
    token = ""
    if request.method == "POST" and form.is_valid():
        _, token = loggers.add_logger(**form.cleaned_data)
        form = LoggerForm(job=job, user=request.user)
    live = Logger.objects.live().filter(load__job=job, load__removed_at=None)
    rows = [logger_row(logger) for logger in live.select_related("load")]
    context = {"job": job, "form": form, "rows": rows, "token": token}
    if request.htmx:
        return render(request, "bench/_loggers.html", context)
    status = 422 if form.is_bound and not token else 200
    address = request.build_absolute_uri(reverse("api:samples"))
    return render(request, "bench/loggers.html", {**context, "address": address}, status=status)


def _logger(job: Job, pk: int) -> Logger:
    loggers = Logger.objects.live().select_related("load")
    logger: Logger = get_object_or_404(loggers, pk=pk, load__job=job, load__removed_at=None)
    return logger


@require_POST
@of_job
def revoke_logger(request: HtmxRequest, job: Job, logger: int) -> HttpResponse:
    loggers.revoke(_logger(job, logger))
    messages.info(request, "Revoked: what it sends from now on is refused.")
    return redirect("bench:loggers", job.pk)


@require_POST
@of_job(post=Role.MEASURER)
def collect_logger(request: HtmxRequest, job: Job, logger: int) -> HttpResponse:
    """Turn the pending samples of a logger into a capture."""
    record = _logger(job, logger)
    record.load.job = job
    capture = loggers.collect(record, f"{record.name}, {timezone.localtime():%d %b %H:%M}")
    if capture is None:
        messages.info(request, "Too little has come in: at least three samples make a capture.")
        return redirect("bench:loggers", job.pk)
    announce_change(request, job)
    return redirect("bench:capture", job.pk, capture.pk)
