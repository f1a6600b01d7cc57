"""Packages waiting for confirmation."""

from __future__ import annotations

from datetime import timedelta

from django.conf import settings
from django.db import models
from django.utils import timezone

from web.common.stored_bytes import BytesField
from web.jobs.models import Job

#: How long a package waits.
WAITS = timedelta(hours=1)


class WaitingPackage(models.Model):
    """An uploaded package under preview; ``job`` is the imported job."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE)
    token = models.CharField(max_length=40, unique=True)
    content = BytesField()
    created_at = models.DateTimeField(auto_now_add=True)
    job = models.ForeignKey(Job, on_delete=models.SET_NULL, null=True)

    def __str__(self) -> str:
        return f"a package of {self.owner}"


def forget_old_packages() -> None:
    """Delete packages that waited too long."""
    WaitingPackage.objects.filter(created_at__lt=timezone.now() - WAITS).delete()
