"""What a stored plan comes to: its open document, run by the core, kept while nothing changes."""

from __future__ import annotations

import hashlib
import json
import math
from dataclasses import dataclass, replace
from datetime import timedelta
from typing import Any

from django.core.cache import cache
from django.utils import timezone

from needle.document import DocumentError
from needle.plan.advice import Narrowing, measure_next
from needle.plan.helps import Help, helps, hours_won
from needle.plan.plan import MOST_HOURS, parse_plan
from needle.plan.plan import Plan as CorePlan
from needle.plan.simulate import Outcome, likely_hours, simulate
from needle.profile.profile import Profile
from web.jobs.models import Job
from web.loads.models import Load, loads_of
from web.plans.models import Plan, PlanEntry
from web.supplies.models import StartTest, Supply

#: Raised when the core answers the same document differently.
ANSWER_VERSION = 2
#: Cells (loads times minutes times draws) that one answer may cost.
MOST_CELLS = 40e6
KEPT_S = 24 * 3600
#: Plans of up to so many loads are answered while one waits.
QUICK_LOADS = 40


@dataclass(frozen=True)
class Used:
    """One load as a plan uses it."""

    load: Load
    profile: Profile | None
    entry: PlanEntry
    windows: list[list[str]]
    assumed: str

    @property
    def counted(self) -> bool:
        return self.entry.taken_in and self.profile is not None


@dataclass(frozen=True)
class Answer:
    """What a plan comes to, or why it cannot be answered yet.

    ``trouble`` is empty, or one of ``loads``, ``evidence``, ``supply``, ``inverter``, ``refused``,
    ``pending``; then ``outcome`` is None and ``words`` says what is missing.
    """

    plan: Plan
    supply: Supply | None
    used: list[Used]
    outcome: Outcome | None
    narrowings: list[Narrowing]
    helps: list[Help]
    trouble: str = ""
    words: str = ""


def current_plan(job: Job) -> Plan:
    """The plan that the answer bar speaks of; an unsaved one where the job has none yet."""
    plans = list(job.plans.live().select_related("supply"))
    current = next((plan for plan in plans if plan.is_current), plans[0] if plans else None)
    return current or Plan(job=job, name="Outage", is_current=True)


def supply_of(plan: Plan) -> Supply | None:
    """The plan's supply, or the job's first where it names none or one that was removed."""
    if plan.supply is not None and plan.supply.removed_at is None:
        return plan.supply
    return plan.job.supplies.live().first()


def loads_used(plan: Plan) -> list[Used]:
    """Every load of the job, as the plan uses it; in three queries."""
    entries = {} if plan.pk is None else {one.load_id: one for one in plan.entries.live()}
    found = []
    for load in loads_of(plan.job):
        entry = entries.get(load.pk) or PlanEntry(plan=plan, load=load)
        windows, assumed = _windows(plan, load, entry)
        found.append(Used(load, load.profile(), entry, windows, assumed))
    return found


def _windows(plan: Plan, load: Load, entry: PlanEntry) -> tuple[list[list[str]], str]:
    """When a load is in use, and what had to be assumed about it."""
    if entry.windows:
        return entry.windows, ""
    if not load.core_kind.by_use and load.hours_per_day is None:
        return [], ""
    if load.hours_per_day is None:
        return [], "counted as always on: say when it is used"
    if load.hours_per_day == 0 or load.hours_per_day >= 24:
        return [], ""
    start = timezone.localtime(plan.start)
    end = start + timedelta(hours=load.hours_per_day)
    return [[f"{start:%H:%M}", f"{end:%H:%M}"]], "its hours a day, from the plan's start on"


def document(plan: Plan, supply: Supply, used: list[Used]) -> dict[str, Any]:
    """The plan as the open document of ``docs/formats.md``."""
    battery: dict[str, Any] = {"start_charge": plan.start_charge}
    if plan.floor is not None:
        battery["floor"] = plan.floor
    names: set[str] = set()
    loads = []
    tried = results_on(supply)
    for one in used:
        if one.counted:
            name = one.load.name if one.load.name not in names else f"{one.load} ({one.load.pk})"
            names.add(name)
            loads.append(_load_document(one, name, tried.get(one.load.pk, "")))
    return {
        "name": plan.name,
        "start": timezone.localtime(plan.start).isoformat(),
        "hours": plan.needed_hours,
        "needed_hours": plan.needed_hours,
        "room_c": plan.room_c,
        "supply": supply.to_document(outputs=(), **battery),
        "loads": loads,
    }


