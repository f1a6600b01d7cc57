"""A measuring round: what is at hand, and its steps."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from django.core.exceptions import ValidationError
from django.db import models
from django.utils import timezone

from needle.measure.instruments import Instrument
from needle.round.candidate import OF_THE_MEAN, TALLY
from needle.round.visit import CarriedMeter, Visit
from web.common.models import ChoiceField, Record
from web.jobs.models import Job
from web.jobs.renaming import in_list, in_values
from web.loads.models import Load
from web.plans.models import Plan

TARGETS = {"plan": "steady the plan", "grades": "grade B for all"}
#: What became of a step.
PLANNED, STARTED, DONE, SKIPPED, IMPOSSIBLE = "", "started", "done", "skipped", "impossible"
STATES = {
    STARTED: "started",
    DONE: "done",
    SKIPPED: "skipped",
    IMPOSSIBLE: "cannot be done",
}


class MeasuringRound(Record):
    """A visit; its steps are the latest plan, and those already done or skipped."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="rounds")
    plan = models.ForeignKey(Plan, on_delete=models.SET_NULL, null=True, related_name="+")
    begins = models.DateTimeField("from", default=timezone.now)
    ends = models.DateTimeField("until")
    meters = models.JSONField(default=list)
    keep_plugged = models.JSONField(default=list)
    qualified = models.BooleanField(default=False)
    target = ChoiceField(max_length=8, default="plan", choices=list(TARGETS.items()))
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

    @classmethod
    def naming(cls, record: Record) -> models.QuerySet[MeasuringRound]:
        """Rounds that may refer to a load."""
        if not isinstance(record, Load):
            return cls.objects.none()
        return cls.objects.filter(job=record.job)

    def rename(self, record: Load, before: str) -> bool:
        """Update a load's name; return whether it was referred to."""
        found = in_list(self.keep_plugged, before, record.name)
        for step in self.steps:
            what, _, subject = step["key"].partition(": ")
            if subject == before:
                step["key"] = f"{what}: {record.name}"
            found = in_values(step, "load", before, record.name) or found
            found = in_list(step.get("loads", []), before, record.name) or found
            for part in ("do", "end"):
                figures = (step.get(part) or {}).get("figures", {})
                in_values(figures, "subject", before, record.name)
                in_list(figures.get("loads", []), before, record.name)
        return found

    def visit(self, at: datetime, instruments: Sequence[tuple[str, Instrument]]) -> Visit:
        """The rest of the visit at a moment, with meters in use."""
        busy = tuple(
            (step["meter"], max(at, datetime.fromisoformat(step["last"])))
            for step in self.steps_in(STARTED)
        )
        return Visit(
            begins=at,
            ends=self.ends,
            meters=tuple(CarriedMeter(name, instrument) for name, instrument in instruments),
            keep_plugged=frozenset(self.keep_plugged),
            qualified=self.qualified,
            target=self.target,
            busy=busy,
            impossible=frozenset(
                key for step in self.steps for key in _kept_off(step["key"], step["state"])
            ),
        )


def _kept_off(key: str, state: str) -> list[str]:
    """Keys of measurements that are not planned again after a step."""
    what, _, subject = key.partition(": ")
    if state == PLANNED:
        return []
    if state == DONE or what not in OF_THE_MEAN:
        return [key]
    # While a mean is on its way, and where a plug shall stay in, no other way to it is planned;
    # ears need no plug.
    alike = [
        other for other in OF_THE_MEAN if state == STARTED or (other == TALLY) == (what == TALLY)
    ]
    return [f"{other}: {subject}" for other in alike]
