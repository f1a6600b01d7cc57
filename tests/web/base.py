"""What the site's tests start from."""

from __future__ import annotations

import uuid
from typing import Any

from django.conf import settings
from django.contrib.auth import get_user_model
from django.core.cache import caches
from django.test import TestCase
from django.urls import reverse

from tests.few_draws import FewDraws
from web.jobs.models import Job
from web.loads.actions import add_load, add_reading
from web.loads.models import Load
from web.sheets.exchange import add_package, understood
from web.supplies.models import Supply

HTMX = {"HTTP_HX_REQUEST": "true"}
SPOT = {
    "state": "running",
    "watts": "92.4 W",
    "volts": "231.2",
    "amps": "0,64 A",
    "va": "148",
    "pf": "0.62",
    "instrument": "plug",
}


def clear_caches(*kept: str) -> None:
    """Clear all caches but those named."""
    for name in settings.CACHES:
        if name not in kept:
            caches[name].clear()


def make_job(owner: Any, name: str = "Job") -> Job:
    return Job.objects.create(owner=owner, name=name)


def make_load(job: Job, name: str = "Box", watts: float | None = 120.0, **more: Any) -> Load:
    more = {"kind": "compressor-fixed", **more}
    load = add_load(Load(job=job, name=name, client_key=uuid.uuid4(), **more))
    if watts:
        add_reading(load, "label", {"watts": watts})
    return load


def make_supply(job: Job, **more: Any) -> Supply:
    values = {
        "name": "Cabinet",
        "chemistry": "lfp",
        "nominal_wh": 1024.0,
        "continuous_w": 3000.0,
        "surge_va": 6000.0,
        "surge_s": 5.0,
        "idle_w": 28.0,
        "efficiency": 0.92,
    }
    return Supply.objects.create(job=job, **{**values, **more})


class SiteTest(FewDraws, TestCase):
    """A signed-in user with a job."""

    def setUp(self) -> None:
        # An answer follows from its document alone: the tests of a process share them.
        clear_caches("answers")
        users = get_user_model().objects
        self.user = users.create_user("ada", password="long enough 1")
        self.other = users.create_user("bob", password="long enough 2")
        self.job = make_job(self.user)
        self.client.force_login(self.user)

    def url(self, name: str, *args: Any) -> str:
        return reverse(name, args=[self.job.pk, *args])


def import_job(content, owner):
    """A job made of a package's bytes."""
    return add_package(understood(content), owner)
