"""Combined readings as a plan uses them: counts of several of its loads on one meter."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django.db.models import Prefetch
from django.utils import timezone

from needle.plan.load import AC
from needle.plan.run import COUNTED_ONLY
from web.jobs.models import Job
from web.loads.models import CombinedLoad, CombinedReading, numbers_of

#: What a plan says of a load that says nothing of how it ran on the meter.
_NOT_COUNTED = ("can", "settings", "notices", "pull_down_h", "pull_down_wh", "purpose", "alone")
#: What says when a load runs.
_USE = ("use", "steps", "charge", "flexible")


@dataclass(frozen=True)
class CombinedRun:
    """A combined reading as a run of a plan's document; None, and why the plan does not use it."""

    reading: CombinedReading
    names: str
    document: dict[str, Any] | None
    why_not: str = ""


def combined_runs(job: Job, loads: Sequence[Mapping[str, Any]]) -> list[CombinedRun]:
    """The job's combined readings, for a plan with these load documents."""
    parts = CombinedLoad.objects.live().select_related("load")
    readings = job.combined_readings.live().prefetch_related(
        Prefetch("parts", parts, to_attr="live_parts")
    )
    numbers, counted = numbers_of(job), {load["id"]: load for load in loads}
    return [_run(reading, numbers, counted, job) for reading in readings]


def _run(
    reading: Any, numbers: Mapping[int, int], counted: Mapping[str, Mapping[str, Any]], job: Job
) -> CombinedRun:
    names = ", ".join(sorted(part.load.name for part in reading.live_parts))
    keys = [f"load {numbers[part.load_id]}" for part in reading.live_parts]
    loads = [counted[key] for key in keys if key in counted]
    if why_not := _why_not(loads, len(keys)):
        return CombinedRun(reading, names, None, why_not)
    meter = job.meters().get(reading.meter)
    document: dict[str, Any] = {
        "hours": reading.hours,
        "why": COUNTED_ONLY,
        "wh": reading.wh / (meter.gain if meter else 1.0),
        "counted": AC,
        "loads": [_on_the_meter(load, reading.always_on) for load in loads],
    }
    if reading.read_at is not None:
        began = reading.read_at - timedelta(hours=reading.hours)
        document["at"] = timezone.localtime(began).isoformat()
    return CombinedRun(reading, names, document)


def _why_not(loads: Sequence[Mapping[str, Any]], count: int) -> str:
    """Why a plan that counts these of its loads cannot use a combined reading; "" if it can."""
    if count < 2 or len(loads) < count:
        return "not all of them are counted in this plan"
    on_dc = any(load["route"] != AC for load in loads)
    return "one of them runs on DC in this plan" if on_dc else ""


def _on_the_meter(load: Mapping[str, Any], always_on: bool) -> dict[str, Any]:
    """A plan's load as it was on the meter: one of it, used as in the plan or on throughout."""
    left_out = (*_NOT_COUNTED, *(_USE if always_on else ()))
    kept = {key: value for key, value in load.items() if key not in left_out}
    return {**kept, "count": 1, "notices": []}
