"""Jobs, and the record of changes in them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta, tzinfo
from functools import cached_property
from typing import Any, Self
from zoneinfo import ZoneInfo

from django.conf import settings
from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models
from django.utils import timezone

from needle.measure.instruments import Instrument
from needle.profile.cost import MOST_PRICE, tariff_of
from web.common.models import ChoiceField, Record, RecordQuerySet
from web.common.quotas import Quota
from web.common.validation import known_zone, refused_by_core
from web.meters.models import meters_of

MAINS = {
    "230-50": ("230 V, 50 Hz", 230.0, 50.0),
    "240-50": ("240 V, 50 Hz", 240.0, 50.0),
    "220-60": ("220 V, 60 Hz", 220.0, 60.0),
    "120-60": ("120 V, 60 Hz", 120.0, 60.0),
    "120-240-60": ("120/240 V split, 60 Hz", 120.0, 60.0),
    "100-50": ("100 V, 50 Hz", 100.0, 50.0),
    "100-60": ("100 V, 60 Hz", 100.0, 60.0),
    "127-60": ("127 V, 60 Hz", 127.0, 60.0),
}


#: How long a removed job can be brought back.
IN_BIN = timedelta(days=30)


class Role(models.IntegerChoices):
    """What somebody may do in a job: each role may all that those before it may.

    A link shows one thing; a viewer sees everything; a measurer adds what was measured, checks
    in, and watches; the owner plans, removes and invites.
    """

    LINK = 0, "reader"
    VIEWER = 1, "viewer"
    MEASURER = 2, "measurer"
    OWNER = 3, "owner"

    @classmethod
    def of(cls, stored: int) -> Role:
        """A stored role of a member; an unknown one sees only."""
        return cls(stored) if stored in (cls.VIEWER, cls.MEASURER) else cls.VIEWER

    @property
    def words(self) -> str:
        return str(self.label)


#: Roles of members; a job has one owner.
MEMBER_ROLES = [(int(role), role.words) for role in (Role.MEASURER, Role.VIEWER)]


class JobQuerySet(RecordQuerySet):
    def visible_to(self, user: Any) -> Self:
        """Jobs that a user owns or is a member of, with ``member_role``; None for an owner."""
        membership = Member.objects.filter(job=models.OuterRef("pk"), user=user)
        role = models.Subquery(membership.values("role")[:1])
        mine = models.Q(owner=user) | models.Q(member_role__isnull=False)
        return self.live().annotate(member_role=role).filter(mine)

    def in_bin_of(self, user: Any) -> Self:
        """A user's removed jobs that can be restored, the latest first."""
        return self.filter(owner=user).exclude(removed_at=None).order_by("-removed_at")


@dataclass
class JobCache:
    """What one request has fetched or computed of a job; None if not yet.

    ``loads`` have their readings, ``numbers`` are the loads' numbers by primary key, ``supplies``
    have their parts, ``answer`` is that to the current plan, ``trials`` have their check-ins,
    ``honesty`` is how its ranges held, and ``meters`` are the owner's by name.
    """

    loads: list[Any] | None = None
    numbers: dict[int, int] | None = None
    supplies: list[Any] | None = None
    answer: Any = None
    trials: list[Any] | None = None
    honesty: Any = None
    meters: dict[str, Instrument] | None = None


