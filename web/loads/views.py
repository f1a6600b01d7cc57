"""The survey, and the page of each load."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from needle.quantity import MAX_TEXT
from web.common.addresses import key_of
from web.common.bodies import PHOTO_BYTES, takes_up_to
from web.common.folding import folded
from web.common.forms import client_key
from web.common.htmx import HtmxRequest
from web.drawing.ladder import ladder_scale
from web.jobs.access import of_job
from web.jobs.actions import as_one, job_grew
from web.jobs.announcing import announce_change
from web.jobs.models import Job, Role
from web.jobs.outbox import moment_made
from web.loads import actions, survey
from web.loads.forms import LoadForm, PutOffForm
from web.loads.models import TYPES, Load, Photo, Reading
from web.loads.page import page_of
from web.loads.reading_forms import FORMS, ReadingForm


@require_GET
@of_job
def survey_page(request: HtmxRequest, job: Job) -> HttpResponse:
    find, sort = request.GET.get("q", ""), request.GET.get("sort", "name")
    sort = sort if sort in survey.SORTS else "name"
    rows = survey.rows(job, find, sort)
    context = {
        "job": job,
        "rows": rows,
        "shown": folded(rows, request),
        "find": find,
        "sort": sort,
        "sorts": survey.SORTS,
        "scale": ladder_scale(),
    }
    if request.htmx and request.htmx.target == "loads-table":
        return render(request, "loads/_table.html", context)
    context |= {
        "evidence_shares": survey.evidence_shares(rows),
        "open": survey.still_open(rows),
        "put_off": survey.put_off(rows),
    }
    return render(request, "loads/survey.html", context)


@require_http_methods(["GET", "POST"])
@of_job(see=Role.MEASURER, post=Role.MEASURER)
def add(request: HtmxRequest, job: Job) -> HttpResponse:
    # Its kind decides which fields there are: what was typed so far comes along.
    typed = request.GET.dict() if request.method == "GET" else None
    form = LoadForm(request.POST or None, instance=Load(job=job), initial=typed)
    if request.method == "POST" and form.is_valid():
        form.instance.client_key = client_key(form)
        with as_one(job, f"Added {form.instance.name}"):
            plan = key_of(request.GET.get("plan", ""))
            load = actions.add_load(form.instance, form.label(), plan)
            job_grew(job)
        announce_change(request, job)
        return redirect("loads:load", job.pk, load.pk)
    status = 422 if form.is_bound else 200
    return render(
        request, "loads/edit.html", {"job": job, "form": form, "load": None}, status=status
    )


@require_http_methods(["GET", "POST"])
@of_job(see=Role.OWNER)
def shelf(request: HttpRequest, job: Job) -> HttpResponse:
    """Loads of the user's other jobs, to copy with their readings."""
    others = Load.objects.live().with_readings().select_related("job")
    others = others.filter(job__owner=job.owner, job__removed_at=None).exclude(job=job)
    if request.method == "POST":
        keys = [key for text in request.POST.getlist("loads") if (key := key_of(text)) is not None]
        chosen = list(others.filter(pk__in=keys[:MOST_TAKEN]))
        if not chosen:
            messages.info(request, "Tick the loads to take along.")
            return redirect("loads:shelf", job.pk)
        actions.take_along(job, chosen)
        announce_change(request, job)
        return redirect("loads:survey", job.pk)
    find = request.GET.get("q", "")[:80]
    rows = survey.shelf_rows(others.filter(name__icontains=find) if find else others)
    return render(request, "loads/shelf.html", {"job": job, "rows": rows, "find": find})


#: Loads that are taken along at once.
MOST_TAKEN = 100
#: Most loads with which a load's page shows the next step.
FEW = 2
#: What a person can type in.
TYPED = {key: words for key, words in TYPES.items() if key in FORMS}


def _load(job: Job, pk: int) -> Load:
    record: Load = get_object_or_404(job.loads.live().with_readings(), pk=pk)
    return record


def _load_context(job: Job, load: Load, form: ReadingForm) -> dict[str, Any]:
    return {
        "job": job,
        "page": page_of(load),
        "form": form,
        "types": TYPED,
        "few": job.loads.live().count() <= FEW,
        "has_supply": job.supplies.live().exists(),
    }


@require_GET
@of_job
def load_page(request: HtmxRequest, job: Job, load: int) -> HttpResponse:
    kind = request.GET.get("type", "spot")
    record = _load(job, load)
    # A round's step fills in how long its counter ran.
    known = {"hours": request.GET["hours"][:12]} if "hours" in request.GET else {}
    form = FORMS.get(kind, FORMS["spot"])(load=record, initial=known)
    context = _load_context(job, record, form)
    return render(request, "loads/load.html", context)


@require_http_methods(["GET", "POST"])
@of_job(see=Role.OWNER)
def edit(request: HtmxRequest, job: Job, load: int) -> HttpResponse:
    record = _load(job, load)
    form = LoadForm(request.POST or None, instance=record)
    if request.method == "POST" and form.is_valid():
        actions.change_load(form.instance)
        announce_change(request, job)
        return redirect("loads:load", job.pk, load)
    status = 422 if form.is_bound else 200
    context = {"job": job, "form": form, "load": _load(job, load)}
    return render(request, "loads/edit.html", context, status=status)


