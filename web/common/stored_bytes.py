"""Bytes of photos, captures and uploads: in the database, or in a storage that all servers share.

A :class:`BytesField` holds the bytes themselves. Where a storage is set (``STEADY_FILES_URL``) it
holds a reference to an object there, and the bytes are fetched once somebody asks for them; both
may lie in one table. An object is written before its row and belongs to that row alone, so that no
row is ever without its bytes. Objects that no row refers to are deleted by ``manage.py tidy``.
"""

from __future__ import annotations

import base64
import re
import uuid
from collections.abc import Iterator
from datetime import timedelta
from functools import cached_property
from typing import Any

from django.apps import apps
from django.core.exceptions import SuspiciousOperation
from django.core.files.base import ContentFile
from django.core.files.storage import Storage, storages
from django.db import models, transaction
from django.db.models.functions import Length, Substr
from django.utils import timezone

#: The storage among Django's, and the fewest bytes that go there: less stays in its column.
ALIAS, LEAST_OUTSIDE = "evidence", 2_000
#: Age from which an object without a row is deleted: until then its row may still be on its way.
UNUSED_FOR = timedelta(days=1)
_REFERENCE = re.compile(rb"\0stored:(\d{12}):([0-9a-f]{32})")
#: Bytes of a reference.
REFERENCE_BYTES = 53


class BytesUnreachableError(Exception):
    """Raised where the storage does not take or give bytes; nothing was stored then."""

    #: What is wrong, and what one can do.
    sentence = "The storage of photos and captures does not answer."
    advice = "Try again in a minute."


class BytesLostError(BytesUnreachableError):
    """Raised where the storage answers, and does not have the bytes as they were stored."""

    sentence = "The storage of photos and captures does not have this one as it was stored."
    advice = "Whoever runs this site needs to look: a backup may have it."


class InColumn(bytes):
    """Bytes that lie in their column even if a storage is set."""


def storage() -> Storage | None:
    """The storage that is set; None if bytes stay in the database."""
    return storages[ALIAS] if ALIAS in storages.backends else None


class StoredBytes:
    """Bytes in the storage, fetched when they are asked for by ``bytes``.

    Parameters
    ----------
    reference : bytes
        What the column holds.
    content : bytes or None
        The bytes, if they are at hand.
    """

    def __init__(self, reference: bytes, content: bytes | None = None) -> None:
        found = _REFERENCE.fullmatch(reference)
        if found is None:
            raise ValueError("that is no reference to stored bytes")
        self.reference = reference
        self.length, self.name = int(found[1]), _path(found[2].decode())
        if content is not None:
            self._fetched = content

    def __len__(self) -> int:
        return self.length

    def __bytes__(self) -> bytes:
        return self._fetched

    def __eq__(self, other: object) -> bool:
        if isinstance(other, StoredBytes):
            return self.reference == other.reference
        if isinstance(other, bytes | bytearray | memoryview):
            return len(other) == self.length and bytes(other) == bytes(self)
        return NotImplemented

    def __hash__(self) -> int:
        return hash(self.reference)

    @cached_property
    def _fetched(self) -> bytes:
        place = storage()
        try:
            assert place is not None, "STEADY_FILES_URL is not set"
            with place.open(self.name) as file:
                content = bytes(file.read())
        except FileNotFoundError as error:
            raise BytesLostError(f"{self.name} is not there: {error}") from error
        except Exception as error:  # Every storage has errors of its own.
            raise BytesUnreachableError(f"{self.name} was not given: {error}") from error
        if len(content) != self.length:
            raise BytesLostError(f"{self.name} has {len(content)} bytes in place of {self.length}")
        return content


def _path(name: str) -> str:
    """An object's path: no folder has all of them."""
    return f"{name[:2]}/{name}"


def _put(content: bytes, place: Storage) -> StoredBytes:
    """Write an object."""
    name = uuid.uuid4().hex
    try:
        place.save(_path(name), ContentFile(content))
    except Exception as error:  # Every storage has errors of its own.
        raise BytesUnreachableError(f"{name} was not taken: {error}") from error
    return StoredBytes(b"\0stored:%012d:%s" % (len(content), name.encode()), content)


