"""How time grows with what there is: each with its exponent, from two sizes or more.

``python -m tools.growth`` (part of ``make bench``). An exponent of 1 is as fast as the size grows;
fixed costs make it smaller.
"""

from __future__ import annotations

import gc
import math
import resource
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import Any

import django
import numpy as np

from tools.bench import plan_document
from tools.timing import median_s

#: Exponent above which something grows faster than its size, with room for noise.
MOST_EXPONENT = 1.15


def warm_s(run: Callable[[], Any]) -> float:
    """Median time of a call, s, after one that does not count."""
    run()
    return median_s(run, 3)


def exponent_of(sizes: Sequence[float], seconds: Sequence[float]) -> float:
    """Slope of time over size, both as logarithms (least squares)."""
    return float(np.polyfit(np.log(sizes), np.log(seconds), 1)[0])


def show(what: str, sizes: Sequence[float], make: Callable[[int], Callable[[], Any]]) -> None:
    """Print times at some sizes, smallest first, and their exponent."""
    seconds = [warm_s(make(int(size))) for size in sizes]
    exponent = exponent_of(sizes, seconds)
    times = "  ".join(
        f"{size:,.0f}: {taken * 1000:.0f} ms" for size, taken in zip(sizes, seconds, strict=True)
    )
    flag = "" if exponent <= MOST_EXPONENT else "   GROWS FASTER"
    print(f"  {what:28} {exponent:5.2f}   {times}{flag}", flush=True)


def core() -> None:
    """Captures, sources and days."""
    from needle.measure.analysis import analyse
    from needle.measure.capture import Capture
    from needle.plan.documents.parse import parse_plan
    from needle.plan.energy.simulate import simulate

    def samples(count: int) -> Callable[[], Any]:
        seconds = np.arange(count, dtype=float)
        on = (seconds % 1800) < 600
        watts = np.where(on, 95.0, 2.0) + np.random.default_rng(1).normal(0, 0.5, count)
        return partial(analyse, Capture(seconds, {"watts": watts}))

    def sources(count: int) -> Callable[[], Any]:
        sun = {"kind": "sun", "rated_w": 300, "latitude": 14.2, "clouds": 0.5}
        rows = [{**sun, "name": f"Panel {number}"} for number in range(count)]
        return partial(simulate, parse_plan({**plan_document(8, 48), "sources": rows}))

    def days(count: int) -> Callable[[], Any]:
        return partial(simulate, parse_plan(plan_document(8, 24 * count)))

    def loads(count: int) -> Callable[[], Any]:
        return partial(simulate, parse_plan(plan_document(count, 24)))

    show("samples of a capture", (1e4, 1e5, 1e6, 1e7), samples)
    show("sources of a plan", (1, 4, 16), sources)
    show("days of a plan", (2, 7, 14), days)
    show("loads of a plan", (10, 50, 200, 500), loads)


