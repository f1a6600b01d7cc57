"""Day plans, and how each uses the job's loads."""

from __future__ import annotations

from datetime import datetime

from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models
from django.utils import timezone

from needle.plan.plan import MOST_HOURS
from web.common.models import Record
from web.jobs.models import Job
from web.loads.models import Load
from web.supplies.models import Supply


def this_evening() -> datetime:
    """When a new plan begins: today at 18:00."""
    return timezone.localtime().replace(hour=18, minute=0, second=0, microsecond=0)


class Plan(Record):
    """Loads on a supply, from a moment on, for the hours needed.

    A load of the job without an entry is taken in and used as its kind usually is: a plan is
    never silently missing a load that was added later.
    """

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="plans")
    name = models.CharField(max_length=80)
    supply = models.ForeignKey(
        Supply, on_delete=models.SET_NULL, null=True, blank=True, related_name="plans"
    )
    start = models.DateTimeField(default=this_evening)
    needed_hours = models.FloatField(
        default=24.0, validators=[MinValueValidator(0.1), MaxValueValidator(MOST_HOURS)]
    )
    room_c = models.FloatField(null=True, blank=True)
    start_charge = models.FloatField(default=1.0)
    floor = models.FloatField(null=True, blank=True)
    is_current = models.BooleanField(default=False, help_text="The answer bar speaks of it.")
    note = models.CharField(max_length=400, blank=True)

    class Meta:
        ordering = ["pk"]
        constraints = [
            models.UniqueConstraint(
                fields=["job"], condition=models.Q(is_current=True), name="one_current_plan"
            )
        ]

    def __str__(self) -> str:
        return self.name


class PlanEntry(Record):
    """How a plan uses one load: left out, or in use always or between times of day."""

    plan = models.ForeignKey(Plan, on_delete=models.CASCADE, related_name="entries")
    load = models.ForeignKey(Load, on_delete=models.CASCADE, related_name="entries")
    taken_in = models.BooleanField(default=True)
    windows = models.JSONField(
        default=list, blank=True, help_text='[["18:00", "22:30"], …]; empty for always.'
    )
    count = models.PositiveSmallIntegerField(
        default=1, validators=[MinValueValidator(1), MaxValueValidator(100)]
    )

    class Meta:
        verbose_name_plural = "plan entries"
        constraints = [models.UniqueConstraint(fields=["plan", "load"], name="one_entry_a_load")]

    def __str__(self) -> str:
        return f"{self.load} in {self.plan}"
