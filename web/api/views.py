"""The job, its loads with readings and captures, its supplies, and its plans with their answers."""

from __future__ import annotations

from datetime import datetime
from http import HTTPStatus
from typing import Any

from django.core.cache import caches
from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from django.utils import timezone
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework.exceptions import ValidationError
from rest_framework.parsers import BaseParser
from rest_framework.request import Request
from rest_framework.response import Response

from needle.document import DocumentError
from needle.measure.analysis import as_document as analysis_document
from needle.measure.capture import as_csv
from needle.measure.readings import parse
from needle.profile.document import as_document as profile_document
from needle.profile.document import parse_load
from needle.profile.ledger import ledger_of
from needle.profile.profile import derive
from web.api.base import JobView, document, paged, plain
from web.api.openapi import ADDED, KEY, NAME, PAGE, ROWS, WORKING, accepts, is_document, of_type
from web.api.problems import Unanswerable
from web.background.questions import AnswerPending, key_of
from web.bench import actions as bench
from web.bench.models import Capture
from web.common.downloads import CSV_TYPE
from web.jobs.models import Job
from web.loads.actions import add_reading
from web.loads.models import MOST_NOTE, Load, Reading
from web.meters.models import documents_naming
from web.plans.draft import document as plan_document
from web.plans.draft import draft_of
from web.plans.models import Plan
from web.plans.outcomes import PAGE_WAIT_S, answer_of, current_plan, missing, told
from web.sheets.documents import load_document
from web.supplies.models import Supply

#: What stands for the plan that the answer bar speaks of.
CURRENT = "current"
#: Bytes of a capture's file.
MOST_FILE = 2_500_000


def row_of(record: Any, **more: Any) -> dict[str, Any]:
    """What a list says of a record."""
    changed = timezone.localtime(record.changed_at).isoformat(timespec="seconds")
    return {"id": record.pk, "name": record.name, **more, "changed_at": changed}


class JobDetails(JobView):
    @extend_schema(responses=is_document("JobDocument"))
    def get(self, request: Request) -> Response:
        """The job of the token, and what the token may do."""
        job = self.job
        content = {
            "name": job.name,
            "mains": {"volts": job.mains_v, "hertz": job.mains_hz, "split": job.split},
            "currency": job.currency,
            "tariff": job.tariff,
            "tariff_hours": job.tariff_hours,
            "zone": job.zone,
            "owner": job.owner.get_username(),
            "role": self.access.role.words,
        }
        return document(content)


def _load(job: Job, pk: int) -> Load:
    load: Load = get_object_or_404(job.loads.live().with_readings(), pk=pk)
    load.job = job
    return load


class Loads(JobView):
    @extend_schema(responses=ROWS, parameters=PAGE)
    def get(self, request: Request) -> Response:
        """The loads of the job."""

        def row(load: Load) -> dict[str, Any]:
            return row_of(load, kind=load.kind, priority=load.priority)

        return paged(request, self.job.loads.live().order_by("pk"), row)


class LoadDocument(JobView):
    @extend_schema(responses=is_document("Load"))
    def get(self, request: Request, load: int) -> Response:
        """A load with its readings: what `needle profile` reads."""
        return document(load_document(_load(self.job, load)))


class LoadProfile(JobView):
    @extend_schema(responses=is_document("Profile"))
    def get(self, request: Request, load: int) -> Response:
        """What a load draws, with ranges and grade: as `needle profile` prints it."""
        source = load_document(_load(self.job, load))
        drawn = caches["drawn"]
        return document(drawn.get_or_set(key_of("profile", source), lambda: _profile_of(source)))


def _profile_of(source: dict[str, Any]) -> dict[str, Any]:
    return profile_document(derive(parse_load(source)), ledger_of(source))


def _reading_row(reading: Reading) -> dict[str, Any]:
    return {
        "id": reading.pk,
        "reading": reading.to_document(),
        "note": reading.note,
        "entered_by": reading.made_by,
    }


class Readings(JobView):
    @extend_schema(responses=ROWS, parameters=PAGE)
    def get(self, request: Request, load: int) -> Response:
        """The readings of a load, the oldest first."""
        readings = _load(self.job, load).readings.live().order_by("pk")
        return paged(request, readings, _reading_row)

    @extend_schema(request=accepts("Reading"), responses=ADDED, parameters=[KEY])
    def post(self, request: Request, load: int) -> Response:
        """Add a reading, a document as `needle profile` reads it, with `at` and a `note`.

        With the same `Idempotency-Key` it counts once: then what was stored before comes back.
        """
        record = _load(self.job, load)
        content = dict(_object(request.data))
        note = content.pop("note", None) or ""
        if not isinstance(note, str) or len(note) > MOST_NOTE:
            raise ValidationError(f"note: a text of at most {MOST_NOTE} characters.")
        read_at = _checked(record, content)
        data = {key: value for key, value in content.items() if key not in ("type", "at")}
        key = self.sent_key()
        status = _status(Reading, key)
        stored = add_reading(
            record, content["type"], data, read_at=read_at, note=note, client_key=key
        )
        return document(_reading_row(stored), status)


def _checked(load: Load, content: dict[str, Any]) -> datetime | None:
    """When a reading was made; it is checked with the owner's meter that it names.

    Raises
    ------
    DocumentError, ValidationError
    """
    context = parse(content).context
    meters = documents_naming(load.job.owner_id, {context.meter_name})
    parse_load({"kind": load.kind, "meters": meters, "readings": [content]})
    if context.at is not None and context.at > timezone.now():
        raise ValidationError("at: is in the future; send only what was read.")
    return context.at


