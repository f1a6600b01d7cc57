"""Export and import of a whole job, as a tabular data package."""

from __future__ import annotations

import io
import secrets
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
from django.core.exceptions import NON_FIELD_ERRORS, ValidationError
from django.db import DatabaseError, models, transaction
from django.utils import timezone

from needle.document import DocumentError
from needle.measure.capture import COLUMNS, tidy
from needle.measure.capture import Capture as CoreCapture
from needle.package import Package, Row, Table, read, write
from needle.plan.documents.parse import parse_plan
from web.bench.models import Capture, pack
from web.common.models import Record
from web.common.quotas import quotas_of
from web.house.models import HouseRecord
from web.jobs.models import Job
from web.loads.models import CombinedLoad, CombinedReading, Load, Photo, Reading, numbers_of
from web.loads.photos import NoPicture, drawn_anew
from web.matching.models import Correction
from web.meters.actions import taken_in
from web.meters.models import Meter, with_names
from web.plans.draft import document, draft_of
from web.plans.models import Plan, PlanEntry, PlanSource
from web.sheets.models import WaitingPackage, forget_old_packages
from web.supplies.models import Input, Output, StartTest, Supply, SupplyTest
from web.trials.models import CheckIn, Trial

#: Raised when the tables change in a way that older packages do not fit.
VERSION = 1
#: Tables in an order in which each refers only to earlier ones: name, model, parent.
TABLES: tuple[tuple[str, type[Record], str], ...] = (
    ("meters", Meter, "owner"),
    ("loads", Load, "job"),
    ("readings", Reading, "load"),
    ("photos", Photo, "reading"),
    ("captures", Capture, "load"),
    ("combined-readings", CombinedReading, "job"),
    ("combined-loads", CombinedLoad, "combined"),
    ("house-records", HouseRecord, "job"),
    ("supplies", Supply, "job"),
    ("outputs", Output, "supply"),
    ("inputs", Input, "supply"),
    ("supply-tests", SupplyTest, "supply"),
    ("start-tests", StartTest, "supply"),
    ("corrections", Correction, "load"),
    ("plans", Plan, "job"),
    ("plan-entries", PlanEntry, "plan"),
    ("plan-sources", PlanSource, "plan"),
    ("trials", Trial, "job"),
    ("check-ins", CheckIn, "trial"),
)
#: What is the site's own and stays here.
_OWN = {
    "client_key",
    "version",
    "created_at",
    "changed_at",
    "removed_at",
    "owner",
    "raw",
    "packed",
    "large",
    "small",
}


@dataclass(frozen=True)
class Preview:
    """What an import would add: the job's name, and the number of each kind of record."""

    name: str
    counts: list[tuple[str, int]]


#: Types of a package's fields, by the model's.
_TYPES: tuple[tuple[tuple[type[models.Field[Any, Any]], ...], str], ...] = (
    ((models.AutoField, models.ForeignKey, models.IntegerField), "integer"),
    ((models.FloatField,), "number"),
    ((models.BooleanField,), "boolean"),
    ((models.DateTimeField,), "datetime"),
)


def _columns(model: type[models.Model]) -> Iterator[tuple[str, str, Any]]:
    """A model's fields in the package: name, type, field."""
    # Who entered a record stands last, where older packages have nothing.
    fields = sorted(model._meta.concrete_fields, key=lambda field: field.name == "made_by")
    for field in fields:
        if field.name in _OWN or field.name == "job":
            continue
        if isinstance(field, models.JSONField):
            kind = "array" if field.default is list else "object"
        else:
            kind = next((name for types, name in _TYPES if isinstance(field, types)), "string")
        yield field.name, kind, field


def _records(job: Job, model: type[Record], parent: str) -> list[Any]:
    """All live records of a model whose parents are live, in order of creation."""
    records: Any = model._default_manager.filter(removed_at=None)
    if model is Meter:
        return _meters_read_with(job)
    if parent == "job":
        return list(records.filter(job=job).order_by("pk"))
    above = "reading__load" if model is Photo else parent
    filters: dict[str, Any] = {f"{above}__job": job, f"{parent}__removed_at": None}
    filters[f"{above}__removed_at"] = None
    if model is StartTest:
        filters["load__removed_at"] = None
    if model in (PlanEntry, CombinedLoad):
        filters["load__removed_at"] = None
    if model is Capture:
        filters["kept"] = True
    return list(records.filter(**filters).order_by("pk"))


def _meters_read_with(job: Job) -> list[Meter]:
    """The owner's meters that the job's readings refer to, and those they were compared with."""
    readings = Reading.objects.live().filter(load__job=job, load__removed_at=None)
    named = set(readings.exclude(data__meter=None).values_list("data__meter", flat=True))
    named |= set(job.combined_readings.live().values_list("meter", flat=True))
    return with_names(job.owner_id, named)


