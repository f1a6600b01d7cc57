"""Seconds of a call, for the benches."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from typing import Any


def median_s(run: Callable[[], Any], times: int = 5) -> float:
    """Median seconds of a call, after one that does not count."""
    run()
    taken = []
    for _ in range(times):
        begin = time.perf_counter()
        run()
        taken.append(time.perf_counter() - begin)
    return statistics.median(taken)