def results_on(supply: Supply) -> dict[int, str]:
    """What came of the newest start test of each load on a supply, by the load's key."""
    tests = supply.start_tests.live() if supply.pk else StartTest.objects.none()
    return dict(tests.values_list("load_id", "result"))


def _load_document(used: Used, name: str, tested: str) -> dict[str, Any]:
    profile, load = used.profile, used.load
    assert profile is not None
    resting = profile.resting_w.value if profile.resting_w else 0.0
    resting = min(resting, profile.mean_w.value, profile.running_w.value)
    span = profile.running_w.value - resting
    duty = (profile.mean_w.value - resting) / span if span > 0 else 1.0
    found = {
        "name": name,
        "route": "ac",
        "running_w": profile.running_w.value,
        "resting_w": resting,
        "duty": min(1.0, max(0.0, duty)),
        "cycle_min": min(10_080.0, max(0.5, profile.cycle_min)),
        "power_factor": max(0.01, profile.power_factor.value),
        "start_va": profile.start_va.value,
        "start_s": profile.start_s,
        "spread": min(2.0, profile.mean_w.spread),
        "use": {"between": used.windows} if used.windows else "always",
        "priority": load.priority,
        "count": used.entry.count,
        "start_tested": tested,
    }
    if load.set_c is not None and profile.measured_room_c is not None:
        found |= {"set_c": load.set_c, "measured_room_c": profile.measured_room_c}
    return found


def answer(plan: Plan, at_once: bool = False) -> Answer:
    """Run a stored plan, or say what it still wants.

    With ``at_once`` an answer that is not kept yet and would take long is left ``pending``.
    """
    used, supply = loads_used(plan), supply_of(plan)
    trouble, words = _missing(used, supply)
    if not trouble and supply is not None:
        try:
            doc = document(plan, supply, used)
            if at_once and len(doc["loads"]) > QUICK_LOADS and cache.get(_key(doc)) is None:
                return Answer(plan, supply, used, None, [], [], "pending", "Working it out…")
            outcome, narrowings, helps = _run(doc)
        except DocumentError as error:
            trouble, words = "refused", f"The plan cannot be run: {error}."
        else:
            return Answer(plan, supply, used, outcome, narrowings, helps)
    return Answer(plan, supply, used, None, [], [], trouble, words)


def _missing(used: list[Used], supply: Supply | None) -> tuple[str, str]:
    if not used:
        return "loads", "No load yet: add the first thing that must run."
    if supply is None:
        return "supply", "No supply yet: add the battery that shall carry these loads."
    if not any(one.counted for one in used):
        if any(one.entry.taken_in for one in used):
            return "evidence", "No load has a label or a reading yet: give one of them a figure."
        return "loads", "Every load is left out of this plan: take one in."
    if not supply.continuous_w:
        return "inverter", f"{supply.name} has no inverter: give its continuous watts."
    return "", ""


def _key(doc: dict[str, Any]) -> str:
    text = json.dumps([ANSWER_VERSION, doc], sort_keys=True)
    return "answer:" + hashlib.sha256(text.encode()).hexdigest()


def _run(doc: dict[str, Any]) -> tuple[Outcome, list[Narrowing], list[Help]]:
    key = _key(doc)
    kept = cache.get(key)
    if kept is None:
        plan = _with_horizon(parse_plan(doc))
        outcome = simulate(plan, draws=_draws(plan))
        kept = (outcome, measure_next(outcome), helps(outcome))
        cache.set(key, kept, KEPT_S)
    return kept


def won_by(found: Answer, load: Load, running_w: float) -> tuple[float, float, float] | None:
    """Hours that an answered plan wins where a load runs at other W; None where it is not in it."""
    if found.supply is None or found.outcome is None:
        return None
    plan = found.outcome.plan
    if not any(one.name == load.name for one in plan.loads):
        return None
    changed = tuple(
        replace(one, running_w=running_w) if one.name == load.name else one for one in plan.loads
    )
    return hours_won(plan, replace(plan, loads=changed))


def _with_horizon(plan: CorePlan) -> CorePlan:
    """Look far enough ahead that the high end of the answer is seen, where it can be."""
    likely = likely_hours(replace(plan, hours=MOST_HOURS))
    far = max(plan.needed_hours * 1.1, likely * 1.6 + 2)
    return replace(plan, hours=min(MOST_HOURS, float(math.ceil(far))))


def _draws(plan: CorePlan) -> int:
    cells = plan.hours * 60 * max(1, sum(load.count for load in plan.loads))
    return int(min(200, max(60, MOST_CELLS / cells)))
