"""Short ways to make parts of the demo, shared by its jobs."""

from __future__ import annotations

import uuid
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.utils import timezone

from needle.standin.appliances import timeline
from needle.standin.meters import clamp_inrush, plug_meter
from needle.standin.run import StandinRun
from web.jobs.models import Job
from web.loads.actions import add_load, add_reading
from web.loads.models import Load
from web.plans.actions import use_load
from web.plans.models import Plan, PlanEntry
from web.supplies.actions import add_test
from web.supplies.models import Supply, SupplyTest
from web.trials.actions import check_in
from web.trials.models import CheckIn, Trial

#: The stand-ins behind the vaccine refrigerator, the wheeled cabinet and the shed bank.
FRIDGE_SEED, CABINET_SEED, BANK_SEED = 11, 17, 6
Readings = list[tuple[str, dict[str, Any], str]]


def tally_of(
    period_s: float, duty: float, cycles: int, wobble: tuple[float, ...]
) -> dict[str, Any]:
    """On/off moments of a number of cycles, each stretched by a factor of the given wobble."""
    edges: list[list[Any]] = []
    at = 0.0
    for number in range(cycles):
        stretch = wobble[number % len(wobble)]
        edges += [["on", round(at)], ["off", round(at + period_s * duty * stretch)]]
        at += period_s * (0.6 + 0.4 * stretch)
    return {"edges": [*edges, ["on", round(at)]]}


def add_with_readings(job: Job, readings: Readings, **load: Any) -> Load:
    stored = add_load(Load(job=job, client_key=uuid.uuid4(), **load))
    begin = timezone.now() - timedelta(days=9)
    for number, (kind, data, note) in enumerate(readings):
        read_at = None if kind == "label" else begin + timedelta(hours=7 * number)
        add_reading(stored, kind, data, read_at=read_at, note=note)
    return stored


def measured_readings(standin: str, seed: int) -> Readings:
    """What a plug meter and a clamp show of a stand-in: readings that agree with one another."""
    line, meter = timeline(standin, seed), plug_meter(seed)
    start = line.starts_s()[3]

    def spot(state: str, at_s: float) -> dict[str, Any]:
        shown = meter.read(line, np.array([at_s]))
        return {
            "state": state,
            **{name: round(float(column[0]), 3) for name, column in shown.items()},
        }

    hours = 21.5
    return [
        ("spot", spot("running", start + 400), "needle steady"),
        ("spot", spot("resting", start - 200), ""),
        (
            "start",
            {
                "amps": clamp_inrush(line, start, seed),
                "volts": 229.0,
                "seconds": 0.3,
                "instrument": "clamp",
            },
            "inrush mode",
        ),
        (
            "energy",
            {
                "wh": meter.counter_wh(line, 0.0, hours * 3600),
                "hours": hours,
                "step_wh": 10.0,
                "room_c": 24.0,
            },
            "counter reset at the start",
        ),
    ]


def add_supply_test(supply: Supply, kind: str, days_ago: int, note: str = "", **data: Any) -> None:
    moment = timezone.now() - timedelta(days=days_ago)
    add_test(SupplyTest(supply=supply, type=kind, data=data, tested_at=moment, note=note))


def coming(weekday: int, hour: int) -> datetime:
    """The coming such weekday (Monday is 0) at a whole hour."""
    now = timezone.localtime().replace(hour=hour, minute=0, second=0, microsecond=0)
    return now + timedelta(days=(weekday - now.weekday()) % 7 or 7)


def use_in_plan(
    plan: Plan,
    load: Load,
    windows: list[list[str]] | None = None,
    taken: bool = True,
    **more: Any,
) -> None:
    use_load(PlanEntry(plan=plan, load=load, windows=windows or [], taken_in=taken, **more))


def check_in_at(trial: Trial, run: StandinRun, hours: list[float], leg: dict[int, str]) -> None:
    """Check-ins at these hours, as the stand-in shows them; ``leg`` names what changed at one."""
    for number, hour in enumerate(hours):
        data = run.seen(hour) | ({"leg": leg[number]} if number in leg else {})
        moment = trial.started_at + timedelta(hours=hour)
        check_in(CheckIn(trial=trial, at=moment, data=data))
