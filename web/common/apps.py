"""Setup of the cache table after ``migrate``."""

from __future__ import annotations

from typing import Any

from django.apps import AppConfig
from django.core.management import call_command
from django.db.models.signals import post_migrate


class CommonConfig(AppConfig):
    name = "web.common"

    def ready(self) -> None:
        post_migrate.connect(_make_cache_table, sender=self)


def _make_cache_table(using: str, **more: Any) -> None:
    """Create the table of the database cache if it is used and missing."""
    call_command("createcachetable", database=using, verbosity=0)
