"""Day plans, and how each uses the job's loads."""

from __future__ import annotations

import uuid
from datetime import UTC, datetime
from typing import Any

from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models
from django.utils import timezone

from needle.moments import parse_windows
from needle.plan.documents.use import check_use
from needle.plan.plan import MOST_HOURS
from needle.plan.sources.registry import KINDS, parse_sources
from web.common.models import ChoiceField, Record
from web.common.validation import CONTENTS_C, ROOM_C, SHARE, in_our_time, refused_by_core
from web.jobs.actions import save_new
from web.jobs.models import Job
from web.jobs.renaming import in_values
from web.loads.models import Load
from web.supplies.models import Input, Output, Supply


def this_evening() -> datetime:
    """Default start of a new plan: today at 18:00."""
    return timezone.localtime().replace(hour=18, minute=0, second=0, microsecond=0)


class Plan(Record):
    """Loads on a supply, from a start for the hours needed.

    A load of the job without an entry is included, with its usual use. A load added later is
    included in one plan (:meth:`load_came`); the other plans get an entry that leaves it out.
    """

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="plans")
    name = models.CharField(max_length=80)
    supply = models.ForeignKey(
        Supply, on_delete=models.SET_NULL, null=True, blank=True, related_name="plans"
    )
    start = models.DateTimeField(default=this_evening, validators=[in_our_time])
    needed_hours = models.FloatField(
        default=24.0, validators=[MinValueValidator(0.1), MaxValueValidator(MOST_HOURS)]
    )
    room_c = models.FloatField(null=True, blank=True, validators=ROOM_C)
    room_swing_c = models.FloatField(
        null=True, blank=True, validators=[MinValueValidator(0), MaxValueValidator(40)]
    )
    odds = models.FloatField(default=0.9, validators=SHARE)
    inverter_off = models.JSONField(
        default=list, blank=True, help_text='[["23:00", "06:00"], …] in which it rests.'
    )
    start_charge = models.FloatField(default=1.0, validators=SHARE)
    floor = models.FloatField(null=True, blank=True, validators=SHARE)
    is_current = models.BooleanField(default=False, help_text="The answer bar speaks of it.")
    note = models.CharField(max_length=400, blank=True)

    class Meta:
        ordering = ["pk"]
        constraints = [
            models.UniqueConstraint(
                fields=["job"],
                condition=models.Q(is_current=True, removed_at=None),
                name="one_current_plan",
            )
        ]

    def __str__(self) -> str:
        return self.name

    def clean(self) -> None:
        with refused_by_core():
            parse_windows(self.inverter_off, "inverter_off", UTC)

    @classmethod
    def default_of(cls, job: Job) -> Plan:
        """The plan that is shown until a job has one; storing it twice stores it once."""
        key = uuid.uuid5(uuid.NAMESPACE_OID, f"first plan of job {job.pk}")
        return cls(job=job, name="Outage", is_current=True, client_key=key)

    @classmethod
    def job_grew(cls, job: Job) -> None:
        """Store a job's first plan once it has a load and a supply."""
        parts = (job.plans, job.loads, job.supplies)
        has_plan, *has_all = (part.live().exists() for part in parts)
        if not has_plan and all(has_all):
            save_new(job, cls.default_of(job), "Added the plan Outage")

    @classmethod
    def load_came(cls, load: Load, plan: int | None) -> None:
        """A load was added: include it in the plan with that key, else in the current one."""
        plans = list(cls.objects.live().filter(job=load.job))
        joins = next((other for other in plans if other.pk == plan), None)
        joins = joins or next((other for other in plans if other.is_current), None)
        for other in plans:
            if other != joins:
                entry = PlanEntry(plan=other, load=load, taken_in=False)
                save_new(load.job, entry, f"{load.name} stays out of {other}")


