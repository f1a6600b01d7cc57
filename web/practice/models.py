"""A try at a drill: its user, drill, actions and answer."""

from __future__ import annotations

import uuid
from typing import Any, Self

from django.conf import settings
from django.db import models

from needle.drill.drill import Drill, parse_drill
from needle.drill.session import Session, played


class DrillRunQuerySet(models.QuerySet[Any]):
    def visible_to(self, user: Any) -> Self:
        """A learner's own tries."""
        return self.filter(owner=user)


class DrillRun(models.Model):
    """A try. ``shipped`` is the number of a built-in drill, 0 for a teacher's."""

    owner = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="drill_runs"
    )
    client_key = models.UUIDField(default=uuid.uuid4, unique=True, editable=False)
    shipped = models.PositiveSmallIntegerField(default=0)
    document = models.JSONField()
    doings = models.JSONField(default=list)
    answer = models.JSONField(null=True)
    outcome = models.JSONField(null=True)
    made_at = models.DateTimeField(auto_now_add=True)

    objects = DrillRunQuerySet.as_manager()

    class Meta:
        ordering = ["-made_at", "-pk"]

    def __str__(self) -> str:
        return str(self.document.get("name", "Drill"))

    def drill(self) -> Drill:
        return parse_drill(self.document)

    def session(self) -> Session:
        return played(self.drill(), self.doings)
