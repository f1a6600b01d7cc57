"""What every stored thing of a job has in common."""

from __future__ import annotations

import uuid
from collections.abc import Callable
from typing import Any, ClassVar, Self

from django.db import models


class StaleRecordError(Exception):
    """Another hand stored a record after it was read here: nothing is written over that."""


class RecordQuerySet(models.QuerySet[Any]):
    """Records, those removed included unless asked for."""

    def live(self) -> Self:
        """Not removed."""
        return self.filter(removed_at=None)


class Record(models.Model):
    """A stored thing that can be sent twice, edited in two windows, removed and brought back.

    ``client_key`` is drawn with the empty form: the same form sent twice makes one record.
    ``version`` rises with each change: a form that was opened on an older one is refused.
    """

    client_key = models.UUIDField(default=uuid.uuid4, unique=True, editable=False)
    version = models.PositiveIntegerField(default=1, editable=False)
    created_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now=True)
    removed_at = models.DateTimeField(null=True, editable=False)

    objects = RecordQuerySet.as_manager()

    #: Names of fields too large to be kept with each change.
    HISTORY_SKIPS: ClassVar[tuple[str, ...]] = ()

    class Meta:
        abstract = True

    def sent_before(self, mine: Callable[[Self], bool]) -> Self | None:
        """The record that the same form made before; None where this one is to be stored.

        A key of what is not ``mine``, or was taken out since, is replaced: nobody is handed
        another's record, and who sends a form again after an undo wants it back.
        """
        known: Self | None = type(self)._default_manager.filter(client_key=self.client_key).first()
        if known is not None and mine(known) and known.removed_at is None:
            return known
        if known is not None:
            self.client_key = uuid.uuid4()
        return None

    def as_stored(self) -> Self:
        """The record as it is stored, kept from others to the end of the transaction.

        Raises
        ------
        ChangedMeanwhile
            It is another version than this.
        """
        stored: Self = type(self)._default_manager.select_for_update().get(pk=self.pk)
        if stored.version != self.version:
            raise StaleRecordError
        return stored