def _object(content: Any) -> dict[str, Any]:
    if not isinstance(content, dict):
        raise ValidationError("Send an object.")
    return content


def _status(model: Any, key: Any) -> int:
    """Created, or OK for what was sent before with this key."""
    known = model.objects.live().filter(client_key=key).exists()
    return HTTPStatus.OK if known else HTTPStatus.CREATED


def _captures(job: Job) -> Any:
    captures = Capture.objects.live().filter(load__job=job, load__removed_at=None)
    return captures.select_related("load").order_by("pk")


def _capture_row(capture: Capture) -> dict[str, Any]:
    begins = capture.begins and timezone.localtime(capture.begins).isoformat()
    more = {"load": capture.load_id, "begins": begins, "rows": capture.rows}
    return row_of(capture, **more, counts=capture.kept)


class Captures(JobView):
    @extend_schema(responses=ROWS, parameters=PAGE)
    def get(self, request: Request) -> Response:
        """The captures of the job; `counts` says whether one is evidence of its load."""
        return paged(request, _captures(self.job).defer("raw", "packed"), _capture_row)


class CaptureAnalysis(JobView):
    @extend_schema(responses=is_document("Analysis"))
    def get(self, request: Request, capture: int) -> Response:
        """What a capture shows: as `needle analyse` prints it."""
        record = get_object_or_404(_captures(self.job), pk=capture)
        return document(analysis_document(record.analysis()))


class CaptureSamples(JobView):
    @extend_schema(responses=of_type("text/csv"))
    def get(self, request: Request, capture: int) -> HttpResponse:
        """The samples of a capture as CSV."""
        record = get_object_or_404(_captures(self.job), pk=capture)
        return plain(as_csv(record.to_core()), CSV_TYPE)


class CsvParser(BaseParser):
    """The body as it is."""

    media_type = "text/csv"

    def parse(self, stream: Any, media_type: Any = None, parser_context: Any = None) -> bytes:
        content: bytes = stream.read(MOST_FILE + 1)
        if len(content) > MOST_FILE:
            raise ValidationError(f"At most {MOST_FILE} bytes.")
        return content


class LoadCaptures(JobView):
    parser_classes = (CsvParser,)

    @extend_schema(request={"text/csv": OpenApiTypes.STR}, responses=ADDED, parameters=[KEY, NAME])
    def post(self, request: Request, load: int) -> Response:
        """Add a capture, a CSV as `needle analyse` reads it; it counts at once."""
        record, key = _load(self.job, load), self.sent_key()
        if not isinstance(request.data, bytes) or not request.data.strip():
            raise ValidationError("Send a CSV with a header row.")
        known = _captures(self.job).filter(client_key=key, kept=True).first()
        if known is not None:
            return document(_capture_row(known))
        name = request.query_params.get("name", "").strip()[:80] or "From a program"
        capture = Capture(load=record, name=name, client_key=key)
        capture = bench.read_file(capture, request.data)
        capture.load = record
        try:
            bench.keep(capture)
        except DocumentError:
            bench.discard(capture)
            raise
        return document(_capture_row(capture), HTTPStatus.CREATED)


class Supplies(JobView):
    @extend_schema(responses=ROWS, parameters=PAGE)
    def get(self, request: Request) -> Response:
        """The supplies of the job."""

        def row(supply: Supply) -> dict[str, Any]:
            return row_of(supply, chemistry=supply.chemistry)

        return paged(request, self.job.supplies.live().order_by("pk"), row)


class SupplyDocument(JobView):
    @extend_schema(responses=is_document("Supply"))
    def get(self, request: Request, supply: int) -> Response:
        """A supply with its tests, as a plan has it."""
        record = get_object_or_404(self.job.supplies.live(), pk=supply)
        record.job = self.job
        return document(record.to_document())


def _plan(job: Job, key: str) -> Plan:
    if key == CURRENT:
        plan = current_plan(job)
    else:
        plan = get_object_or_404(job.plans.live().select_related("supply"), pk=int(key))
    plan.job = job
    return plan


class Plans(JobView):
    @extend_schema(responses=ROWS, parameters=PAGE)
    def get(self, request: Request) -> Response:
        """The plans of the job."""

        def row(plan: Plan) -> dict[str, Any]:
            return row_of(plan, current=plan.is_current)

        return paged(request, self.job.plans.live().order_by("pk"), row)


class PlanDocument(JobView):
    @extend_schema(responses=is_document("Plan"))
    def get(self, request: Request, plan: str) -> Response:
        """A plan with its supply, loads and sources: what `needle plan` reads."""
        draft = draft_of(_plan(self.job, plan))
        if draft.supply is None:
            raise Unanswerable(missing(draft)[1])
        return document(plan_document(draft))


class PlanAnswer(JobView):
    @extend_schema(responses=is_document("Answer") | WORKING)
    def get(self, request: Request, plan: str) -> Response:
        """How long a plan lasts, and why: as `needle plan` prints it.

        202 while it is being worked out: ask again at `url` after `again_in_s`.
        """
        answer = answer_of(_plan(self.job, plan), PAGE_WAIT_S)
        if answer.pending:
            raise AnswerPending
        if answer.outcome is None:
            raise Unanswerable(answer.words)
        return document(told(answer))
