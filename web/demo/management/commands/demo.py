"""``manage.py demo``: load the demo data where there is none; ``--reset`` makes it anew."""

from __future__ import annotations

from typing import Any

from django.contrib.auth import get_user_model
from django.core.management.base import BaseCommand, CommandParser
from django.db import transaction

from web.demo.models import PreparedJob
from web.demo.scenario import USERNAME, load_demo, remove_demo
from web.demo.visits import prepare


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--reset", action="store_true", help="remove the demo data first")

    def handle(self, *args: Any, **options: Any) -> None:
        with transaction.atomic():
            if options["reset"]:
                remove_demo()
            made = load_demo()
            if made or not PreparedJob.objects.exists():
                prepare(get_user_model().objects.get(username=USERNAME))
        self.stdout.write("Demo data loaded." if made else "Demo data is there already; kept.")
