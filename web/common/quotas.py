"""What one person may store at most: counted by the models that store it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.apps import apps
from django.db.models import Sum
from django.db.models.functions import Coalesce, Length

from needle.document import DocumentError
from web.common.stored_bytes import REFERENCE_BYTES, BytesField, references, storage


class QuotaExceededError(DocumentError):
    """Raised before something is stored that would exceed its owner's quota."""

    def __init__(self, quota: Quota) -> None:
        super().__init__(
            "", f"your {quota.what} take {quota.words}: remove some first, nothing was stored"
        )


@dataclass(frozen=True)
class Quota:
    """How much of a kind one person stores, and may store; of bytes or of things.

    A model that counts towards one has a class method ``quota_of`` that takes the person.
    """

    what: str
    used: int
    most: int
    bytes: bool = False

    @property
    def words(self) -> str:
        if not self.bytes:
            return f"{self.used:,} of {self.most:,}"
        return f"{self.used / 1e6:.1f} of {self.most / 1e6:,.0f} MB"

    def refuse_more(self, more: int) -> None:
        """Raise :class:`QuotaExceededError` if ``more`` would be too much."""
        if self.used + more > self.most:
            raise QuotaExceededError(self)


def quotas_of(person: Any) -> list[Quota]:
    """All quotas of a person, for the account page."""
    counting = (model for model in apps.get_models() if hasattr(model, "quota_of"))
    return [model.quota_of(person) for model in counting]


def bytes_of(records: Any, *fields: str) -> int:
    """Bytes in fields of records, wherever they lie."""
    total: int = 0
    for name in fields:
        assert isinstance(records.model._meta.get_field(name), BytesField)
        total += records.aggregate(total=Coalesce(Sum(Length(name)), 0))["total"]
        if storage() is not None:
            total += sum(len(one) - REFERENCE_BYTES for one in references(records, name))
    return total
