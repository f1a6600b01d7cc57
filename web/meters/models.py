"""A person's own meters."""

from __future__ import annotations

from typing import Any, Self

from django.conf import settings
from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models

from needle.measure.instruments import INSTRUMENTS, Instrument
from needle.measure.meters import parse_meters
from web.common.models import ChoiceField, Record, RecordQuerySet
from web.common.validation import refused_by_core

KINDS = {key: instrument.name for key, instrument in INSTRUMENTS.items()}


def _given(values: dict[str, Any]) -> dict[str, Any]:
    return {key: value for key, value in values.items() if value is not None}


class MeterQuerySet(RecordQuerySet):
    def visible_to(self, user: Any) -> Self:
        """A user's own meters."""
        return self.live().filter(owner=user)


class Meter(Record):
    """A person's own meter: its stated properties, and its comparison with another.

    Empty fields are as usual for its class. ``pairs`` has its W and those of ``against`` on the
    same loads at the same times.
    """

    owner = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="meters"
    )
    name = models.CharField(max_length=60)
    kind = ChoiceField(max_length=12, choices=list(KINDS.items()))
    limit = models.FloatField(
        "accuracy",
        null=True,
        blank=True,
        validators=[MinValueValidator(0), MaxValueValidator(0.5)],
    )
    counts = models.FloatField(
        "and digits",
        null=True,
        blank=True,
        validators=[MinValueValidator(0), MaxValueValidator(100)],
    )
    step_w = models.FloatField("last digit of W", null=True, blank=True)
    step_wh = models.FloatField("last digit of Wh", null=True, blank=True)
    least_w = models.FloatField("least W", null=True, blank=True)
    most_a = models.FloatField("most A", null=True, blank=True)
    base_w = models.FloatField("draws itself", null=True, blank=True)
    shows = models.JSONField(default=list, blank=True)
    fast_inrush = models.BooleanField("holds the peak of a start", default=False)
    logs = models.BooleanField("records by itself", default=False)
    against = models.ForeignKey(
        "self", on_delete=models.SET_NULL, null=True, blank=True, related_name="compared"
    )
    pairs = models.JSONField(default=list, blank=True)
    formerly = models.JSONField(default=list, blank=True, help_text="Names that it had.")
    note = models.CharField(max_length=400, blank=True)

    objects = MeterQuerySet.as_manager()  # type: ignore[misc]

    class Meta:
        ordering = ["name", "pk"]

    def __str__(self) -> str:
        return self.name

    def clean(self) -> None:
        with refused_by_core():
            parse_meters([self.to_document(compared=False)])

    def to_document(self, compared: bool = True) -> dict[str, Any]:
        """The meter as in open documents."""
        steps = {"watts": self.step_w, "wh": self.step_wh}
        document = {
            "name": self.name,
            "kind": self.kind,
            "limit": self.limit,
            "counts": self.counts,
            "steps": _given(steps) or None,
            "least_w": self.least_w,
            "most_a": self.most_a,
            "base_w": self.base_w,
            "formerly": self.formerly or None,
            "shows": self.shows or None,
            "fast_inrush": self.fast_inrush,
            "logs": self.logs,
        }
        if compared and self.pairs:
            document |= {"pairs": self.pairs, "against": self.against.name if self.against else ""}
        return _given(document)


def in_order(meters: list[Meter]) -> list[Meter]:
    """Meters in an order in which each follows the one that it was compared with."""
    ordered: list[Meter] = []
    waiting = list(meters)
    while waiting:
        ready = [meter for meter in waiting if meter.against not in waiting]
        # Two that were compared with each other: the first is taken as it states itself.
        ordered += ready or waiting[:1]
        waiting = [meter for meter in waiting if meter not in ordered]
    return ordered


def documents_of(meters: list[Meter]) -> list[dict[str, Any]]:
    """Their documents; each refers only to earlier ones."""
    documents: list[dict[str, Any]] = []
    for meter in in_order(meters):
        before = {document["name"] for document in documents}
        if meter.name in before:
            # Two hands at once made two of a name: the first counts until one is renamed.
            continue
        against = meter.against
        document = meter.to_document(compared=against is None or against.name in before)
        documents.append(document)
    return documents


def with_names(owner: Any, names: set[str]) -> list[Meter]:
    """A person's meters with these names, present or former, and those they were compared with."""
    live = list(Meter.objects.visible_to(owner).select_related("against"))
    used = [meter for meter in live if names & {meter.name, *meter.formerly}]
    for meter in used:
        if meter.against in live and meter.against not in used:
            used.append(meter.against)
    return in_order(used)


def documents_naming(owner: Any, names: set[str]) -> list[dict[str, Any]]:
    """Documents of the meters with these names; empty if there are none."""
    return documents_of(with_names(owner, names)) if names else []


def meters_of(owner: Any) -> dict[str, Instrument]:
    """A person's meters by name, as core instruments."""
    live = list(Meter.objects.visible_to(owner).select_related("against"))
    return parse_meters(documents_of(live))
