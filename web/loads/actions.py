"""All changes of loads and readings, for views, demo and imports."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, TypeVar

from django.apps import apps
from django.utils import timezone

from needle.measure.readings import parse
from web.common.models import Record
from web.jobs.actions import as_one, job_grew, remove, save_change, save_new
from web.jobs.models import IN_BIN, Job
from web.jobs.renaming import save_renamed
from web.loads.models import Load, Photo, Reading
from web.loads.photos import Picture

R = TypeVar("R", bound=Record)


def add_load(load: Load, label: dict[str, Any] | None = None, plan: int | None = None) -> Load:
    """Store a new load together with its label reading.

    It is added to one plan: the one with the key ``plan``, else the job's current plan.
    """
    with as_one(load.job, f"Added {load.name}"):
        stored, created = save_new(load.job, load, f"Added {load.name}")
        if created:
            join_plan(stored, plan)
        if created and label:
            add_reading(stored, "label", label)
    return stored


@dataclass(frozen=True)
class WalkedLoad:
    """A load of a walk: not stored yet, with its reading (type, data, note) and photo, if any."""

    load: Load
    reading_type: str = ""
    data: dict[str, Any] | None = None
    picture: Picture | None = None
    note: str = ""


def add_walked(job: Job, walked: Sequence[WalkedLoad]) -> list[Load]:
    """Store the loads of a walk with their readings and photos; undone as one."""
    with as_one(job, f"Added {', '.join(one.load.name for one in walked)}"):
        for one in walked:
            save_new(job, one.load, f"Added {one.load.name}")
            join_plan(one.load)
            if one.data:
                add_reading(
                    one.load, one.reading_type, one.data, note=one.note, picture=one.picture
                )
        job_grew(job)
    return [one.load for one in walked]


def join_plan(load: Load, plan: int | None = None) -> None:
    """Include a new load in one plan, and exclude it from all others."""
    for model in apps.get_models():
        if hasattr(model, "load_came"):
            with as_one(load.job, f"Added {load.name}"):
                model.load_came(load, plan)


def take_along(job: Job, loads: Sequence[Load]) -> list[Load]:
    """Copy loads of other jobs, with their readings and photos; undone as one.

    A reading that used its job's mains voltage keeps it, if it differs in this job.
    """
    names = set(job.loads.live().values_list("name", flat=True))
    copies = []
    with as_one(job, f"Took along {', '.join(load.name for load in loads)}"):
        for load in loads:
            copy = _copied(load, job=job, name=_free_name(load, names))
            names.add(copy.name)
            save_new(job, copy, f"Added {copy.name}")
            join_plan(copy)
            for reading in load.readings.live():
                data = with_volts(reading.data, load.mains_v, copy.mains_v)
                taken = _copied(reading, load=copy, data=data)
                save_new(job, taken, f"{copy.name}: {reading.get_type_display()} saved")
                for photo in reading.photos.live():
                    save_new(job, _copied(photo, reading=taken), f"Kept a photo of {copy.name}")
            copies.append(copy)
    return copies


def copy_load(load: Load) -> Load:
    """One more load like this one in the same job, with its readings but no photos."""
    names = set(load.job.loads.live().values_list("name", flat=True))
    stem = load.name[:70]
    numbered = (f"{stem} {number}" for number in range(2, 1000))
    name = next(other for other in numbered if other not in names)
    copy = _copied(load, name=name)
    with as_one(load.job, f"Added {name}, like {load.name}"):
        save_new(load.job, copy, f"Added {name}")
        join_plan(copy)
        for reading in load.readings.live():
            save_new(load.job, _copied(reading, load=copy), f"{name}: a reading saved")
    return copy


def _copied(record: R, **changed: Any) -> R:
    """A new record with another's fields, except for those given."""
    own = ("id", "client_key", "version", "created_at", "changed_at", "removed_at")
    fields = {
        field.name: getattr(record, field.name)
        for field in record._meta.concrete_fields
        if field.name not in own and field.name not in changed
    }
    return type(record)(**fields, **changed)


def _free_name(load: Load, taken: set[str]) -> str:
    if load.name not in taken:
        return load.name
    named = f"{load.name}, {load.job.name}"[:76]
    return next(
        name
        for number in range(1, 1000)
        if (name := named if number == 1 else f"{named} {number}") not in taken
    )


def with_volts(data: dict[str, Any], there_v: float, here_v: float) -> dict[str, Any]:
    """A reading's data with the other job's volts, if these differ here."""
    if there_v != here_v and "amps" in data and "volts" not in data:
        return {**data, "volts": there_v}
    return data


def change_load(load: Load) -> None:
    save_renamed(load.job, load, f"Changed {load.name}")


def change_cord(load: Load) -> None:
    save_change(load.job, load, f"Changed the cord of {load.name}")


def put_off(load: Load, reason: str) -> None:
    """Postpone a load's open measurements, with a reason; an empty reason resumes them."""
    load.put_off = reason
    does = f"Put off measuring {load.name}" if reason else f"Took measuring {load.name} up again"
    save_change(load.job, load, does)


def forget_old_photos() -> None:
    """Delete the bytes of photos that were removed more than a month ago."""
    Photo.objects.filter(removed_at__lt=timezone.now() - IN_BIN).delete()


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
    picture: Picture | None = None,
) -> Reading:
    """Store a reading; ``data`` has the document's keys.

    Raises
    ------
    needle.document.DocumentError
        The core refuses it.
    """
    parse({"type": type, **data})
    reading = Reading(
        load=load,
        type=type,
        data=data,
        read_at=read_at,
        note=note,
        client_key=client_key or uuid.uuid4(),
    )
    label = f"{load.name}: {reading.get_type_display()} saved"
    if picture is None:
        return save_new(load.job, reading, label)[0]
    with as_one(load.job, label):
        stored, created = save_new(load.job, reading, label)
        if created:
            add_photo(stored, picture)
    return stored


def add_photo(reading: Reading, picture: Picture) -> Photo:
    """Store a photo of a reading.

    Raises
    ------
    QuotaExceededError
    """
    owner = reading.load.job.owner
    Photo.quota_of(owner).refuse_more(len(picture.large) + len(picture.small))
    photo = Photo(
        reading=reading,
        large=picture.large,
        small=picture.small,
        width=picture.width,
        height=picture.height,
    )
    label = f"Kept a photo of {reading.load.name}"
    return save_new(reading.load.job, photo, label)[0]


def remove_photo(photo: Photo) -> None:
    remove(photo.reading.load.job, photo, f"Removed a photo of {photo.reading.load.name}")


def change_reading(
    reading: Reading,
    data: dict[str, Any],
    read_at: datetime | None,
    note: str,
    picture: Picture | None = None,
) -> None:
    """Replace a reading's data; a photo is added to those it has."""
    parse({"type": reading.type, **data})
    reading.data, reading.read_at, reading.note = data, read_at, note
    label = f"Changed: {reading.get_type_display()} of {reading.load.name}"
    with as_one(reading.load.job, label):
        save_change(reading.load.job, reading, label)
        if picture is not None:
            add_photo(reading, picture)


def remove_reading(reading: Reading) -> None:
    label = f"Removed: {reading.get_type_display()} of {reading.load.name}"
    remove(reading.load.job, reading, label)
