"""What changes trials and check-ins."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from django.db import transaction

from needle.standin.run import StandinRun
from needle.standin.supplies import standin_supply
from needle.supply.supply import parse_supply
from needle.trial.follow import next_check_ins
from needle.trial.forecast import forecast
from needle.trial.trial import expected_of
from web.jobs.actions import as_one, remove, save_change, save_new
from web.loads.actions import add_reading
from web.plans.outcomes import Answer
from web.plans.runs import snapshot
from web.supplies.actions import add_test
from web.supplies.models import SupplyTest
from web.trials.models import CheckIn, Trial


def start_trial(trial: Trial, answer: Answer | None) -> Trial:
    """Store a new trial with what is believed now: its supply, and what the plan expects."""
    if answer is not None and answer.outcome is not None:
        trial.expected = expected_of(answer.outcome)
        outcome = answer.outcome
        until_h = max(1e-6, min(outcome.until_h, outcome.plan.needed_hours))
        watts = {name: wh / until_h for name, wh in outcome.energy_wh["loads"].items()}
        trial.ran = snapshot(answer.used, watts, bool(outcome.plan.sources))
    assert trial.supply is not None
    trial.believed = believed_of(trial)
    return save_new(trial.job, trial, f"Started {trial.name}")[0]


def believed_of(trial: Trial) -> dict[str, Any]:
    """The supply's battery as it is known now: figures that tests gave, not the tests."""
    assert trial.supply is not None
    battery = trial.supply.to_core().battery
    document = trial.supply.to_document(outputs=())["battery"]
    document["capacity_factor"] = battery.state_of_health.value
    document["capacity_spread"] = battery.state_of_health.spread
    return {"battery": document}


def change_trial(trial: Trial) -> None:
    save_change(trial.job, trial, f"Changed {trial.name}")


def remove_trial(trial: Trial) -> None:
    remove(trial.job, trial, f"Removed {trial.name}")


def check_in(record: CheckIn) -> CheckIn:
    """Store a new or a corrected check-in.

    Raises
    ------
    needle.document.DocumentError
        The core does not take the trial with it.
    """
    trial = record.trial
    with transaction.atomic():
        if record.pk is None:
            record = save_new(trial.job, record, f"Checked in on {trial.name}")[0]
        else:
            save_change(trial.job, record, f"Corrected a check-in of {trial.name}")
        Trial.objects.get(pk=trial.pk).to_core()
    return record


def remove_check_in(record: CheckIn) -> None:
    remove(record.trial.job, record, f"Removed a check-in of {record.trial.name}")


def end_trial(trial: Trial, at: datetime, why: str) -> None:
    """End a trial, or say anew how it ended.

    Raises
    ------
    needle.document.DocumentError
    """
    trial.ended_at, trial.ended_why = at, why
    trial.to_core()
    save_change(trial.job, trial, f"{trial.name} {trial.get_ended_why_display()}")


def resume_trial(trial: Trial) -> None:
    """Let an ended trial run on."""
    trial.ended_at, trial.ended_why = None, ""
    save_change(trial.job, trial, f"{trial.name} runs on")


def carried_test(trial: Trial, used_wh: float) -> SupplyTest:
    """A trial that was counted, as a capacity test of its supply; not stored."""
    assert trial.ended_at is not None and trial.supply is not None
    data = {
        "wh": round(used_wh, 1),
        "hours": round(trial.hours_to(trial.ended_at), 2),
        "from": trial.start_charge,
        "to": 0.0 if trial.ended_why == "cutoff" else trial.stop_at,
    }
    return SupplyTest(
        supply=trial.supply, type="capacity", data=data, tested_at=trial.ended_at,
        note=trial.carry_note,
    )  # fmt: skip


def carry_into_supply(trial: Trial, used_wh: float) -> SupplyTest:
    """Let what a trial proved speak for its supply."""
    return add_test(carried_test(trial, used_wh))


def carry_into_load(change: Any) -> None:
    """Let what a trial of one load proved speak for that load.

    ``change`` is a :class:`web.trials.page.Learnt`.
    """
    add_reading(change.load, "charge-drop", change.data, note=change.note)


def simulated_run(trial: Trial) -> StandinRun:
    """The stand-in that runs a simulated trial."""
    assert trial.simulated_seed is not None
    supply = parse_supply(trial.believed)
    twin = standin_supply(supply, trial.simulated_seed)
    hourly = trial.expected.get("by_hour") or [trial.expected.get("value", 50.0)]
    return StandinRun(twin, tuple(hourly), trial.simulated_seed, trial.start_charge)


def simulate_on(trial: Trial, to_the_end: bool = False) -> None:
    """Check in as the stand-in shows it: at the next suggested time, or at all until it stops."""
    run = simulated_run(trial)
    stop_h = run.stop_h(trial.stop_at)
    with as_one(trial.job, f"The simulated supply ran {trial.name} on"):
        while trial.ended_at is None:
            hours = next_check_ins(forecast(trial.to_core()))
            hour = hours[0] if hours else stop_h
            if hour >= stop_h:
                moment = trial.started_at + timedelta(hours=stop_h)
                end_trial(trial, moment, "floor" if trial.stop_at > 0 else "cutoff")
            else:
                moment = trial.started_at + timedelta(hours=hour)
                check_in(CheckIn(trial=trial, at=moment, data=run.seen(hour)))
                del trial.live_check_ins
            if not to_the_end:
                break
