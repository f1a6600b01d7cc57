"""Finished trials of a plan's supply as runs that its draws are conditioned on."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from django.utils import timezone

from needle.plan.documents.measured import load_document, use_hours
from needle.plan.load import AC
from needle.quantity import hours_text
from web.jobs.models import Job
from web.loads.models import Load, loads_of, numbers_of
from web.plans.used import UsedLoad

if TYPE_CHECKING:
    from web.supplies.models import Supply

#: Runs that a plan rests on at the most, the newest.
MOST_RUNS = 40
#: What of a load's document says how it ran; the rest is for advice and limits.
_AS_IT_RAN = (
    "id",
    "kind",
    "route",
    "use",
    "steps",
    "charge",
    "count",
    "set_c",
    "measured_room_c",
    "measured_set_c",
    "adapter",
    "adapter_spread",
)


@dataclass(frozen=True)
class UsedRun:
    """A finished trial: its run as in the document, or None and why it is unused."""

    trial: Any
    document: dict[str, Any] | None
    why_not: str = ""

    @property
    def sentence(self) -> str:
        on = timezone.localtime(self.trial.started_at)
        hours = hours_text(self.trial.hours_to(self.trial.ended_at))
        return f"Based on the run of {on.day} {on:%b}: {hours}"

    @property
    def routes(self) -> set[str]:
        """Routes of its supply that its loads ran on."""
        return {load["route"] for load in _whole_loads(self.document or {})}


def _whole_loads(run: Mapping[str, Any]) -> list[dict[str, Any]]:
    """The loads that are described in a run's document."""
    parts = run.get("legs") or [run]
    return [load for part in parts for load in part.get("loads", ()) if "name" in load]


def snapshot(
    used: Sequence[UsedLoad],
    watts: Mapping[str, float],
    pulled_down_wh: Mapping[str, float],
    charged: bool,
) -> dict[str, Any]:
    """What a trial stores of the loads that run in it.

    Parameters
    ----------
    used : sequence of UsedLoad
    watts : dict
        Mean W of each at the start, by its name.
    pulled_down_wh : dict
        Wh that each takes at the start to cool its contents down, by its name.
    charged : bool
        Whether sources charged meanwhile.
    """
    numbers = numbers_of(used[0].load.job) if used else {}
    loads = [
        {
            "id": f"load {numbers[load.load.pk]}",
            "name": load.name,
            "route": load.route,
            "use": load.use,
            "setting": load.setting,
            "count": load.entry.count,
            "watts": watts.get(load.name, 0.0),
            "pulled_down_wh": pulled_down_wh.get(load.name, 0.0),
        }
        for load in used
    ]
    return {"loads": loads, "charged": charged}


def runs_of(supply: Supply, job: Job) -> list[UsedRun]:
    """Every finished trial of a supply, the newest first."""
    if supply.pk is None:
        return []
    numbers = numbers_of(job)
    loads = {f"load {numbers[load.pk]}": load for load in loads_of(job)}
    runs: list[UsedRun] = []
    for trial in ended_trials(job):
        if trial.supply_id == supply.pk:
            trial.supply = supply
            counting = sum(run.document is not None for run in runs)
            if counting < MOST_RUNS:
                runs.append(_run(trial, loads))
            else:
                runs.append(UsedRun(trial, None, f"{MOST_RUNS} newer runs say enough"))
    return runs


def trials_of(job: Job) -> list[Any]:
    """The job's trials with their check-ins, the newest first; fetched once per request."""
    if job.cache.trials is None:
        trials: Any = job.trials.live()
        job.cache.trials = list(trials.with_check_ins())
    return list(job.cache.trials)


def ended_trials(job: Job) -> list[Any]:
    """The job's finished trials."""
    return [trial for trial in trials_of(job) if not trial.running]


def _run(trial: Any, loads: Mapping[str, Load]) -> UsedRun:
    why_not = trial.why_not_a_run()
    if why_not:
        return UsedRun(trial, None, why_not)
    names = {load.name for load in loads.values()}
    plan = trial.expected["plan"]
    # A load on AC did not run where there was no inverter.
    fed = {
        stored["name"]: _as_it_ran(trial, stored, loads.get(stored.get("id", "")), names)
        for stored in plan["loads"]
        if stored.get("route", AC) != AC or plan["supply"].get("inverter")
    }
    routes = {output.name for output in trial.supply.known_outputs()}
    routes |= {AC} if trial.supply.continuous_w else set()
    run = UsedRun(trial, trial.as_run(fed))
    if gone := run.routes - routes:
        return UsedRun(trial, None, f"its loads ran on {min(gone)}, which is there no longer")
    return run


def _as_it_ran(
    trial: Any, stored: Mapping[str, Any], load: Load | None, names: set[str]
) -> dict[str, Any]:
    """A load of a trial's plan: used as it was then, and as well known as it is now.

    One that was removed since is as it was known then.
    """
    then = {key: stored[key] for key in _AS_IT_RAN if stored.get(key) is not None}
    then.setdefault("route", AC)
    profile = None
    if load is not None:
        hours = use_hours(then.get("use", {}))
        profile = load.profile(
            trial.ran_as(stored).get("setting", ""), hours > 0, trial.carried_readings
        )
    if load is None or profile is None:
        known = {key: value for key, value in stored.items() if key not in _NOT_OF_A_RUN}
        taken = load is None and stored["name"] in names
        return {**known, "name": f"{stored['name']} (removed)" if taken else stored["name"]}
    use = then.get("use")
    if "uses_per_day" in stored and isinstance(use, dict) and "tasks" in use:
        use = {"tasks": len(use["tasks"])}  # Their times were assumed.
    now = load_document(profile, load.name, use)
    if then.get("set_c") is not None and profile.measured_room_c is not None:
        now["measured_room_c"] = profile.measured_room_c
    return {**then, **now, "notices": []}


#: What a plan says of a load that has no place in a run.
_NOT_OF_A_RUN = ("can", "settings", "notices", "pull_down_h", "pull_down_wh", "purpose")
