"""Tokens with which programs read a job, or add to it."""

from __future__ import annotations

from django.db import models

from web.jobs.access import Access
from web.jobs.models import Job, Role


class ApiToken(models.Model):
    """A program's access to one job. The token itself is not stored, only its hash."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="api_tokens")
    name = models.CharField("for which program", max_length=60)
    digest = models.CharField(max_length=64, unique=True, editable=False)
    adds = models.BooleanField(
        "may add",
        default=False,
        help_text="Readings, captures and check-ins. It never changes or removes.",
    )
    created_at = models.DateTimeField(auto_now_add=True)
    revoked_at = models.DateTimeField(null=True, editable=False)
    used_at = models.DateTimeField(null=True, editable=False)

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return f"{self.name} at {self.job}"

    def access(self) -> Access:
        """What it may do, and under which name changes are recorded."""
        role = Role.MEASURER if self.adds else Role.VIEWER
        return Access(self.job, role, f"{self.name} (program)")
