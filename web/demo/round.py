"""The clinic's measuring round before the storm night, and two drills that were begun."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from django.utils import timezone

from web.jobs.models import Job
from web.loads.reading_forms import OWN
from web.plans.models import Plan
from web.practice.actions import begin as begin_drill
from web.practice.actions import do
from web.rounds.actions import begin, mark
from web.rounds.models import STARTED, MeasuringRound

VISIT_H = 14


def clinic_round(job: Job, plan: Plan) -> MeasuringRound:
    """Two plug meters, a clamp and a shunt monitor, a night long; its first step has begun.

    Somebody stays beside the incubator and the mat; the concentrator stays plugged in.
    """
    begins = timezone.now().replace(second=0, microsecond=0)
    record = begin(
        MeasuringRound(
            job=job,
            plan=plan,
            begins=begins,
            ends=begins + timedelta(hours=VISIT_H),
            meters=[f"{OWN}Bench meter", f"{OWN}Blue plug meter", f"{OWN}Yellow clamp", "shunt"],
            keep_plugged=["Oxygen concentrator"],
        )
    )
    if record.steps:
        mark(record, record.steps[0]["key"], STARTED, timezone.now())
    return record


def copy_round(source: MeasuringRound, job: Job) -> None:
    """The same round in a copy of its job, as if it had begun now; none where its plan is gone."""
    by = timezone.now().replace(second=0, microsecond=0) - source.begins
    plan = job.plans.live().filter(name=source.plan.name).first() if source.plan else None
    if source.plan and plan is None:
        return
    moments = ("first", "last")
    MeasuringRound(
        job=job,
        plan=plan,
        begins=source.begins + by,
        ends=source.ends + by,
        meters=source.meters,
        keep_plugged=source.keep_plugged,
        qualified=source.qualified,
        target=source.target,
        before_h=source.before_h,
        told=source.told,
        planned_at=timezone.now(),
        steps=[step | {key: _shifted(step[key], by) for key in moments} for step in source.steps],
    ).save()


def _shifted(moment: str, by: timedelta) -> str:
    return (datetime.fromisoformat(moment) + by).isoformat()


def begin_drills(user: Any) -> None:
    """One drill half measured, one only begun."""
    half = begin_drill(user, 2)
    do(half, {"do": "reset", "loads": ["Cold box"]})
    do(half, {"do": "counter", "loads": ["Cold box"], "hours": 4.0})
    begin_drill(user, 8)
