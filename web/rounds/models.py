"""A measuring round: what is at hand, and its steps as planned, done, skipped."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from django.core.exceptions import ValidationError
from django.db import models
from django.utils import timezone

from needle.measure.instruments import Instrument
from needle.round.visit import CarriedMeter, Visit
from web.common.models import Record
from web.jobs.models import Job
from web.plans.models import Plan

TARGETS = {"plan": "steady the plan", "grades": "grade B for all"}
#: What became of a step.
PLANNED, STARTED, DONE, SKIPPED, IMPOSSIBLE = "", "started", "done", "skipped", "impossible"
STATES = {
    STARTED: "started", DONE: "done", SKIPPED: "skipped", IMPOSSIBLE: "cannot be done",
}  # fmt: skip


class MeasuringRound(Record):
    """One visit; its steps are what was planned last, and what became of those before."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="rounds")
    plan = models.ForeignKey(Plan, on_delete=models.CASCADE, null=True, related_name="+")
    begins = models.DateTimeField("from", default=timezone.now)
    ends = models.DateTimeField("until")
    meters = models.JSONField(default=list)
    keep_plugged = models.JSONField(default=list)
    qualified = models.BooleanField(default=False)
    target = models.CharField(max_length=8, default="plan", choices=list(TARGETS.items()))
    steps = models.JSONField(default=list)
    before_h = models.JSONField(default=list)
    told = models.JSONField(default=dict)
    planned_at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["-begins", "-pk"]

    def __str__(self) -> str:
        return f"Round of {timezone.localtime(self.begins):%d %b %H:%M}"

    def clean(self) -> None:
        if self.ends and self.begins and self.ends <= self.begins:
            raise ValidationError({"ends": "It ends before it begins."})

    @property
    def over(self) -> bool:
        return timezone.now() >= self.ends

    def steps_in(self, *states: str) -> list[dict[str, Any]]:
        return [step for step in self.steps if step["state"] in states]

    def _kept(self) -> frozenset[str]:
        """Names of loads that stay plugged in, also as a plan tells two of one name apart."""
        kept = set(self.keep_plugged)
        alike = self.job.loads.live().filter(name__in=kept)
        return frozenset(kept | {f"{load.name} ({load.pk})" for load in alike})

    def visit(self, at: datetime, instruments: Sequence[tuple[str, Instrument]]) -> Visit:
        """What is left of the visit at a moment, with meters that are in use."""
        busy = tuple(
            (step["meter"], max(at, datetime.fromisoformat(step["last"])))
            for step in self.steps_in(STARTED)
        )
        return Visit(
            begins=at, ends=self.ends,
            meters=tuple(CarriedMeter(name, instrument) for name, instrument in instruments),
            keep_plugged=self._kept(), qualified=self.qualified,
            target=self.target, busy=busy,
            impossible=frozenset(
                key
                for step in self.steps_in(STARTED, SKIPPED, IMPOSSIBLE)
                for key in _keys_like(step["key"])
            ),
        )  # fmt: skip


def _keys_like(key: str) -> list[str]:
    """The key of a step, and of the others that would say the same of its load."""
    what, _, subject = key.partition(": ")
    same = ("counter", "spot", "task") if what in ("counter", "spot", "task") else (what,)
    return [f"{other}: {subject}" for other in same]
