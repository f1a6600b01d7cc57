"""Finished trials of a plan's supply as runs that its draws are conditioned on."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from django.utils import timezone

from needle.plan.plan import AC
from needle.quantity import hours_text
from web.plans.used import UsedLoad

if TYPE_CHECKING:
    from web.supplies.models import Supply

#: What a trial stores of a load that says how it ran, not which it is.
OF_THE_RUN = ("watts", "pulled_down_wh")
#: Share of a run's watts that loads may have drawn which the plan has not, or uses otherwise.
MOST_OTHERS = 0.15


@dataclass(frozen=True)
class UsedRun:
    """A finished trial: its run as in the document, or None and why it is unused."""

    trial: Any
    document: dict[str, Any] | None
    why_not: str = ""

    @property
    def sentence(self) -> str:
        on = timezone.localtime(self.trial.started_at)
        hours = hours_text(self.trial.hours_to(self.trial.ended_at), exact=True)
        return f"Based on the run of {on.day} {on:%b}: {hours}"


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
    loads = [
        {
            **_signature(load),
            "watts": watts.get(load.name, 0.0),
            "pulled_down_wh": pulled_down_wh.get(load.name, 0.0),
        }
        for load in used
        if load.counted
    ]
    return {"loads": loads, "charged": charged}


def _signature(used: UsedLoad) -> dict[str, Any]:
    """What must be equal for a load to count as the same in a run and in a plan."""
    return {
        "name": used.name,
        "route": used.route,
        "use": used.use,
        "setting": used.setting,
        "count": used.entry.count,
    }


def runs_of(supply: Supply, used: Sequence[UsedLoad]) -> list[UsedRun]:
    """Every finished trial of a supply, the newest first."""
    if supply.pk is None:
        return []
    trials = supply.trials.live().with_check_ins().filter(ended_at__isnull=False)
    mine = {load.name: _signature(load) for load in used if load.counted}
    runs = []
    for trial in trials:
        trial.supply = supply
        runs.append(_run(trial, mine))
    return runs


def _run(trial: Any, mine: dict[str, dict[str, Any]]) -> UsedRun:
    why_not = trial.why_not_a_run()
    if why_not:
        return UsedRun(trial, None, why_not)
    names, others_w, all_w, on_outputs = [], 0.0, 0.0, False
    for load in trial.ran["loads"]:
        signature = {key: value for key, value in load.items() if key not in OF_THE_RUN}
        all_w += load["watts"]
        if mine.get(load["name"]) == signature:
            names.append(load["name"])
        else:
            others_w += load["watts"]
            on_outputs = on_outputs or load["route"] != AC
    if not names and others_w > 0:
        return UsedRun(trial, None, "none of its loads runs so in this plan")
    # What others drew is added as AC watts: at another output it would be a guess.
    if on_outputs or others_w > MOST_OTHERS * all_w:
        return UsedRun(trial, None, "other loads ran in it")
    document: dict[str, Any] = {**trial.as_run(), "loads": [*names]}
    if others_w > 0:
        document["loads"].append({"watts": others_w})
    pulled = {load["name"]: load.get("pulled_down_wh", 0.0) for load in trial.ran["loads"]}
    if any(pulled[name] > 0 for name in names):
        document |= {"begins": "warm", "pull_down_wh": {name: pulled[name] for name in names}}
    return UsedRun(trial, document)