class GrowingSite:
    """Jobs of one owner, made as large as is asked, and the pages that list what is in them."""

    def __init__(self) -> None:
        from django.contrib.auth import get_user_model
        from django.test import Client

        self.owner = get_user_model().objects.create_user("growth")
        self.client = Client()
        self.client.force_login(self.owner)
        self.counted: list[int] = []
        self.first = self.job("The first")
        self.jobs_made = 1

    def show(self, what: str, sizes: Sequence[int], make: Callable[[int], str]) -> None:
        """Print how a page grows, and whether its queries do; ``make`` gives its address."""
        self.counted.clear()
        show(what, sizes, lambda size: self.look_at(make(size)))
        constant = max(self.counted) - min(self.counted) <= 2
        print(f"    queries {self.counted}{'' if constant else '   NOT CONSTANT'}", flush=True)

    def look_at(self, path: str) -> Callable[[], Any]:
        from django.db import connection
        from django.test.utils import CaptureQueriesContext

        def look() -> None:
            assert self.client.get(path).status_code == 200

        look()
        with CaptureQueriesContext(connection) as queries:
            look()
        self.counted.append(len(queries))
        return look

    def job(self, name: str) -> Any:
        from tests.web.base import make_job, make_load, make_supply

        job = make_job(self.owner, name)
        make_supply(job)
        make_load(job)
        return job

    def jobs(self, count: int, path: str) -> str:
        from tests.web.base import make_job

        for number in range(self.jobs_made, count):
            make_job(self.owner, f"Job {number:04}")
        self.jobs_made = max(count, self.jobs_made)
        return path

    def loads(self, count: int) -> str:
        from tests.web.base import make_load

        job = self.job(f"{count} loads")
        for number in range(count - 1):
            make_load(job, f"Load {number:03}", 20.0 + number)
        return f"/jobs/{job.pk}/survey/"

    def plans(self, count: int) -> str:
        from web.plans.models import Plan

        job = self.job(f"{count} plans")
        Plan.objects.bulk_create(Plan(job=job, name=f"Plan {number:03}") for number in range(count))
        return f"/jobs/{job.pk}/plan/"

    def trials(self, count: int, check_ins: int) -> Any:
        """A job with trials under way, each with some check-ins."""
        from datetime import timedelta

        from django.utils import timezone

        from web.trials.actions import start_trial
        from web.trials.models import CheckIn, Trial

        job = self.job(f"{count} trials, {check_ins} check-ins")
        supply, began = job.supplies.first(), timezone.now() - timedelta(days=30)
        for number in range(count):
            started = Trial(job=job, supply=supply, name=f"Trial {number}", started_at=began)
            trial = start_trial(started, [job.loads.get().pk])
            CheckIn.objects.bulk_create(
                CheckIn(
                    trial=trial,
                    at=began + timedelta(hours=(place + 1) * 700 / check_ins),
                    data={"watts": 2.0},
                )
                for place in range(check_ins)
            )
        return job


def site() -> GrowingSite:
    """Jobs, loads, plans, trials and check-ins, by the pages that list them."""
    made = GrowingSite()
    print("  pages of the site", flush=True)
    made.show("loads, their survey", (10, 50, 200, 500), made.loads)
    made.show("plans, the day plan", (1, 10, 100), made.plans)
    trials = "trials, their list"
    made.show(trials, (1, 10, 100, 500), lambda n: f"/jobs/{made.trials(n, 2).pk}/trials/")

    def one_trial(check_ins: int) -> str:
        job = made.trials(1, check_ins)
        return f"/jobs/{job.pk}/trials/{job.trials.get().pk}/"

    made.show("check-ins of one trial", (12, 52, 365), one_trial)
    made.show("jobs, their list", (1, 10, 100, 1000), lambda n: made.jobs(n, "/jobs/"))
    survey = f"/jobs/{made.first.pk}/survey/"
    made.show("jobs, one survey", (1000, 2000), lambda n: made.jobs(n, survey))
    return made


def memory(made: GrowingSite, requests: int) -> None:
    """Memory of a process that answers many requests: after the first tenth, and at the end."""
    job = made.first
    paths = [f"/jobs/{job.pk}/{part}" for part in ("survey/", "plan/", "supplies/", "bench/")]
    paths += ["/account/", "/words/", f"/jobs/{job.pk}/find/?q=load"]

    def resident_mb() -> float:
        gc.collect()
        pages = int(Path("/proc/self/statm").read_text().split()[1])
        return pages * resource.getpagesize() / 1e6

    before = math.nan
    for number in range(requests):
        if number == requests // 10:
            before = resident_mb()
        assert made.client.get(paths[number % len(paths)]).status_code == 200
    after = resident_mb()
    change = 100 * (after / before - 1)
    print(f"\nMemory after {requests:,} requests: {after:.0f} MB, {change:+.1f} % since a tenth")


def main(requests: int = 10_000) -> None:
    """Expects a database of its own, as ``tools.bench`` makes one."""
    print("\nGrowth: exponent of time over size (1: as fast as the size)")
    core()
    memory(site(), requests)


if __name__ == "__main__":
    django.setup()
    from django.db import connection
    from django.test.utils import setup_test_environment

    setup_test_environment()
    connection.creation.create_test_db(verbosity=0, autoclobber=True)
    main()
