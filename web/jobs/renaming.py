"""Renaming: references by name in stored documents follow a new name.

Documents refer to loads, outputs and inputs by name, as the open formats do. Names are unique
within a job or supply; a rename changes all references in the same change.
"""

from __future__ import annotations

from typing import Any

from django.apps import apps

from web.common.models import Record
from web.jobs.actions import as_one, save_change
from web.jobs.models import Job


def save_renamed(job: Job, record: Any, label: str) -> None:
    """Store a changed record and its references; one undo takes back all of it.

    Raises
    ------
    StaleRecordError
        Another request stored it after it was read here.
    """
    stored = type(record)._default_manager.filter(pk=record.pk).values_list("name", flat=True)
    before = stored.first()
    with as_one(job, label):
        save_change(job, record, label)
        if before is not None and before != record.name:
            for named in _naming(record):
                if named.rename(record, before):
                    save_change(job, named, label)


def _naming(record: Record) -> list[Any]:
    """All records that may refer to this one: of models that define ``naming``."""
    return [
        named
        for model in apps.get_models()
        if hasattr(model, "naming")
        for named in model.naming(record)
    ]


def in_list(names: list[Any], before: str, after: str) -> bool:
    """Replace a name in a list; return whether it was there."""
    found = before in names
    names[:] = [after if name == before else name for name in names]
    return found


def in_values(data: dict[str, Any], key: str, before: str, after: str) -> bool:
    """Replace a name under a key; return whether it was there."""
    if data.get(key) != before:
        return False
    data[key] = after
    return True
