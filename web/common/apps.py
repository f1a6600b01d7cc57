"""What the site has in common is made ready by ``migrate``."""

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
    """The table of the database cache, where that is the cache; nothing where it exists."""
    call_command("createcachetable", database=using, verbosity=0)
