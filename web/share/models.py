"""Links for clients, and what clients propose through them."""

from __future__ import annotations

import uuid

from django.db import models
from django.utils import timezone

from web.common.models import ChoiceField
from web.common.stored_bytes import BytesField
from web.jobs.access import Access
from web.jobs.models import Job, Role
from web.loads.models import Load
from web.plans.models import Plan

SHOWS = {
    "sheet": "the sheet of a plan",
    "card": "the wall card",
    "list": "a list to fill",
}


class ShareLink(models.Model):
    """A link with which somebody without an account sees one thing of a job.

    Its token is not stored, only its hash; neither is its word. ``frozen`` is the sheet as it was
    when the link was made, empty for one that follows the plan.
    """

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="share_links")
    plan = models.ForeignKey(Plan, on_delete=models.CASCADE, null=True, blank=True)
    shows = ChoiceField("what it shows", max_length=6, choices=list(SHOWS.items()))
    name = models.CharField("for whom", max_length=80)
    digest = models.CharField(max_length=64, unique=True, editable=False)
    word = models.CharField(max_length=128, blank=True, editable=False)
    photos = models.BooleanField("with photos", default=False)
    card = models.BooleanField("with the wall card", default=False)
    frozen = models.TextField(blank=True, editable=False)
    created_at = models.DateTimeField(auto_now_add=True)
    expires_at = models.DateTimeField()
    revoked_at = models.DateTimeField(null=True, editable=False)
    opened = models.PositiveIntegerField(default=0, editable=False)
    opened_at = models.DateTimeField(null=True, editable=False)

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return f"{self.get_shows_display()} for {self.name}"

    def access(self) -> Access:
        """What whoever has it may do: see one thing."""
        return Access(self.job, Role.LINK, self.name)

    @property
    def is_open(self) -> bool:
        """Whether it still shows something."""
        ended = self.revoked_at is not None or self.expires_at <= timezone.now()
        gone = self.job.removed_at is not None
        return not ended and not gone and (self.plan is None or self.plan.removed_at is None)


WAITING, ACCEPTED, ASIDE = "waiting", "accepted", "aside"


class Proposal(models.Model):
    """A load that a client noted on a list, as it was written; the job's owner decides on it."""

    link = models.ForeignKey(ShareLink, on_delete=models.CASCADE, related_name="proposals")
    sent_key = models.UUIDField(default=uuid.uuid4)
    number = models.PositiveSmallIntegerField()
    values = models.JSONField(default=dict)
    large = BytesField(null=True, editable=False)
    small = BytesField(null=True, editable=False)
    width = models.PositiveIntegerField(default=0)
    height = models.PositiveIntegerField(default=0)
    state = models.CharField(max_length=8, default=WAITING, editable=False)
    load = models.ForeignKey(Load, on_delete=models.SET_NULL, null=True, editable=False)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]
        constraints = [
            models.UniqueConstraint(
                fields=["link", "sent_key", "number"], name="a_row_is_proposed_once"
            )
        ]

    def __str__(self) -> str:
        return f"{self.values.get('name') or 'a load'} by {self.link.name}"