class Job(Record):
    """A place or occasion with its mains, tariff and currency; other records belong to a job."""

    owner = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="jobs"
    )
    name = models.CharField(max_length=80)
    mains = ChoiceField(
        max_length=12,
        default="230-50",
        choices=[(key, words) for key, (words, *_) in MAINS.items()],
    )
    currency = models.CharField(
        max_length=6, default="¤", help_text="A code such as EUR, or a sign."
    )
    tariff = models.FloatField(
        "price of a kWh",
        null=True,
        blank=True,
        validators=[MinValueValidator(0), MaxValueValidator(MOST_PRICE)],
    )
    tariff_hours = models.JSONField(
        default=list, blank=True, help_text='[["23:00", "07:00", 0.18], …], other prices.'
    )

    zone = models.CharField(
        "time zone",
        max_length=64,
        blank=True,
        validators=[known_zone],
        help_text="Of its clock, such as Europe/London. Empty: the site's own.",
    )

    follows_runs = models.BooleanField(
        "ranges follow how earlier runs ended",
        default=True,
        help_text="From six finished runs on, if their ranges held too rarely or too often.",
    )

    objects = JobQuerySet.as_manager()  # type: ignore[misc]

    @cached_property
    def cache(self) -> JobCache:
        """What this request has fetched or computed of the job."""
        return JobCache()

    @property
    def clock(self) -> tzinfo:
        """The job's time zone."""
        return ZoneInfo(self.zone) if self.zone else timezone.get_default_timezone()

    class Meta:
        ordering = ["name", "pk"]

    def __str__(self) -> str:
        return self.name

    def clean(self) -> None:
        with refused_by_core():
            tariff_of(0.0, self.tariff_hours)

    @classmethod
    def quota_of(cls, person: Any) -> Quota:
        return Quota("jobs", cls.objects.filter(owner=person).count(), settings.MOST_JOBS)

    def meters(self) -> dict[str, Instrument]:
        """Its owner's meters by name, fetched once per request."""
        if self.cache.meters is None:
            self.cache.meters = meters_of(self.owner_id)
        return self.cache.meters

    @property
    def price(self) -> float | None:
        """Mean price per kWh over the day; None without a tariff."""
        if self.tariff is None:
            return None
        return tariff_of(self.tariff, self.tariff_hours).mean()

    @property
    def mains_v(self) -> float:
        """Volts between line and neutral."""
        return MAINS[self.mains][1]

    @property
    def split(self) -> bool:
        """Whether loads may be on one leg or on both."""
        return self.mains == "120-240-60"

    @property
    def mains_hz(self) -> float:
        return MAINS[self.mains][2]


class Change(models.Model):
    """A change of a record of a job, with its previous state for undo."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="changes")
    label = models.CharField(max_length=200)
    before = models.TextField(help_text="The record before, serialized; empty for a new one.")
    model = models.CharField(max_length=60)
    record = models.BigIntegerField()
    joined = models.BooleanField(default=False, help_text="Undone with the one before it.")
    undone = models.BooleanField(default=False)
    made_by = models.CharField(max_length=80, blank=True)
    user = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True, related_name="+"
    )
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]
        indexes = [models.Index(fields=["job", "-id"])]

    def __str__(self) -> str:
        return self.label


class Member(models.Model):
    """Somebody beside the owner who is at a job."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="members")
    user = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="memberships"
    )
    role = models.PositiveSmallIntegerField(choices=MEMBER_ROLES, default=int(Role.VIEWER))
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["created_at", "pk"]
        constraints = [
            models.UniqueConstraint(fields=["job", "user"], name="one_membership_per_job")
        ]

    def __str__(self) -> str:
        return f"{self.user} at {self.job}"


class Invitation(models.Model):
    """That somebody may join a job: an account by its name, or whoever has its link.

    Of a link only the hash is stored. ``user`` is the account that was named; none for a link,
    and none for a name that nobody has: who invites does not learn which names exist.
    """

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="invitations")
    role = models.PositiveSmallIntegerField(choices=MEMBER_ROLES, default=int(Role.MEASURER))
    name = models.CharField("for whom", max_length=150)
    user = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, null=True, related_name="invitations"
    )
    digest = models.CharField(max_length=64, unique=True, editable=False)
    by_link = models.BooleanField(default=False)
    created_at = models.DateTimeField(auto_now_add=True)
    expires_at = models.DateTimeField()

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return f"{self.name} to {self.job}"


class Receipt(models.Model):
    """That an entry with this key has arrived, so that the same one sent again changes nothing."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="receipts")
    client_key = models.UUIDField()
    created_at = models.DateTimeField(auto_now_add=True, db_index=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["job", "client_key"], name="one_receipt_per_entry")
        ]

    def __str__(self) -> str:
        return str(self.client_key)
