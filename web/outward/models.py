"""What of a job goes out to the house: figures over MQTT, and events to webhooks."""

from __future__ import annotations

import json
import uuid

from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models
from django.utils import timezone
from django.utils.crypto import salted_hmac

from web.jobs.models import Job

STOP, CHECK_IN, BACK = "stop", "check-in", "back"
EVENTS = {
    STOP: "the supply is about to stop",
    CHECK_IN: "a check-in is due",
    BACK: "power is back",
}


class Publishing(models.Model):
    """That a job's figures are published on the broker.

    ``number`` names the job in topics, also once it is gone: its topics are then cleared.
    """

    job = models.OneToOneField(
        Job, on_delete=models.SET_NULL, null=True, related_name="publishing", editable=False
    )
    number = models.PositiveBigIntegerField(unique=True, editable=False)
    on = models.BooleanField("publish on the broker", default=False)
    is_out = models.BooleanField(default=False, editable=False)

    def __str__(self) -> str:
        return f"figures of job {self.number}"

    @property
    def wanted(self) -> bool:
        """Whether its topics should hold anything."""
        return self.on and self.job is not None and self.job.removed_at is None


class Hook(models.Model):
    """An address that receives events of a job.

    Its secret follows from the site's key, so that it is not stored.
    """

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="hooks")
    url = models.URLField("address", max_length=500)
    events = models.JSONField("tell it when", default=list)
    hours = models.FloatField(
        "hours before a stop",
        default=4.0,
        validators=[MinValueValidator(0.25), MaxValueValidator(72.0)],
    )
    key = models.UUIDField(default=uuid.uuid4, unique=True, editable=False)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return self.url

    @property
    def secret(self) -> str:
        """What its messages are signed with."""
        return salted_hmac("web.outward.hook", self.key.hex, algorithm="sha256").hexdigest()

    @property
    def words(self) -> str:
        """The events that it receives."""
        told = [words for event, words in EVENTS.items() if event in self.events]
        return "; ".join(told).replace(EVENTS[STOP], f"the supply may stop within {self.hours:g} h")


class Delivery(models.Model):
    """A message to a hook: once for each thing that it is about."""

    hook = models.ForeignKey(Hook, on_delete=models.CASCADE, related_name="deliveries")
    about = models.CharField(max_length=120)
    body = models.TextField()
    due_at = models.DateTimeField(default=timezone.now)
    tries = models.PositiveSmallIntegerField(default=0)
    sent_at = models.DateTimeField(null=True)
    failed = models.BooleanField(default=False)
    trouble = models.CharField(max_length=200, blank=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]
        constraints = [
            models.UniqueConstraint(fields=["hook", "about"], name="told_once_of_each_thing")
        ]

    def __str__(self) -> str:
        return f"{self.about} to {self.hook}"

    @property
    def text(self) -> str:
        """Its sentence."""
        return str(json.loads(self.body).get("text", self.about))
