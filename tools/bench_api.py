"""How fast the interface for programs is, beside the pages that say the same."""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np

#: Requests of each kind; wanted: the 95th percentile within so many times that of the page.
REQUESTS, MOST_RATIO = 40, 2.0


def p95_s(ask: Callable[[], Any]) -> float:
    """The 95th percentile of a request's seconds, after one that does not count."""
    ask()
    taken = []
    for _ in range(REQUESTS):
        begin = time.perf_counter()
        answer = ask()
        taken.append(time.perf_counter() - begin)
        if answer.status_code != 200:
            raise RuntimeError(f"{answer.request['PATH_INFO']}: {answer.status_code}")
    return float(np.percentile(taken, 95))


def bench_api(client: Any, job: Any) -> None:
    from django.core.cache import cache
    from django.test import Client

    from web.api.actions import add_token
    from web.api.models import ApiToken

    _, text = add_token(ApiToken(job=job, name="Bench", adds=True))
    program = Client(headers={"Authorization": f"Bearer {text}"})
    load, plan = job.loads.get(name="Vaccine refrigerator"), job.plans.get(name="Storm night")
    trial = job.trials.filter(ended_at__isnull=False).first()
    print(f"\nInterface for programs: 95th percentile, ms (wanted < {MOST_RATIO:g} x the page)")
    rows = (
        ("loads", "loads/?page_size=100", "survey/"),
        ("a load's profile", f"loads/{load.pk}/profile/", f"loads/{load.pk}/"),
        ("a plan's answer", f"plans/{plan.pk}/answer/", f"plans/{plan.pk}/"),
        ("a trial's forecast", f"trials/{trial.pk}/forecast/", f"trials/{trial.pk}/"),
        ("supplies", "supplies/", "supplies/"),
    )
    for words, path, page in rows:
        cache.clear()
        told = p95_s(partial(program.get, f"/api/v1/{path}"))
        shown = p95_s(partial(client.get, f"/jobs/{job.pk}/{page}"))
        print(
            f"  {words:20} {told * 1000:7.1f}  page {shown * 1000:7.1f}  ratio {told / shown:4.2f}"
        )
