"""``manage.py demo``: load the demo data where there is none; ``--reset`` makes it anew."""

from __future__ import annotations

from typing import Any

from django.contrib.auth import get_user_model
from django.core.management.base import BaseCommand, CommandParser
from django.db import transaction

from web.background.pool import POOL
from web.demo.models import PreparedJob
from web.demo.round import begin_drills, clinic_round
from web.demo.scenario import CLINIC, USERNAME, load_demo, remove_demo
from web.demo.stock import forget_stock
from web.demo.visits import prepare
from web.jobs.models import Job


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
                forget_stock()
        if made:
            # Its plan must be worked out for it: not while the database is held.
            job = Job.objects.get(owner__username=USERNAME, name=CLINIC)
            clinic_round(job, job.plans.get(name="Storm night"))
            begin_drills(job.owner)
            POOL.close()
        self.stdout.write("Demo data loaded." if made else "Demo data is there already; kept.")
