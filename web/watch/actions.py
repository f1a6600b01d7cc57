"""All changes of a watch."""

from __future__ import annotations

from collections.abc import Collection
from datetime import datetime, timedelta
from typing import Any

from django.utils import timezone

from needle.quantity import hours_text
from web.common.units import day_clock
from web.jobs.actions import save_change
from web.jobs.models import Job
from web.plans.draft import draft_of, supply_of
from web.plans.forms import floor_of
from web.plans.models import Plan
from web.plans.outcomes import current_plan
from web.trials.actions import check_in, end_trial, start_trial
from web.trials.expecting import expect
from web.trials.models import CheckIn, Trial

#: Hours for which a charger is run at a tap.
CHARGE_H = 2.0


def running_watch(job: Job) -> Trial | None:
    """The job's watch that is under way, the newest; None without one."""
    running = job.trials.live().with_check_ins().filter(ended_at=None, needed_h__isnull=False)
    watch: Trial | None = running.select_related("supply", "plan").first()
    if watch is not None:
        watch.job = job
        if watch.supply is not None:
            watch.supply.job = job
    return watch


def begin_watch(job: Job) -> Trial:
    """Begin a watch on the job's current plan, now, from the charge of the plan.

    One that runs already goes on: a second tap begins nothing.
    """
    if (watch := running_watch(job)) is not None:
        return watch
    plan = current_plan(job)
    plan.job = job
    supply = supply_of(plan)
    now = timezone.localtime()
    trial = Trial(
        job=job,
        name=f"Outage of {now:%a} {now.day} {now:%b}"[:80],
        plan=plan if plan.pk else None,
        supply=supply,
        started_at=now,
        start_charge=plan.start_charge,
        stop_at=floor_of(Plan(supply=supply, floor=plan.floor)) or 0.0,
        room_c=plan.room_c,
        needed_h=plan.needed_hours,
    )
    ticked = () if plan.pk else {used.load.pk for used in draft_of(plan).used if used.counted}
    return start_trial(trial, ticked)


def change_watch(trial: Trial, since: datetime, charge: float, until: datetime) -> None:
    """Correct since when it is out, the charge then (share), and until when it is needed.

    Raises
    ------
    needle.document.DocumentError
    """
    trial.started_at, trial.start_charge = since, charge
    trial.needed_h = (until - since).total_seconds() / 3600
    on = trial.expected.get("on")
    expect(trial, _ticked(trial))
    if on is not None and trial.expected.get("plan"):
        trial.expected["on"] = [name for name in trial.load_names if name in on]
    trial.to_core()
    save_change(trial.job, trial, f"Changed {trial.name}")


def _ticked(trial: Trial) -> set[int]:
    """Loads of a watch without a plan."""
    if trial.plan is not None:
        return set()
    return {used.load.pk for used in draft_of(current_plan(trial.job)).used if used.counted}


def switch(trial: Trial, on: Collection[str]) -> CheckIn:
    """Record which loads are on from now on.

    Raises
    ------
    needle.document.DocumentError
    """
    names = [name for name in trial.load_names if name in on]
    return _now(trial, {"on": names})


def run_charger(trial: Trial, name: str, begin: datetime) -> None:
    """Plan a charger of the trial's plan for two hours from a moment on.

    Raises
    ------
    LookupError
        The plan has no such charger.
    needle.document.DocumentError
        It runs then already.
    """
    window = [begin.isoformat(), (begin + timedelta(hours=CHARGE_H)).isoformat()]
    plan = trial.expected["plan"]
    sources = [dict(source) for source in plan.get("sources", [])]
    chargers = [source for source in sources if source.get("name") == name and "between" in source]
    mine = chargers[0]
    mine["between"] = [*mine["between"], window]
    trial.expected = {**trial.expected, "plan": {**plan, "sources": sources}}
    trial.to_core()
    label = f"{name} runs from {day_clock(begin)} for {hours_text(CHARGE_H)}"
    save_change(trial.job, trial, label)


def look(trial: Trial, percent: float) -> CheckIn:
    """Store what the display shows now, in percent.

    Raises
    ------
    needle.document.DocumentError
    """
    return _now(trial, {"percent": percent})


def _now(trial: Trial, data: dict[str, Any]) -> CheckIn:
    """Store a check-in of this moment, with the room for a second one in it."""
    at = timezone.now()
    last = max((record.at for record in trial.known_check_ins()), default=trial.started_at)
    return check_in(CheckIn(trial=trial, at=max(at, last + timedelta(seconds=1)), data=data))


def power_is_back(trial: Trial, percent: float | None, charged_wh: float | None) -> None:
    """End a watch, with the charge at its end and the Wh that went in, where they were read."""
    read = {"percent": percent, "wh_in": charged_wh}
    seen = {key: value for key, value in read.items() if value is not None}
    last = max((record.at for record in trial.known_check_ins()), default=trial.started_at)
    at = max(timezone.now(), last + timedelta(seconds=1))
    end_trial(trial, at, "by hand", seen, f"{trial.name}: power is back")
