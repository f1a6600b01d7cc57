"""The demo's jobs, prepared once, of which each visitor gets a copy."""

from __future__ import annotations

from django.db import models


class PreparedJob(models.Model):
    """A job of the demo as a package."""

    content = models.BinaryField()
    made_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"prepared job {self.pk}"
