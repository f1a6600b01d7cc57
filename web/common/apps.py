"""Checks before ``migrate``, and setup of the cache table after it."""

from __future__ import annotations

from typing import Any

from django.apps import AppConfig
from django.core.management import CommandError, call_command
from django.db import connections
from django.db.migrations.recorder import MigrationRecorder
from django.db.models.signals import post_migrate, pre_migrate

#: A migration that every database from before the first release has, and no later one.
BEFORE_FIRST_RELEASE = ("jobs", "0002_day_plan")
TOO_OLD = (
    "comes from before the first release, and cannot be migrated. Start the version that made it, "
    "download each job as a package, and import the packages here; or set STEADY_DATA to an empty "
    "folder."
)


class CommonConfig(AppConfig):
    name = "web.common"

    def ready(self) -> None:
        pre_migrate.connect(_refuse_too_old, sender=self)
        post_migrate.connect(_make_cache_table, sender=self)


def _refuse_too_old(using: str, **more: Any) -> None:
    """Refuse a database from before the first release, naming the way to keep its jobs."""
    if BEFORE_FIRST_RELEASE in MigrationRecorder(connections[using]).applied_migrations():
        raise CommandError(f"The database {TOO_OLD}")


def _make_cache_table(using: str, **more: Any) -> None:
    """Create the table of the database cache if it is used and missing."""
    call_command("createcachetable", database=using, verbosity=0)