class PlanEntry(Record):
    """How a plan uses a load: left out, always in use, in some hours, or for tasks.

    JSON fields have the open document's keys.
    """

    plan = models.ForeignKey(Plan, on_delete=models.CASCADE, related_name="entries")
    load = models.ForeignKey(Load, on_delete=models.CASCADE, related_name="entries")
    taken_in = models.BooleanField(default=True)
    always = models.BooleanField(
        default=False, help_text="In use all the time, whatever the load's own usual use says."
    )
    windows = models.JSONField(
        default=list, blank=True, help_text='[["18:00", "22:30"], …]; empty for its usual use.'
    )
    moments = models.JSONField(
        default=list, blank=True, help_text='["20:15", …], when its tasks or charges begin.'
    )
    steps = models.JSONField(
        default=list, blank=True, help_text="Of a task; empty for the one measured."
    )
    charge = models.JSONField(null=True, blank=True)
    flexible = models.JSONField(
        default=list, blank=True, help_text="Hours between which its tasks may be moved."
    )
    alone = models.BooleanField("not together with others", default=False)
    route = models.CharField(max_length=40, blank=True, help_text="Empty for AC.")
    setting = models.CharField(max_length=60, blank=True)
    set_c = models.FloatField("set point", null=True, blank=True, validators=CONTENTS_C)
    warm_kg = models.FloatField(
        "contents to bring to it", null=True, blank=True, validators=[MinValueValidator(0)]
    )
    warm_c = models.FloatField(
        "their temperature at the start", null=True, blank=True, validators=CONTENTS_C
    )
    pull_down_h = models.FloatField(
        "or hours at full at the start",
        null=True,
        blank=True,
        validators=[MinValueValidator(0), MaxValueValidator(200)],
    )
    count = models.PositiveSmallIntegerField(
        default=1, validators=[MinValueValidator(1), MaxValueValidator(100)]
    )

    class Meta:
        verbose_name_plural = "plan entries"
        constraints = [
            models.UniqueConstraint(
                fields=["plan", "load"],
                condition=models.Q(removed_at=None),
                name="one_entry_a_load",
            )
        ]

    def __str__(self) -> str:
        return f"{self.load} in {self.plan}"

    def clean(self) -> None:
        parts = {
            "between": self.windows,
            "flexible": self.flexible,
            "tasks": self.moments,
            "steps": self.steps,
            "charge": self.charge,
        }
        with refused_by_core():
            check_use(parts)

    @classmethod
    def naming(cls, record: Record) -> models.QuerySet[PlanEntry]:
        """Entries that may refer to an output."""
        if not isinstance(record, Output):
            return cls.objects.none()
        used = models.Q(plan__supply=record.supply) | models.Q(plan__supply=None)
        return cls.objects.filter(used, plan__job=record.supply.job)

    def rename(self, record: Output, before: str) -> bool:
        """Update an output's name; return whether it was referred to."""
        found = self.route == before
        self.route = record.name if found else self.route
        return found

    @property
    def use(self) -> dict[str, Any]:
        """Its use as in the open document; empty for always, and for its usual use."""
        if self.moments:
            return {"tasks": self.moments}
        return {"between": self.windows} if self.windows else {}

    @use.setter
    def use(self, use: dict[str, Any]) -> None:
        self.windows, self.moments = use.get("between", []), use.get("tasks", [])
        self.always = False


#: Titles of the kinds of sources.
SOURCES = {key: kind.TITLE for key, kind in KINDS.items()}


class PlanSource(Record):
    """A charging source of a plan: ``data`` has the open document's keys."""

    plan = models.ForeignKey(Plan, on_delete=models.CASCADE, related_name="sources")
    kind = ChoiceField(max_length=20, choices=list(SOURCES.items()))
    name = models.CharField(max_length=60)
    data = models.JSONField(default=dict)
    taken_in = models.BooleanField(default=True)

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return f"{self.name} in {self.plan}"

    def clean(self) -> None:
        # Which input it goes through is the supply's to say.
        document = {key: value for key, value in self.to_document().items() if key != "input"}
        with refused_by_core():
            parse_sources([document], UTC, None)

    @classmethod
    def naming(cls, record: Record) -> models.QuerySet[PlanSource]:
        """Sources that may use an input."""
        if not isinstance(record, Input):
            return cls.objects.none()
        used = models.Q(plan__supply=record.supply) | models.Q(plan__supply=None)
        return cls.objects.filter(used, plan__job=record.supply.job)

    def rename(self, record: Input, before: str) -> bool:
        """Update an input's name; return whether it was referred to."""
        return in_values(self.data, "input", before, record.name)

    def to_document(self) -> dict[str, Any]:
        return {"kind": self.kind, "name": self.name, **self.data}
