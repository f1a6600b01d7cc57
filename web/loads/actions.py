"""What changes loads and readings: one function each, used by views, demo and imports alike."""

from __future__ import annotations

import uuid
from datetime import datetime
from typing import Any

from django.db import transaction

from needle.measure.readings import parse
from web.jobs.actions import remove, save_change, save_new
from web.loads.models import Load, Reading


def add_load(load: Load, label: dict[str, Any] | None = None) -> Load:
    """Store a new load together with the label reading it came with."""
    with transaction.atomic():
        stored, created = save_new(load.job, load, f"Added {load.name}")
        if created and label:
            add_reading(stored, "label", label)
    return stored


def change_load(load: Load) -> None:
    save_change(load.job, load, f"Changed {load.name}")


def change_cord(load: Load) -> None:
    save_change(load.job, load, f"Changed the cord of {load.name}")


def remove_load(load: Load) -> None:
    remove(load.job, load, f"Removed {load.name}")


def add_reading(
    load: Load,
    type: str,
    data: dict[str, Any],
    *,
    read_at: datetime | None = None,
    note: str = "",
    client_key: uuid.UUID | None = None,
) -> Reading:
    """Store a reading as it was seen; ``data`` holds the document's keys.

    Raises
    ------
    needle.document.DocumentError
        The core does not take it.
    """
    parse({"type": type, **data})
    reading = Reading(
        load=load, type=type, data=data, read_at=read_at, note=note,
        client_key=client_key or uuid.uuid4(),
    )  # fmt: skip
    label = f"Kept: {reading.get_type_display()} of {load.name}"
    return save_new(load.job, reading, label)[0]


def change_reading(
    reading: Reading, data: dict[str, Any], read_at: datetime | None, note: str
) -> None:
    """Replace what a reading says."""
    parse({"type": reading.type, **data})
    reading.data, reading.read_at, reading.note = data, read_at, note
    label = f"Changed: {reading.get_type_display()} of {reading.load.name}"
    save_change(reading.load.job, reading, label)


def remove_reading(reading: Reading) -> None:
    label = f"Removed: {reading.get_type_display()} of {reading.load.name}"
    remove(reading.load.job, reading, label)
