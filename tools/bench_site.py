"""Part of ``make bench``: the site's pages, as milliseconds and as ratios to an empty view."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import timedelta
from typing import Any

from tools.bench_api import bench_api
from tools.timing import median_s

LIMIT_DRAG_MS, LIMIT_LET_GO_MS, LIMIT_READING_MS = 80.0, 400.0, 200.0
LIMIT_SURVEY_MS, LIMIT_POLL_MS, LIMIT_TRIAL_MS = 100.0, 50.0, 150.0


def bench_site() -> None:
    from django.db import connection
    from django.test import Client

    kept = connection.settings_dict["NAME"]
    connection.creation.create_test_db(verbosity=0, autoclobber=True)
    from django.conf import settings
    from django.contrib.auth import get_user_model

    settings.ROOT_URLCONF = "tools.bench_urls"
    from web.bench.models import Session
    from web.demo.scenario import USERNAME, load_demo
    from web.jobs.models import Job
    from web.serve import settle_memory

    load_demo()
    # As the site does once it is ready.
    settle_memory()
    client = Client()
    client.force_login(get_user_model().objects.get(username=USERNAME))
    empty = median_s(lambda: client.get("/empty/"), 30)
    print(f"\nSite, demo job: milliseconds (ratio to an empty Django view, {empty * 1000:.2f} ms)")
    job = Job.objects.get(name="Tern Point Animal Clinic")
    load = job.loads.get(name="Vaccine refrigerator")
    url = f"/jobs/{job.pk}/loads/{load.pk}/readings/spot/"
    number = iter(range(10_000))

    def add_reading() -> None:
        data = {"state": "running", "watts": str(91 + next(number) / 100), "instrument": "plug"}
        answer = client.post(url, data, headers={"HX-Request": "true"})
        assert answer.status_code == 200 and b"answer-bar" in answer.content

    def show(words: str, taken: float, limit_ms: float) -> None:
        print(f"  {words:44} {taken * 1000:7.1f}  {taken / empty:6.1f}   wanted < {limit_ms:g} ms")

    show("add a reading: profile and answer bar", median_s(add_reading, 15), LIMIT_READING_MS)
    session = Session.objects.get(load__job=job)
    poll = f"/jobs/{job.pk}/bench/{session.pk}/"
    polled = median_s(lambda: client.get(poll, headers={"HX-Request": "true"}), 15)
    show("live bench: one poll", polled, LIMIT_POLL_MS)
    bench_day_plan(client, job, show)
    bench_survey(client, job.owner, show)
    bench_starts(client, job.owner, show)
    bench_api(client, job)
    connection.creation.destroy_test_db(kept, verbosity=0)


def bench_day_plan(client: Any, job: Any, show: Callable[[str, float, float], None]) -> None:
    plan, load = job.plans.get(name="Storm night"), job.loads.get(name="Autoclave")
    page = f"/jobs/{job.pk}/plans/{plan.pk}/"
    number = iter(range(10_000))

    def send(url: str, **data: Any) -> None:
        answer = client.post(url, data, headers={"HX-Request": "true"})
        assert answer.status_code == 200 and b"answer-bar" in answer.content

    def drag() -> None:
        send(f"{page}loads/{load.pk}/blocks/0/move/", by_min=next(number), quick=1)

    def slide() -> None:
        send(
            f"{page}what-if/",
            room_c=20 + next(number) / 50,
            clouds=70,
            start_charge=100,
            floor=10,
            needed_hours=24,
            odds=90,
            quick=1,
        )

    def let_go() -> None:
        send(f"{page}loads/{load.pk}/blocks/0/move/", by_min=1)

    show("day plan: a block while it is dragged", median_s(drag, 15), LIMIT_DRAG_MS)
    show("day plan: a condition while it slides", median_s(slide, 15), LIMIT_DRAG_MS)
    show("day plan: let go, stored, with advice", median_s(let_go, 5), LIMIT_LET_GO_MS)
    trial = job.trials.get(name="Storm night rehearsal")
    begin = trial.started_at
    for minute in range(200):
        at = begin + timedelta(minutes=2 * minute)
        trial.check_ins.create(at=at, data={"percent": 100 - 0.3 * minute})
    followed = f"/jobs/{job.pk}/trials/{trial.pk}/"
    show("trial with 200 check-ins", median_s(lambda: client.get(followed), 7), LIMIT_TRIAL_MS)
    show("day plan: the page again", median_s(lambda: client.get(page), 9), LIMIT_TRIAL_MS)


def bench_survey(client: Any, owner: Any, show: Callable[[str, float, float], None]) -> None:
    from django.core.cache import caches
    from django.db import connection
    from django.test.utils import CaptureQueriesContext

    from tests.web.base import make_job, make_load, make_supply

    large = make_job(owner, "Two hundred loads")
    make_supply(large, nominal_wh=200_000.0, continuous_w=90_000.0, surge_va=150_000.0)
    kinds = ("compressor-fixed", "electronics", "thermostat-heat", "led")
    for index in range(200):
        made = make_load(large, f"Load {index:03}", 40.0 + index, kind=kinds[index % 4])
        made.readings.create(
            type="spot",
            data={"state": "running", "watts": 30.0 + index, "volts": 230.0, "va": 60.0 + index},
        )
    survey = f"/jobs/{large.pk}/survey/"

    def open_survey() -> None:
        assert client.get(survey).status_code == 200

    from needle.quantity import significant
    from web.drawing.ladder import ladder
    from web.loads.models import _profile

    begin = time.perf_counter()
    for cache in caches.all(initialized_only=True):
        cache.clear()
    for kept in (_profile, ladder, significant):
        kept.cache_clear()
    open_survey()
    cold = time.perf_counter() - begin
    show("survey of 200 loads, first time", cold, LIMIT_SURVEY_MS)
    show("survey of 200 loads, again", median_s(open_survey, 7), LIMIT_SURVEY_MS)
    with CaptureQueriesContext(connection) as queries:
        open_survey()
    print(f"  queries of that page: {len(queries)}")


def bench_starts(client: Any, owner: Any, show: Callable[[str, float, float], None]) -> None:
    from django.db import connection
    from django.test.utils import CaptureQueriesContext

    from tests.web.base import make_job, make_load, make_supply
    from web.supplies.models import StartTest

    job = make_job(owner, "Thirty loads, ten inverters")
    supplies = [
        make_supply(
            job,
            name=f"Inverter {number}",
            continuous_w=600.0 * (number + 1),
            surge_va=1200.0 * (number + 1),
            nominal_wh=60_000.0,
        )
        for number in range(10)
    ]
    kinds = ("compressor-fixed", "electronics", "induction-motor", "led")
    for index in range(30):
        load = make_load(job, f"Load {index:03}", 40.0 + index, kind=kinds[index % 4])
        if index % 3 == 0:
            StartTest.objects.create(load=load, supply=supplies[index % 10], result="held")
    page = f"/jobs/{job.pk}/supplies/starts/"

    def open_starts() -> None:
        assert client.get(page).status_code == 200

    begin = time.perf_counter()
    open_starts()
    show("start matrix 30 x 10, first time", time.perf_counter() - begin, LIMIT_SURVEY_MS)
    # The page stands before its plan's answer, and asks for it by itself.
    begin = time.perf_counter()
    assert client.get(page, headers={"HX-Request": "true"}).status_code == 200
    print(f"  its plan, worked out beside the site: {time.perf_counter() - begin:.1f} s")
    show("start matrix 30 x 10, again", median_s(open_starts, 7), LIMIT_SURVEY_MS)
    with CaptureQueriesContext(connection) as queries:
        open_starts()
    print(f"  queries of that page: {len(queries)}")
