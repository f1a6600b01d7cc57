"""``manage.py tidy``: once a day, clears away what has had its time."""

from __future__ import annotations

from typing import Any

from django.core.management import call_command
from django.core.management.base import BaseCommand

from web.demo.visits import say_goodbye
from web.jobs.outbox import forget_old_receipts
from web.sheets.models import forget_old_packages


class Command(BaseCommand):
    help = (
        "Clear ended sessions, old sign-in attempts, receipts, packages that wait, demo visitors."
    )

    def handle(self, *args: Any, **options: Any) -> None:
        call_command("clearsessions")
        call_command("axes_reset_logs", age=30, verbosity=0)
        forget_old_packages()
        forget_old_receipts()
        while say_goodbye():
            pass
        self.stdout.write("Tidied.")
