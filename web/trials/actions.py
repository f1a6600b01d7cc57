"""All changes of trials and check-ins."""

from __future__ import annotations

import math
import uuid
from collections.abc import Collection, Sequence
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction

from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate
from needle.standin.run import StandinRun
from needle.standin.supplies import StandinSupply, standin_supply
from needle.supply.supply import parse_supply
from needle.trial.forecast import forecast
from needle.trial.trial_summary import check_ins_until
from web.jobs.actions import as_one, remove, save_change, save_new
from web.jobs.models import Job
from web.loads.actions import add_reading
from web.plans.actions import save_source
from web.supplies.actions import add_test
from web.trials.expecting import expect
from web.trials.models import CheckIn, Trial
from web.trials.switching import with_earlier_change
from web.trials.taught import Carry, Learnt, SunSeen

#: Draws of a plan that tell what a stand-in runs.
STANDIN_DRAWS = 60


def start_trial(trial: Trial, ticked: Collection[int] = ()) -> Trial:
    """Store a new trial with its supply and expected course.

    ``ticked`` are primary keys of the loads that run in it without a plan.
    """
    expect(trial, ticked)
    return save_new(trial.job, trial, f"Started {trial.name}")[0]


def enter_run(
    trial: Trial, ticked: Collection[int], check_ins: Sequence[dict[str, Any]], ended_h: float
) -> Trial:
    """Store a finished run: the trial, its check-ins (document keys), and its end.

    One undo takes back all of it.

    Raises
    ------
    needle.document.DocumentError
    """
    expect(trial, ticked)
    trial.ended_at = trial.started_at + timedelta(hours=ended_h)
    with transaction.atomic():
        stored, created = save_new(trial.job, trial, f"Entered the run {trial.name}")
        if created:
            CheckIn.objects.bulk_create(
                CheckIn(
                    trial=stored,
                    at=stored.started_at + timedelta(hours=check_in["h"]),
                    data={key: value for key, value in check_in.items() if key != "h"},
                )
                for check_in in check_ins
            )
        stored.to_core()
    return stored


def follow_runs(job: Job, follows: bool) -> None:
    """Let the ranges of a job's plans follow how its runs ended, or leave them as they were."""
    job.follows_runs = follows
    save_change(job, job, "Ranges follow earlier runs" if follows else "Ranges left as they were")


def change_trial(trial: Trial) -> None:
    save_change(trial.job, trial, f"Changed {trial.name}")


def remove_trial(trial: Trial) -> None:
    remove(trial.job, trial, f"Removed {trial.name}")


def check_in(record: CheckIn) -> CheckIn:
    """Store a new or a corrected check-in.

    Raises
    ------
    needle.document.DocumentError
        The core refuses the trial with it.
    """
    trial = record.trial
    label = f"Checked in on {trial.name}"
    with transaction.atomic():
        if record.pk is None:
            with as_one(trial.job, label):
                record, created = save_new(trial.job, record, label)
                if created:
                    _correct_later(record, label)
        else:
            save_change(trial.job, record, f"Corrected a check-in of {trial.name}")
        Trial.objects.get(pk=trial.pk).to_core()
    return record


def _correct_later(record: CheckIn, label: str) -> None:
    """Correct what runs by later check-ins, where a new one is entered before them."""
    trial = Trial.objects.with_check_ins().get(pk=record.trial_id)
    trial.job = record.trial.job
    later = [other for other in trial.known_check_ins() if other.at > record.at]
    if "on" not in record.data or not later:
        return
    before = trial.on_at(record.at, record)
    corrected = with_earlier_change(before, record.data["on"], [other.data for other in later])
    for other, data in zip(later, corrected, strict=True):
        if data != other.data:
            other.data = data
            save_change(trial.job, other, label)


def remove_check_in(record: CheckIn) -> None:
    remove(record.trial.job, record, f"Removed a check-in of {record.trial.name}")


