"""Base of all stored records."""

from __future__ import annotations

import uuid
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, ClassVar, Self

from django.db import models


class StaleRecordError(Exception):
    """Raised when a record was changed by another request after it was read."""


class RecordQuerySet(models.QuerySet[Any]):
    """Records, including removed ones."""

    def live(self) -> Self:
        """Records that are not removed."""
        return self.filter(removed_at=None)


if TYPE_CHECKING:
    _Words = models.CharField[str, str]
else:
    _Words = models.CharField


class ChoiceField(_Words):
    """A word out of ``choices``, which the code decides: migrations do not hold them.

    A new chemistry, kind or source therefore changes no table.
    """

    def deconstruct(self) -> Any:
        name, path, args, kwargs = super().deconstruct()
        kwargs.pop("choices", None)
        return name, path, args, kwargs


class Record(models.Model):
    """A record that can be submitted twice, edited in two windows, removed and restored.

    ``client_key`` is generated with the empty form: submitting the same form twice makes one
    record. ``version`` increases with each change: a form opened on an older version is refused.
    ``made_by`` is the name of who entered it, empty if the site did.
    """

    client_key = models.UUIDField(default=uuid.uuid4, unique=True, editable=False)
    version = models.PositiveIntegerField(default=1, editable=False)
    created_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now=True)
    removed_at = models.DateTimeField(null=True, editable=False)
    made_by = models.CharField("entered by", max_length=80, blank=True, editable=False)

    objects = RecordQuerySet.as_manager()

    #: Names of fields too large to be kept with each change.
    HISTORY_SKIPS: ClassVar[tuple[str, ...]] = ()

    class Meta:
        abstract = True

    def sent_before(self, mine: Callable[[Self], bool]) -> Self | None:
        """The record that the same form made before; None if this one is to be stored.

        The key of a record that is not ``mine``, or was removed since, is replaced: nobody gets
        another person's record, and submitting a form again after an undo stores it again.
        """
        known: Self | None = type(self)._default_manager.filter(client_key=self.client_key).first()
        if known is not None and mine(known) and known.removed_at is None:
            return known
        if known is not None:
            self.client_key = uuid.uuid4()
        return None

    def as_stored(self) -> Self:
        """The stored record, locked until the end of the transaction.

        Raises
        ------
        StaleRecordError
            The stored version is another one.
        """
        stored: Self = type(self)._default_manager.select_for_update().get(pk=self.pk)
        if stored.version != self.version:
            raise StaleRecordError
        return stored
