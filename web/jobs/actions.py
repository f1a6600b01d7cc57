"""All changes of data: stored completely, once, and undoable."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, TypeVar

from django.apps import apps
from django.core import serializers
from django.db import DatabaseError, transaction
from django.db.models import F
from django.utils import timezone

from web.common.models import Record
from web.jobs.access import acting
from web.jobs.models import IN_BIN, Change, Job

#: Changes kept for each job.
KEPT_CHANGES = 200
#: Changes that are looked through for what was just added.
MOST_AS_ONE = 40
R = TypeVar("R", bound=Record)


def save_new(job: Job, record: R, label: str) -> tuple[R, bool]:
    """Store a new record, once per ``client_key``.

    Returns
    -------
    record, created
        The stored record, and False if the same form was submitted before.
    """
    with transaction.atomic():
        known = record.sent_before(lambda known: _job_of(known) == job)
        if known is not None:
            return known, False
        record.made_by = record.made_by or _who()
        record.save()
        _remember(job, record, "", label)
    return record, True


def save_change(job: Job, record: Record, label: str) -> None:
    """Store a changed record.

    Raises
    ------
    StaleRecordError
        Another request stored it after it was read here.
    """
    with transaction.atomic():
        before = record.as_stored()
        record.version += 1
        record.save()
        _remember(job, record, _as_it_was(before, record), label)


def job_grew(job: Job) -> None:
    """Signal sent so that apps can add records that a complete job needs, such as a first plan."""
    for model in apps.get_models():
        if hasattr(model, "job_grew"):
            model.job_grew(job)


@contextmanager
def as_one(job: Job, label: str) -> Iterator[None]:
    """Group several changes into one that is named and undone as a whole."""
    with transaction.atomic():
        last = job.changes.values_list("pk", flat=True).first() or 0
        yield
        made = list(job.changes.filter(pk__gt=last))
        for change in made[:-1]:
            change.joined = True
        for change in made:
            change.label = label[:200]
            change.save(update_fields=["joined", "label"])


def remove(job: Job, record: Record, label: str) -> None:
    """Remove a record; it can be restored."""
    record.removed_at = timezone.now()
    save_change(job, record, label)


def undo(job: Job, change_id: int) -> Change | None:
    """Take back the job's latest change; None if that is no longer possible.

    It is impossible after a later change, or if the restored records conflict with existing ones.
    """
    try:
        return _undo(job, change_id)
    except DatabaseError:
        return None


def _undo(job: Job, change_id: int) -> Change | None:
    with transaction.atomic():
        change = job.changes.filter(undone=False).first()
        if change is None or change.pk != change_id:
            return None
        _put_back(change)
        while change.joined:
            change = job.changes.filter(undone=False).first()
            if change is None:
                break
            _put_back(change)
    return change


def _put_back(change: Change) -> None:
    """Take back one change."""
    model: Any = apps.get_model(change.model)
    records = model._default_manager.filter(pk=change.record)
    if change.before:
        # A change older than a migration may name fields that are gone: what still exists counts.
        names = set(json.loads(change.before)[0]["fields"])
        for item in serializers.deserialize("json", change.before, ignorenonexistent=True):
            known = {field.name for field in item.object._meta.concrete_fields}
            # What was opened before the undo is older than what is there now.
            restored: Any = item.object
            restored.version = (records.values_list("version", flat=True).first() or 0) + 1
            restored.save(update_fields=(names & known) | {"version", "changed_at"})
    else:
        records.update(removed_at=timezone.now(), version=F("version") + 1)
    change.undone = True
    change.save(update_fields=["undone"])


def _as_it_was(before: Record, record: Record) -> str:
    """What a change takes from a record, as JSON: the fields that are different now.

    Samples of a capture, say, are kept once and not with each new name of a level.
    """
    fields = [
        field.name
        for field in record._meta.concrete_fields
        if not field.primary_key
        and field.name not in record.HISTORY_SKIPS
        and getattr(before, field.attname) != getattr(record, field.attname)
    ]
    return str(serializers.serialize("json", [before], fields=fields))


def _job_of(record: Any) -> Job:
    """The job that a record belongs to, directly or indirectly."""
    while not hasattr(record, "job"):
        above = next(
            name for name in ("reading", "load", "plan", "supply", "trial") if hasattr(record, name)
        )
        record = getattr(record, above)
    job: Job = record.job
    return job


def _who() -> str:
    """The name that changes are recorded under; empty for the site itself."""
    access = acting()
    return access.who[:80] if access else ""


def _remember(job: Job, record: Record, before: str, label: str) -> None:
    access = acting()
    Change.objects.create(
        job=job,
        label=label[:200],
        before=before,
        model=record._meta.label,
        record=record.pk,
        made_by=_who(),
        user_id=access.user_id if access else None,
    )
    stale = job.changes.values_list("pk", flat=True)[KEPT_CHANGES : KEPT_CHANGES + 50]
    Change.objects.filter(pk__in=list(stale)).delete()


def add_job(job: Job) -> Job:
    """Store a new job, once per ``client_key``.

    Raises
    ------
    QuotaExceededError
    """
    with transaction.atomic():
        known = job.sent_before(lambda known: known.owner == job.owner)
        if known is not None:
            return known
        Job.quota_of(job.owner).refuse_more(1)
        job.save()
    return job


def delete_job(job: Job) -> None:
    """Delete a job permanently with everything that belongs to it."""
    with transaction.atomic():
        job.delete()


def restore_job(job: Job) -> None:
    """Restore a removed job."""
    job.removed_at = None
    save_change(job, job, f"Brought back {job.name}")


def empty_bin(user: Any) -> None:
    """Delete permanently what a user removed more than a month ago."""
    for job in Job.objects.in_bin_of(user).filter(removed_at__lt=timezone.now() - IN_BIN):
        delete_job(job)


def latest_change(job: Job) -> Change | None:
    """The change that undo would take back."""
    return job.changes.filter(undone=False).first()


def just_added(job: Job, model: type[Record]) -> set[int]:
    """Primary keys of records of a model that the latest change added."""
    found = set()
    for change in job.changes.filter(undone=False)[:MOST_AS_ONE]:
        if change.model == model._meta.label and not change.before:
            found.add(change.record)
        if not change.joined:
            break
    return found
