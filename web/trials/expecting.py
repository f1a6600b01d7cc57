"""What is expected of a new trial: its plan, or selected loads, as a draft."""

from __future__ import annotations

from collections.abc import Collection
from copy import copy
from dataclasses import replace
from typing import Any

from needle.plan.plan import MOST_HOURS
from web.loads.models import Load
from web.plans.draft import Draft, document, draft_of
from web.plans.models import Plan, PlanEntry
from web.plans.outcomes import LONG_WAIT_S, Answer, answer_draft, current_plan
from web.plans.runs import snapshot
from web.supplies.models import Supply
from web.trials.display import seen_before
from web.trials.models import Trial

#: Hours that a run without a plan is looked at first; its answer looks as far as it must.
LOOK_H = 24.0


def expect(trial: Trial, ticked: Collection[int] = ()) -> None:
    """Store in a trial the battery and the expected course as they are now.

    ``ticked`` are primary keys of selected loads, which replace the plan. If neither can be
    simulated, nothing is expected.
    """
    if ticked:
        trial.plan = None
    trial.believed = _believed(trial)
    _expect_course(trial, _draft(trial, ticked))
    assert trial.supply is not None
    if display := seen_before(trial.supply, trial):
        trial.expected["display"] = display


def _expect_course(trial: Trial, draft: Draft | None) -> None:
    """Store what a draft makes of a trial, and what runs in it."""
    if draft is None:
        return
    answer = answer_draft(draft, LONG_WAIT_S)
    outcome = answer.outcome
    if outcome is None:
        _expect_one_unknown(trial, answer)
        return
    hours = min(outcome.plan.hours, MOST_HOURS)
    counted = [used for used in answer.used if used.counted]
    if trial.is_watch:
        # Whatever may be switched on in it is known; what the plan leaves out is off.
        trial.expected["on"] = [used.name for used in counted]
        draft = _with_every_load(draft)
    trial.expected |= {"plan": {**document(draft), "hours": hours}}
    low, mid, high = outcome.runtime
    if mid < outcome.plan.hours:
        # How good it was is judged by this when the trial has ended.
        trial.expected["runtime_h"] = [low, mid, high]
    until_h = max(1e-6, min(outcome.likely.until_h, outcome.plan.needed_hours))
    watts = {name: wh / until_h for name, wh in outcome.likely.energy_wh["loads"].items()}
    pulled_down = {load.name: load.thermal.pull_down_wh for load in outcome.plan.loads}
    trial.ran = snapshot(counted, watts, pulled_down, bool(outcome.plan.sources))


def _expect_one_unknown(trial: Trial, answer: Answer) -> None:
    """Store the only load of a trial of which nothing is known yet: the run will tell its W."""
    unknown = [used for used in answer.used if used.entry.taken_in]
    if len(unknown) == 1:
        trial.ran = snapshot(unknown, {}, {}, charged=False)


def _with_every_load(draft: Draft) -> Draft:
    """A draft that takes in all loads of the job."""
    entries = {}
    for used in draft.used:
        entry = copy(used.entry)
        entry.taken_in = True
        entries[used.load.pk] = entry
    return replace(draft, entries=entries)


def _draft(trial: Trial, ticked: Collection[int]) -> Draft | None:
    """The trial's plan, or its selected loads, under the trial's conditions."""
    assert trial.supply is not None
    supply = Supply.objects.with_parts().get(pk=trial.supply.pk)
    supply.job = trial.job
    if trial.plan is not None:
        plan = copy(trial.plan)
        plan.job = trial.job
        draft = draft_of(plan).on(supply)
    elif ticked:
        plan = Plan(job=trial.job, name=trial.name, needed_hours=LOOK_H)
        usual = draft_of(current_plan(trial.job)).entries
        entries = {
            load.pk: _ticked_entry(plan, load, usual.get(load.pk), load.pk in ticked)
            for load in trial.job.loads.live()
        }
        draft = Draft(plan, supply, entries, [])
    else:
        return None
    plan.start, plan.start_charge, plan.floor = (
        trial.started_at,
        trial.start_charge,
        trial.stop_at,
    )
    if trial.room_c is not None:
        plan.room_c = trial.room_c
    if trial.needed_h is not None:
        plan.needed_hours = trial.needed_h
    return draft


def _ticked_entry(plan: Plan, load: Load, usual: PlanEntry | None, taken_in: bool) -> PlanEntry:
    """How a selected load runs: as in the job's plan if it is included there."""
    entry = PlanEntry(plan=plan, load=load, taken_in=taken_in)
    if usual is not None:
        entry.route, entry.setting, entry.count = usual.route, usual.setting, usual.count
        entry.windows, entry.moments, entry.steps = usual.windows, usual.moments, usual.steps
        entry.charge, entry.always = usual.charge, usual.always
    return entry


def _believed(trial: Trial) -> dict[str, Any]:
    """The supply's battery with the results of its tests."""
    assert trial.supply is not None
    battery = trial.supply.to_core().battery
    document = trial.supply.to_document(outputs=())["battery"]
    document["capacity_factor"] = battery.state_of_health.value
    document["capacity_spread"] = battery.state_of_health.spread
    return {"battery": document}