def package_of(job: Job) -> Package:
    """A job with everything that belongs to it; ids are local to the package."""
    tables: dict[str, Table] = {}
    pictures: dict[str, bytes] = {}
    ids: dict[tuple[type, int], int] = {}
    tables["job"] = Table(
        "job",
        "job.csv",
        tuple((name, kind) for name, kind, _ in _columns(Job)),
        [_row(job, Job, {(Job, job.pk): 1})],
    )
    for name, model, parent in TABLES:
        records = _records(job, model, parent)
        for number, record in enumerate(records, 1):
            ids[(model, record.pk)] = number
        fields = tuple((column, kind) for column, kind, _ in _columns(model))
        rows = [_row(record, model, ids) for record in records]
        if model is Trial:
            numbers = _load_ids(job, ids)
            rows = [
                {**row, **record.with_load_ids(numbers)}
                for row, record in zip(rows, records, strict=True)
            ]
        tables[name] = Table(name, f"{name}.csv", fields, rows)
        if model is Capture:
            for number, capture in enumerate(records, 1):
                table = _samples(f"capture-{number}", capture.to_core())
                tables[table.name] = table
        if model is Photo:
            pictures = {f"photo-{ids[(Photo, photo.pk)]}": bytes(photo.large) for photo in records}
    return Package(job.name, tables, {"steady_needle_version": VERSION}, pictures)


def _load_ids(job: Job, ids: dict[tuple[type, int], int]) -> dict[str, str]:
    """Ids of the job's loads in documents, as they will be where the package is imported."""
    return {
        f"load {number}": f"load {ids[(Load, pk)]}" if (Load, pk) in ids else f"removed {number}"
        for pk, number in numbers_of(job).items()
    }


def _row(record: Any, model: type[models.Model], ids: dict[tuple[type, int], int]) -> Row:
    row: Row = {}
    for name, kind, field in _columns(model):
        value = getattr(record, field.attname)
        if field.primary_key:
            value = ids[(model, value)]
        elif isinstance(field, models.ForeignKey):
            value = ids.get((field.related_model, value)) if value is not None else None
        elif kind == "datetime" and value is not None:
            value = value.isoformat()
        row[name] = value
    return row


def _samples(name: str, capture: CoreCapture) -> Table:
    columns = {
        column: np.asarray(values, dtype=float)
        for column, values in {"time_s": capture.time_s, **capture.columns}.items()
    }
    kinds = tuple((column, "number") for column in columns)
    return Table(name, f"captures/{name}.csv", kinds, columns=columns)


def export_job(job: Job) -> bytes:
    """The job's package as a zip."""
    return write(package_of(job))


def preview(content: bytes) -> Preview:
    """What a package would add.

    Raises
    ------
    DocumentError
    """
    package = understood(content)
    counts = [
        (name if name == "check-ins" else name.replace("-", " "), len(package.tables[name].rows))
        for name, _, _ in TABLES
        if name in package.tables and package.tables[name].rows
    ]
    return Preview(str(package.tables["job"].rows[0].get("name") or package.title), counts)


def understood(content: bytes) -> Package:
    """Parse a package with a job from this site.

    Raises
    ------
    DocumentError
    """
    package = read(content)
    job = package.tables.get("job")
    if job is None or len(job.rows) != 1:
        raise DocumentError("job", "the package needs one job, in one row")
    if package.extra.get("steady_needle_version") not in (None, VERSION):
        raise DocumentError("steady_needle_version", "is newer than this site understands")
    return package


def add_package(package: Package, owner: Any, check: bool = True) -> Job:
    """Store a package's job, atomically; ``check`` false only for packages of this site.

    Raises
    ------
    DocumentError
        The message names the table, row and field.
    """
    try:
        with transaction.atomic():
            job = _build(package, owner)
            if check:
                _check_whole(job)
                for quota in quotas_of(owner):
                    quota.refuse_more(0)
            return job
    except DocumentError:
        raise
    except (
        DatabaseError,
        TypeError,
        LookupError,
        AttributeError,
        ValueError,
        ArithmeticError,
        RecursionError,
    ) as error:
        raise DocumentError("", f"cannot be imported: {str(error)[:120]}") from None


def wait(owner: Any, content: bytes) -> str:
    """Store a package until its preview is confirmed; return its token."""
    forget_old_packages()
    token = secrets.token_urlsafe(16)
    WaitingPackage.objects.create(owner=owner, token=token, content=content)
    return token


def import_waiting(owner: Any, token: str) -> Job | None:
    """Add the job of a waiting package, once; None if there is none.

    Raises
    ------
    DocumentError
    """
    waiting = WaitingPackage.objects.filter(owner=owner, token=token[:40])
    package = waiting.first()
    if package is None:
        return None
    if package.job is not None:
        return package.job
    # Read before the database is kept from others.
    read = understood(bytes(package.content))
    with transaction.atomic():
        package = waiting.select_for_update().first()
        if package is None:
            return None
        if package.job is not None:
            return package.job
        job = add_package(read, owner)
        package.job, package.content = job, b""
        package.save(update_fields=["job", "content"])
    return job