class BytesField(models.BinaryField):  # type: ignore[type-arg]
    """Bytes that lie in the storage, if one is set and they are many; see the module."""

    def deconstruct(self) -> Any:
        """As the column that it is: where its bytes lie changes no table."""
        name, _, args, kwargs = super().deconstruct()
        return name, "django.db.models.BinaryField", args, kwargs

    def from_db_value(self, value: Any, *_: Any) -> Any:
        """The bytes, or what fetches them."""
        if value is None or len(value) != REFERENCE_BYTES:
            return value
        return StoredBytes(bytes(value)) if _REFERENCE.fullmatch(bytes(value)) else value

    def pre_save(self, model_instance: models.Model, add: bool) -> Any:
        """What its column is to hold; a new row writes an object of its own."""
        value = getattr(model_instance, self.attname)
        if isinstance(value, StoredBytes) and add:
            value = bytes(value)
        value = self._placed(value)
        setattr(model_instance, self.attname, value)
        return value

    def get_db_prep_save(self, value: Any, connection: Any) -> Any:
        return super().get_db_prep_save(self._placed(value), connection)

    def get_prep_value(self, value: Any) -> Any:
        return value.reference if isinstance(value, StoredBytes) else value

    def value_to_string(self, obj: models.Model) -> str:
        value = self.value_from_object(obj)
        return "" if value is None else base64.b64encode(bytes(value)).decode()

    @staticmethod
    def _placed(value: Any) -> Any:
        """Bytes put where they are to lie."""
        if isinstance(value, InColumn) or not isinstance(value, bytes | bytearray | memoryview):
            return value
        content, place = bytes(value), storage()
        if _REFERENCE.fullmatch(content):
            raise SuspiciousOperation("These bytes look like a reference to others.")
        return content if place is None or len(content) < LEAST_OUTSIDE else _put(content, place)


def bytes_fields() -> Iterator[tuple[type[models.Model], str]]:
    """Every model with a field of stored bytes, and the field's name."""
    for model in apps.get_models():
        for field in model._meta.concrete_fields:
            if isinstance(field, BytesField):
                yield model, field.name


def references(records: models.QuerySet[Any], field: str) -> Iterator[StoredBytes]:
    """What a field of some records refers to in the storage."""
    whole = Substr(field, 1, REFERENCE_BYTES, output_field=models.BinaryField())
    found = records.annotate(length_of=Length(field), whole=whole)
    for content in found.filter(length_of=REFERENCE_BYTES).values_list("whole", flat=True):
        if _REFERENCE.fullmatch(bytes(content)):
            yield StoredBytes(bytes(content))


def move_bytes(back: bool = False) -> Iterator[int]:
    """Move what lies in columns into the storage, or ``back``; yield each one's bytes once moved.

    One row at a time, which nobody changes meanwhile, so that the site may run.
    """
    for model, field in bytes_fields():
        rows = model._base_manager.annotate(length_of=Length(field))
        wanted = (
            rows.filter(length_of=REFERENCE_BYTES)
            if back
            else rows.filter(length_of__gte=LEAST_OUTSIDE)
        )
        for pk in list(wanted.values_list("pk", flat=True)):
            with transaction.atomic():
                row = model._base_manager.select_for_update().filter(pk=pk)
                content = row.values_list(field, flat=True).first()
                if content is None or isinstance(content, StoredBytes) is not back:
                    continue
                whole = bytes(content)
                row.update(**{field: InColumn(whole) if back else whole})
            yield len(whole)


def forget_unused_bytes() -> int:
    """Delete the objects that no row refers to; return how many these were."""
    place = storage()
    if place is None:
        return 0
    before, paths = timezone.now() - UNUSED_FOR, set(_paths(place))
    # After the objects: what a row refers to meanwhile is seen.
    for model, field in bytes_fields():
        paths -= {stored.name for stored in references(model._base_manager.all(), field)}
    unused = [path for path in sorted(paths) if place.get_modified_time(path) < before]
    for path in unused:
        place.delete(path)
    return len(unused)


def _paths(place: Storage) -> Iterator[str]:
    """Paths of all objects."""
    try:
        folders, _ = place.listdir("")
    except FileNotFoundError:  # Nothing was ever put into it.
        return
    for folder in folders:
        yield from (f"{folder}/{name}" for name in place.listdir(folder)[1])