def end_trial(
    trial: Trial, at: datetime, why: str, seen: dict[str, Any] | None = None, label: str = ""
) -> None:
    """End a trial, or correct how it ended; ``seen`` are the figures at its end.

    ``label`` is what the change is called; "" for how it ended.

    Raises
    ------
    needle.document.DocumentError
    """
    trial.ended_at, trial.ended_why = at, why
    label = label or f"{trial.name} {trial.get_ended_why_display()}"
    with as_one(trial.job, label):
        if seen:
            save_new(trial.job, CheckIn(trial=trial, at=at, data=seen), label)
            vars(trial).pop("live_check_ins", None)
        trial.to_core()
        save_change(trial.job, trial, label)


def resume_trial(trial: Trial) -> None:
    """Continue an ended trial."""
    trial.ended_at, trial.ended_why = None, ""
    save_change(trial.job, trial, f"{trial.name} runs on")


def carry_over(
    trial: Trial, carry: Carry | None, learnt: Learnt | None, sun: SunSeen | None = None
) -> None:
    """Store what a trial taught where it belongs, once, as one change.

    Its capacity becomes a test of its supply, the mean of a load that ran alone a reading of it,
    whole days of sun measured days of its plan's panels.
    """
    with as_one(trial.job, f"Carried {trial.name} over"):
        if carry is not None and not carry.done:
            trial.carried_test = add_test(carry.test)
        if learnt is not None and not learnt.done:
            key = uuid.uuid5(trial.client_key, f"charge drop of {learnt.load.pk}")
            trial.carried_reading = add_reading(
                learnt.load, "charge-drop", learnt.data, note=learnt.note, client_key=key
            )
        if sun is not None and not sun.done:
            sun.source.data = {**sun.source.data, "measured": list(sun.measured)}
            save_source(sun.source)
        save_change(trial.job, trial, "")


def simulated_run(trial: Trial) -> StandinRun:
    """The simulated supply of a simulated trial."""
    assert trial.simulated_seed is not None
    twin = standin_supply(parse_supply(trial.believed), trial.simulated_seed)
    return run_on(twin, trial, trial.simulated_seed)


def run_on(twin: StandinSupply, trial: Trial, seed: int) -> StandinRun:
    """A simulated supply that roughly follows what a trial expects, up to its stop."""
    drawn: Sequence[float] = trial.expected.get("by_hour") or [trial.expected.get("value", 50.0)]
    given: Sequence[float] = [0.0]
    if document := trial.expected.get("plan"):
        # What trips in the plan does not run on the stand-in either.
        outcome = simulate(parse_plan(document), STANDIN_DRAWS)
        until = max(1, math.ceil(outcome.runtime[1]))
        drawn, given = (
            outcome.likely.drawn_w[:until].tolist(),
            outcome.likely.sources_w[:until].tolist(),
        )
    return StandinRun(twin, tuple(drawn), seed, trial.start_charge, tuple(given))


def simulate_on(trial: Trial, to_the_end: bool = False) -> None:
    """Check in as the simulated supply shows: at the next suggested time, or until it stops.

    Everything is computed before the database is locked. A double submission acts once: if another
    request checked in meanwhile, that counts.
    """
    run = simulated_run(trial)
    stop_h = run.stop_h(trial.stop_at)
    checkpoints = check_ins_until(stop_h, forecast(trial.to_core()))
    ends = to_the_end or not checkpoints
    shown = [(hour, run.seen(hour)) for hour in (checkpoints if to_the_end else checkpoints[:1])]
    with as_one(trial.job, f"The simulated supply ran {trial.name} on"):
        trial.as_stored()
        if trial.check_ins.live().count() != len(trial.known_check_ins()):
            return
        for hour, data in shown:
            check_in(CheckIn(trial=trial, at=trial.started_at + timedelta(hours=hour), data=data))
        vars(trial).pop("live_check_ins", None)
        if ends:
            moment = trial.started_at + timedelta(hours=stop_h)
            end_trial(trial, moment, "floor" if trial.stop_at > 0 else "cutoff")