def _build(package: Package, owner: Any) -> Job:
    job = Job(owner=owner)
    if "mains" not in package.tables["job"].rows[0]:
        raise DocumentError("job row 2, mains", "is needed: all volts rest on it")
    _fill(job, package.tables["job"].rows[0], Job, {}, "job row 2")
    job.save()
    made: dict[tuple[type, int], Any] = {}
    for name, model, parent in TABLES:
        table = package.tables.get(name)
        for number, row in enumerate(table.rows if table else (), 2):
            where = f"{name} row {number}"
            record = model()
            if isinstance(record, Meter):
                local = _fill(record, row, model, made, where)
                made[(model, local)] = taken_in(record, owner)
                continue
            if parent == "job":
                record.job = job  # type: ignore[attr-defined]
            local = _fill(record, row, model, made, where)
            if model is Capture:
                core = _capture(package, f"capture-{local}")
                record.packed = pack(core)  # type: ignore[attr-defined]
                record.rows = len(core.time_s)  # type: ignore[attr-defined]
                record.interval_s = core.interval_s()  # type: ignore[attr-defined]
            if isinstance(record, Photo):
                _draw_anew(record, package.pictures.get(f"photo-{local}"), where)
            record.save()
            made[(model, local)] = record
    return job


def _draw_anew(photo: Photo, content: bytes | None, where: str) -> None:
    if content is None:
        raise DocumentError(where, "its picture is not in the package")
    try:
        picture = drawn_anew(io.BytesIO(content))
    except NoPicture as error:
        raise DocumentError(where, str(error)) from None
    photo.large, photo.small = picture.large, picture.small
    photo.width, photo.height = picture.width, picture.height


def _check_whole(job: Job) -> None:
    """Refuse combinations of records that are each valid.

    Raises
    ------
    DocumentError
    """
    for whole in (*job.supplies.live().with_parts(), *job.trials.live().with_check_ins()):
        _check(whole, str(whole))
    for plan in job.plans.live():
        plan.job = job
        draft = draft_of(plan)
        if draft.supply is not None and any(used_load.counted for used_load in draft.used):
            parse_plan(document(draft))
    for load in job.loads.live():
        load.job = job
        load.profile()
        for capture in load.captures.live():
            capture.analysis()


def _fill(
    record: Any, row: Row, model: type[models.Model], made: dict[tuple[type, int], Any], where: str
) -> int:
    """Set a record's fields from a row; return the row's own id."""
    local = 0
    for name, kind, field in _columns(model):
        value = row.get(name)
        if field.primary_key:
            local = int(value or 0)
        elif isinstance(field, models.ForeignKey):
            _point(record, field, value, made, where)
        elif kind == "datetime" and value is not None:
            setattr(record, name, _moment(value, f"{where}, {name}"))
        elif value is None and not field.null:
            # A column that the package lacks is newer than it; an empty cell is an empty text.
            is_empty_text = kind == "string" and name in row
            setattr(record, name, "" if is_empty_text else field.get_default())
        else:
            setattr(record, name, value)
    _check_fields(record, model, where)
    return local


def _check_fields(record: Any, model: type[models.Model], where: str) -> None:
    """Validate a record as a form would.

    Raises
    ------
    DocumentError
    """
    # An empty list or object is a value of its own where forms do not ask for one.
    empty = {
        field.name
        for _, kind, field in _columns(model)
        if kind in ("array", "object") and not getattr(record, field.attname)
    }
    skip = empty.union(_OWN, {"job"}) & {field.name for field in model._meta.concrete_fields}
    try:
        record.full_clean(exclude=skip, validate_unique=False, validate_constraints=False)
    except ValidationError as error:
        name, words = next(iter(error.message_dict.items()))
        at = where if name == NON_FIELD_ERRORS else f"{where}, {name}"
        raise DocumentError(at, words[0].rstrip(".")) from None


def _point(
    record: Any, field: Any, value: Any, made: dict[tuple[type, int], Any], where: str
) -> None:
    if value is None:
        if not field.null:
            raise DocumentError(f"{where}, {field.name}", "is needed")
        return
    target = made.get((field.related_model, value))
    if target is None:
        raise DocumentError(f"{where}, {field.name}", f"there is no {field.name} {value} before it")
    setattr(record, field.name, target)


def _moment(text: str, where: str) -> datetime:
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        raise DocumentError(where, f"{text[:30]!r} is not a moment in ISO 8601") from None
    return moment if moment.tzinfo else timezone.make_aware(moment)


def _capture(package: Package, name: str) -> CoreCapture:
    table = package.tables.get(name)
    if table is None or "time_s" not in table.columns:
        raise DocumentError(name, "is not in the package, or has no time_s")
    unknown = set(table.columns) - {"time_s", *COLUMNS}
    if unknown:
        raise DocumentError(name, f"“{min(unknown)[:30]}” is none of {', '.join(COLUMNS)}")
    columns = dict(table.columns)
    return tidy(columns.pop("time_s"), columns)


def _check(record: Any, where: str) -> None:
    """Validate a record by its own parser."""
    try:
        record.to_core()
    except DocumentError as error:
        raise DocumentError(where, str(error)) from None