@require_POST
@of_job
def remove(request: HtmxRequest, job: Job, load: int) -> HttpResponse:
    actions.remove_load(_load(job, load))
    announce_change(request, job)
    return redirect("loads:survey", job.pk)


@require_POST
@of_job(post=Role.MEASURER)
def put_off(request: HtmxRequest, job: Job, load: int) -> HttpResponse:
    """Postpone a load's open measurements; an empty ``reason`` resumes them."""
    form = PutOffForm(request.POST, instance=_load(job, load))
    if form.is_valid():
        actions.put_off(form.instance, form.cleaned_data["put_off"].strip())
        announce_change(request, job)
    else:
        messages.error(request, "A reason has at most 120 characters. Nothing was changed.")
    return redirect("loads:survey", job.pk)


def _form_class(kind: str) -> type[ReadingForm]:
    if kind not in FORMS:
        raise Http404
    return FORMS[kind]


@takes_up_to(PHOTO_BYTES)
@require_http_methods(["GET", "POST"])
@of_job(post=Role.MEASURER)
def add_reading(request: HtmxRequest, job: Job, load: int, kind: str) -> HttpResponse:
    """The form of a type of reading; a POST stores one and returns what changed."""
    record, form_class = _load(job, load), _form_class(kind)
    # What was typed as another kind of reading comes along.
    typed = {name: text[:MAX_TEXT] for name, text in request.GET.items() if name != "client_key"}
    form = form_class(request.POST or None, request.FILES or None, load=record, initial=typed)
    if request.method == "POST" and form.is_valid():
        actions.add_reading(record, kind, **form.as_reading(moment_made(request)))
        announce_change(request, job)
        return _changed(request, job, load, form_class(load=record))
    if request.htmx:
        context = {"job": job, "load": record, "form": form, "types": TYPED}
        response = render(
            request, "loads/_reading_form.html", context, status=422 if form.is_bound else 200
        )
        response["HX-Retarget"], response["HX-Reswap"] = "#reading-form", "outerHTML"
        return response
    context = _load_context(job, record, form)
    return render(request, "loads/load.html", context, status=422 if form.is_bound else 200)


def _changed(request: HtmxRequest, job: Job, load: int, form: ReadingForm) -> HttpResponse:
    """After a change: the load's body and, out of band, the answer bar; or the page."""
    if not request.htmx:
        return redirect("loads:load", job.pk, load)
    context = _load_context(job, _load(job, load), form)
    return render(request, "loads/_changed.html", context)


def _reading(job: Job, load: int, pk: int) -> Reading:
    readings = Reading.objects.live().select_related("load__job")
    record: Reading = get_object_or_404(
        readings, pk=pk, load=load, load__job=job, load__removed_at=None
    )
    return record


@takes_up_to(PHOTO_BYTES)
@require_http_methods(["GET", "POST"])
@of_job(see=Role.MEASURER, post=Role.MEASURER)
def edit_reading(request: HtmxRequest, job: Job, load: int, reading: int) -> HttpResponse:
    record = _reading(job, load, reading)
    form = _form_class(record.type)(request.POST or None, request.FILES or None, reading=record)
    if request.method == "POST" and form.is_valid():
        cleaned = form.cleaned_data
        actions.change_reading(
            record, form.data_to_store, cleaned["read_at"], cleaned["note"], cleaned["photo"]
        )
        announce_change(request, job)
        return redirect(reverse("loads:load", args=[job.pk, load]))
    photos = record.photos.live().only("pk", "width", "height")
    context = {"job": job, "load": record.load, "form": form, "reading": record, "photos": photos}
    status = 422 if form.is_bound else 200
    return render(request, "loads/edit_reading.html", context, status=status)


@require_POST
@of_job
def remove_reading(request: HtmxRequest, job: Job, load: int, reading: int) -> HttpResponse:
    record = _reading(job, load, reading)
    actions.remove_reading(record)
    announce_change(request, job)
    form = FORMS.get(record.type, FORMS["spot"])(load=record.load)
    return _changed(request, job, load, form)


def _photo(job: Job, load: int, pk: int) -> Photo:
    photos = Photo.objects.live().select_related("reading__load__job")
    record: Photo = get_object_or_404(
        photos, pk=pk, reading__load=load, reading__load__job=job, reading__removed_at=None
    )
    return record


@require_GET
@of_job
def photo(request: HttpRequest, job: Job, load: int, photo: int, size: str) -> HttpResponse:
    """A photo, small or large."""
    if size not in ("small", "large"):
        raise Http404
    content = getattr(_photo(job, load, photo), size)
    response = HttpResponse(bytes(content), content_type="image/jpeg")
    # It never changes: its address would be another. Over HTTPS signing out clears what browsers
    # keep; over plain HTTP they do not listen to that, so that nothing is kept.
    kept = "private, max-age=31536000, immutable"
    response["Cache-Control"] = kept if request.is_secure() else "no-store"
    return response


@require_POST
@of_job
def remove_photo(request: HttpRequest, job: Job, load: int, photo: int) -> HttpResponse:
    record = _photo(job, load, photo)
    actions.remove_photo(record)
    announce_change(request, job)
    return redirect("loads:edit-reading", job.pk, load, record.reading_id)
