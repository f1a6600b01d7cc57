"""``manage.py tidy``: once a day, clears away what has had its time."""

from __future__ import annotations

from typing import Any

from django.core.management import call_command
from django.core.management.base import BaseCommand
from django.db import OperationalError, connection

from web.bench.loggers import forget_old_posts
from web.common.stored_bytes import forget_unused_bytes
from web.demo.stock import forget_stock
from web.demo.visits import say_goodbye
from web.jobs.outbox import forget_old_receipts
from web.loads.actions import forget_old_photos
from web.sheets.models import forget_old_packages


class Command(BaseCommand):
    help = (
        "Clear ended sessions, old sign-in attempts, receipts, packages that wait, photos in the "
        "bin, demo visitors; give space back."
    )

    def handle(self, *args: Any, **options: Any) -> None:
        call_command("clearsessions")
        call_command("axes_reset_logs", age=30, verbosity=0)
        forget_old_packages()
        forget_old_receipts()
        forget_old_posts()
        forget_old_photos()
        while say_goodbye():
            pass
        forget_stock(older_only=True)
        forget_unused_bytes()
        self._give_space_back()
        self.stdout.write("Tidied.")

    def _give_space_back(self) -> None:
        """Shrink an SQLite file by what was deleted; not while somebody writes."""
        if connection.vendor != "sqlite" or connection.in_atomic_block:
            return
        try:
            with connection.cursor() as cursor:
                cursor.execute("VACUUM")
        except OperationalError as error:
            self.stdout.write(f"No space was given back: {error}.")
