"""The demo: Tern Point Animal Clinic and Quince Lane cider shed, made up for this project.

Each part of a job is made by one function, so that later places add theirs. Grades are mixed on
purpose: some loads only have a label, some are well measured, and one set of readings contradicts
itself.
"""

from __future__ import annotations

from typing import Any

from django.contrib.auth import get_user_model
from django.db import transaction

from web.accounts.guards import DEMO_NAME
from web.demo.clinic_loads import clinic_bench, clinic_loads, clinic_years
from web.demo.clinic_plans import clinic_plans, clinic_trials
from web.demo.clinic_supplies import add_clinic_supply_tests, clinic_supplies
from web.demo.shed import shed
from web.jobs.actions import add_job
from web.jobs.models import Job
from web.meters.actions import add_meter, keep_comparison
from web.meters.models import Meter

CLINIC = "Tern Point Animal Clinic"
USERNAME, PASSWORD = DEMO_NAME, "steady-needle-demo"


@transaction.atomic
def load_demo() -> bool:
    """Make the demo account and its jobs; False, and nothing done, where they exist."""
    users = get_user_model().objects
    if users.filter(username=USERNAME).exists():
        return False
    user = users.create_user(USERNAME, password=PASSWORD)
    meters(user)
    clinic(user)
    shed(user)
    return True


def meters(user: Any) -> None:
    """What the clinic measures with: two plug meters that were compared, and a clamp."""
    bench = add_meter(
        Meter(
            owner=user,
            name="Bench meter",
            kind="plug",
            limit=0.005,
            counts=2,
            step_w=0.1,
            note="Checked last spring.",
        )
    )
    blue = add_meter(
        Meter(
            owner=user,
            name="Blue plug meter",
            kind="plug",
            limit=0.02,
            counts=1,
            step_w=0.1,
            step_wh=10.0,
            most_a=13.0,
        )
    )
    keep_comparison(blue, bench, [[61.0, 60.2], [1496.0, 1474.0], [298.4, 294.9]])
    add_meter(
        Meter(
            owner=user,
            name="Yellow clamp",
            kind="clamp",
            limit=0.02,
            counts=5,
            fast_inrush=True,
            most_a=400.0,
        )
    )


@transaction.atomic
def remove_demo() -> None:
    """Remove the demo account with all that it owns."""
    get_user_model().objects.filter(username=USERNAME).delete()


def clinic(user: Any) -> Job:
    """A small clinic on a tidal island whose causeway line fails in storms."""
    job = add_job(Job(owner=user, name=CLINIC, mains="230-50", tariff=0.31))
    loads = clinic_loads(job)
    clinic_years(loads)
    clinic_bench(loads)
    supplies = clinic_supplies(job)
    add_clinic_supply_tests(job, loads, supplies)
    plans = clinic_plans(job, loads, supplies)
    clinic_trials(job, plans, supplies)
    return job
