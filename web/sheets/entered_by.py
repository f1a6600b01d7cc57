"""Who entered what a sheet rests on."""

from __future__ import annotations

from collections import Counter
from typing import Any

from django.db.models import Count, QuerySet

from web.bench.models import Capture
from web.common.templatetags.words import plural
from web.jobs.models import Job
from web.loads.models import Reading
from web.supplies.models import StartTest, SupplyTest
from web.trials.models import CheckIn


def _sorts(job: Job) -> list[tuple[str, QuerySet[Any]]]:
    live = {"removed_at": None}
    return [
        ("reading", Reading.objects.live().filter(load__job=job, load__removed_at=None)),
        ("capture", Capture.objects.live().filter(load__job=job, kept=True, load__removed_at=None)),
        ("test", SupplyTest.objects.filter(supply__job=job, supply__removed_at=None, **live)),
        ("start test", StartTest.objects.filter(supply__job=job, load__removed_at=None, **live)),
        ("check-in", CheckIn.objects.filter(trial__job=job, trial__removed_at=None, **live)),
    ]


def entered_by(job: Job) -> str:
    """Who entered how much, such as "Ann 12 readings; Ben 3 check-ins".

    Empty where the owner entered everything. What the site or a package brought counts as the
    owner's.
    """
    owner = job.owner.get_username()
    people: dict[str, Counter[str]] = {}
    for sort, records in _sorts(job):
        counted = records.order_by().values("made_by").annotate(number=Count("pk"))
        for made_by, number in counted.values_list("made_by", "number"):
            people.setdefault(made_by or owner, Counter())[sort] += number
    if set(people) <= {owner}:
        return ""
    return "; ".join(
        f"{name} {', '.join(plural(number, sort) for sort, number in counts.items())}"
        for name, counts in sorted(people.items(), key=lambda one: (one[0] != owner, one[0]))
    )
