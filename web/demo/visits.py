"""Visitors who look around: each gets a copy of the demo, gone a day later."""

from __future__ import annotations

import secrets
from dataclasses import replace
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any

from django.contrib.auth import get_user_model
from django.contrib.auth.models import Group
from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone

from needle.package import Package
from web.common.turns import one_at_a_time
from web.demo.clinic_loads import put_to_work
from web.demo.models import PreparedJob
from web.demo.round import begin_drills, copy_round
from web.demo.scenario import USERNAME
from web.jobs.models import Job
from web.rounds.models import MeasuringRound
from web.sheets.exchange import add_package, export_job, understood

VISITORS = "visitors"
STAYS = timedelta(days=1)
#: Visitors at one time: each has a copy of the demo in the database.
MOST_VISITORS = 300
#: Accounts that one call clears away, so that none takes long.
_AT_A_TIME = 20
#: Rounds of a job that a copy takes along.
_ROUNDS = 3


def prepare(user: Any) -> None:
    """Keep the demo user's jobs as packages, in place of those prepared before."""
    with transaction.atomic():
        PreparedJob.objects.all().delete()
        for job in Job.objects.visible_to(user).order_by("pk"):
            PreparedJob.objects.create(content=export_job(job))


def may_visit() -> bool:
    """Whether copies of the demo are prepared."""
    return PreparedJob.objects.exists()


def new_visitor(group: str) -> Any:
    """A new account of a group, with a copy of the demo of its own."""
    prepared = list(PreparedJob.objects.order_by("pk").values_list("pk", "made_at"))
    with one_at_a_time("visit"), transaction.atomic():
        name = f"visitor-{secrets.token_hex(4)}"
        visitor = get_user_model().objects.create_user(name)
        visitor.groups.add(Group.objects.get_or_create(name=group)[0])
        for pk, made_at in prepared:
            job = add_package(_later(_package(pk), timezone.now() - made_at), visitor, check=False)
            put_to_work(job)
            for source in _rounds_of(job.name):
                copy_round(source, job)
        begin_drills(visitor)
    return visitor


def _rounds_of(name: str) -> QuerySet[MeasuringRound]:
    """The demo user's rounds for a job of this name; packages carry none."""
    rounds = MeasuringRound.objects.filter(removed_at=None, job__removed_at=None)
    return rounds.filter(job__owner__username=USERNAME, job__name=name).select_related("plan")[
        :_ROUNDS
    ]


def is_full() -> bool:
    """Whether no more visitors have a place until some have left."""
    return get_user_model().objects.filter(groups__name=VISITORS).count() >= MOST_VISITORS


def say_goodbye() -> int:
    """Delete visitors who came more than a day ago, with all they made; returns how many."""
    gone = get_user_model().objects.filter(
        groups__name=VISITORS, date_joined__lt=timezone.now() - STAYS
    )
    keys = list(gone.values_list("pk", flat=True)[:_AT_A_TIME])
    get_user_model().objects.filter(pk__in=keys).delete()
    return len(keys)


@lru_cache(maxsize=4)
def _package(pk: int) -> Package:
    return understood(bytes(PreparedJob.objects.get(pk=pk).content))


def _later(package: Package, by: timedelta) -> Package:
    """The package with its moments whole days later: a running trial began yesterday."""
    days = timedelta(days=by.days)
    tables = {}
    for name, table in package.tables.items():
        moments = [field for field, kind in table.fields if kind == "datetime"]
        rows = [
            row | {field: _shifted(row[field], days) for field in moments if row[field]}
            for row in table.rows
        ]
        tables[name] = replace(table, rows=rows)
    return replace(package, tables=tables)


def _shifted(moment: str, by: timedelta) -> str:
    return (datetime.fromisoformat(moment) + by).isoformat()
