"""Trials and their check-ins."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.db import models
from django.utils import timezone

from needle.trial.trial import Trial as CoreTrial
from needle.trial.trial import parse_check_ins, parse_trial
from web.common.models import Record, RecordQuerySet
from web.common.validation import ROOM_C, in_our_time, refused_by_core
from web.jobs.models import Job
from web.plans.models import Plan
from web.supplies.models import Supply

ENDS = {
    "floor": "reached its floor",
    "cutoff": "cut off by itself",
    "trip": "tripped",
    "by hand": "ended by hand",
}


class TrialQuerySet(RecordQuerySet):
    """Trials of a job."""

    def with_check_ins(self) -> TrialQuerySet:
        """With their live check-ins, in one further query."""
        return self.prefetch_related(
            models.Prefetch("check_ins", CheckIn.objects.live(), to_attr="live_check_ins")
        )


class Trial(Record):
    """A run of a supply. What was believed of it at the start is kept as it was: ``believed``.

    ``expected`` holds the W at the battery that the plan foretold; both have the document's keys.
    """

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="trials")
    name = models.CharField(max_length=80)
    plan = models.ForeignKey(
        Plan, on_delete=models.SET_NULL, null=True, blank=True, related_name="trials"
    )
    supply = models.ForeignKey(
        Supply, on_delete=models.SET_NULL, null=True, blank=True, related_name="trials"
    )
    started_at = models.DateTimeField("started at", default=timezone.now, validators=[in_our_time])
    start_charge = models.FloatField(default=1.0)
    stop_at = models.FloatField(default=0.1)
    believed = models.JSONField(default=dict)
    expected = models.JSONField(default=dict)
    room_c = models.FloatField("room", null=True, blank=True, validators=ROOM_C)
    contents = models.CharField(max_length=200, blank=True)
    ended_at = models.DateTimeField("ended at", null=True, blank=True, validators=[in_our_time])
    ended_why = models.CharField(max_length=8, blank=True, choices=list(ENDS.items()))
    simulated_seed = models.PositiveIntegerField(null=True, blank=True)
    note = models.CharField(max_length=400, blank=True)

    objects = TrialQuerySet.as_manager()  # type: ignore[misc]

    class Meta:
        ordering = ["-started_at", "-pk"]

    def __str__(self) -> str:
        return self.name

    @property
    def running(self) -> bool:
        return self.ended_at is None

    def known_check_ins(self) -> list[CheckIn]:
        """Live check-ins by time, from the prefetch where there is one."""
        if not hasattr(self, "live_check_ins"):
            self.live_check_ins = list(self.check_ins.live()) if self.pk else []
        return sorted(self.live_check_ins, key=lambda one: (one.at, one.pk or 0))

    def hours_to(self, moment: datetime) -> float:
        """Hours from the start to a moment."""
        return (moment - self.started_at).total_seconds() / 3600

    def to_document(self) -> dict[str, Any]:
        """The trial as the open document of ``docs/formats.md``."""
        document: dict[str, Any] = {
            "name": self.name,
            "supply": self.believed,
            "start_charge": self.start_charge,
            "stop_at": self.stop_at,
            "check_ins": [
                {"h": round(self.hours_to(check_in.at), 4), **check_in.data}
                for check_in in self.known_check_ins()
            ],
        }
        if self.expected:
            document["expected_w"] = self.expected
        if self.ended_at is not None:
            hours = round(self.hours_to(self.ended_at), 4)
            document["ended"] = {"h": hours, "why": self.ended_why}
        return document

    def to_core(self) -> CoreTrial:
        return parse_trial(self.to_document())


class CheckIn(Record):
    """What was seen at one moment of a trial: ``data`` holds the open document's keys."""

    trial = models.ForeignKey(Trial, on_delete=models.CASCADE, related_name="check_ins")
    at = models.DateTimeField(default=timezone.now, validators=[in_our_time])
    data = models.JSONField(default=dict)

    class Meta:
        ordering = ["at", "pk"]

    def __str__(self) -> str:
        return f"check-in of {self.trial}"

    def clean(self) -> None:
        with refused_by_core():
            parse_check_ins([{"h": 0.0, **self.data}])
