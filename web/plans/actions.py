"""All changes of plans."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any, TypeVar

from django.db import transaction

from needle.moments import parse_windows
from needle.plan.advice.shift import Move, propose
from needle.plan.advice.suggestions import CHARGE_MIN, Change
from needle.plan.plan import Plan as CorePlan
from needle.usage.schedule import moved_block
from web.common.models import Record, StaleRecordError
from web.common.units import said
from web.jobs.actions import as_one, remove, save_change, save_new
from web.plans.draft import Draft
from web.plans.models import Plan, PlanEntry, PlanSource

R = TypeVar("R", bound=Record)


def save_plan(plan: Plan) -> Plan:
    """Store a new or changed plan; a job's first plan becomes its current one."""
    if plan.pk is not None:
        save_change(plan.job, plan, f"Changed {plan.name}")
        return plan
    plan.is_current = not plan.job.plans.live().filter(is_current=True).exists()
    return save_new(plan.job, plan, f"Added {plan.name}")[0]


def use_load(entry: PlanEntry) -> None:
    """Store how a plan uses a load; a default plan is stored first.

    Raises
    ------
    StaleRecordError
        Another request stored the entry after the form was read.
    """
    with transaction.atomic():
        if entry.plan.pk is None:
            entry.plan = save_plan(entry.plan)
        words = entry.load.name if entry.taken_in else f"{entry.load.name}, left out"
        known = PlanEntry.objects.live().filter(plan=entry.plan, load=entry.load).first()
        if entry.pk is None and known is not None and known.client_key != entry.client_key:
            raise StaleRecordError
        if entry.pk is None:
            # One that an undo had taken out makes room for the new one.
            PlanEntry.objects.filter(plan=entry.plan, load=entry.load).exclude(
                removed_at=None
            ).delete()
            save_new(entry.plan.job, entry, f"Set the use of {words}")
        else:
            save_change(entry.plan.job, entry, f"Changed the use of {words}")


def save_source(source: PlanSource) -> None:
    """Store a new or changed source; a default plan is stored first."""
    with transaction.atomic():
        if source.plan.pk is None:
            source.plan = save_plan(source.plan)
        if source.pk is None:
            save_new(source.plan.job, source, f"Added {source.name}")
        else:
            save_change(source.plan.job, source, f"Changed {source.name}")


def remove_source(source: PlanSource) -> None:
    remove(source.plan.job, source, f"Removed {source.name}")


def keep_conditions(draft: Draft, names: Collection[str]) -> None:
    """Store conditions that were tried, undone as one.

    ``names`` are the changed ones: fields of the plan, or ``clouds`` of its suns.
    """
    plan = draft.plan
    with as_one(plan.job, f"Changed the conditions of {plan.name}"):
        if set(names) - {"clouds"}:
            save_plan(plan)
        if "clouds" in names:
            for source in draft.sources:
                if source.kind == "sun":
                    save_source(source)


def copy_plan(draft: Draft) -> Plan:
    """Store a copy of a plan with its entries and sources, undone as one."""
    job, old = draft.plan.job, draft.plan
    with as_one(job, f"Copied {old.name}"):
        plan = _copy(old, name=f"{old.name[:72]}, copy", is_current=False)
        save_new(job, plan, "")
        for record in (*draft.entries.values(), *draft.sources):
            save_new(job, _copy(record, plan=plan), "")
    return plan


def _copy(record: R, **changes: Any) -> R:
    """An unsaved record like another."""
    own = {"id", "client_key", "version", "created_at", "changed_at", "removed_at"}
    values = {
        field.attname: getattr(record, field.attname)
        for field in record._meta.concrete_fields
        if field.name not in own
    }
    copied = type(record)(**values)
    for name, value in changes.items():
        setattr(copied, name, value)
    return copied


def place_tasks(draft: Draft, moves: Sequence[Move]) -> None:
    """Store the moves of a proposal, undone as one.

    Raises
    ------
    DocumentError
    """
    with as_one(draft.plan.job, f"Moved {len(moves)} task{'s' if len(moves) > 1 else ''}"):
        for used in draft.used:
            mine = [move for move in moves if move.load == used.name]
            if mine:
                use = used.use
                for move in mine:
                    use = moved_block(use, move.index, move.to_minute - move.minute)
                used.entry.use = use
                use_load(used.entry)


def _done(change: Change) -> str:
    """What was done, for the message."""
    return f"{change.load} left off" if change.kind == "leave_off" else f"Done: {said(change.what)}"


def apply_help(draft: Draft, change: Change, plan: CorePlan) -> None:
    """Store the change of a suggestion, undone as one.

    Raises
    ------
    DocumentError
        It no longer fits the plan.
    """
    stored = draft.plan
    # Worked out before the database is kept from others.
    moves = propose(plan) if change.kind == "place" else []
    with as_one(stored.job, _done(change)):
        if change.kind == "place":
            place_tasks(draft, moves)
        elif change.kind == "rest":
            stored.inverter_off = [change.to.split("-")]
            save_plan(stored)
        elif change.kind == "charge":
            _run_longer(draft, change.to)
        else:
            _change_load(draft, change)


def _change_load(draft: Draft, change: Change) -> None:
    entry = next(used_load.entry for used_load in draft.used if used_load.name == change.load)
    if change.kind == "leave_off":
        entry.taken_in = False
    elif change.kind == "route":
        entry.route = change.to
    elif change.kind == "setting":
        entry.setting = change.to
    elif change.kind == "set_point":
        entry.set_c = float(change.to)
    use_load(entry)


def _run_longer(draft: Draft, begin: str) -> None:
    """Two more hours of the plan's first charger, once."""
    source = next(source for source in draft.sources if source.kind == "window" and source.taken_in)
    last = (datetime.fromisoformat(begin) + timedelta(minutes=CHARGE_MIN)).isoformat()
    between = [*source.data["between"], [begin, last]]
    parse_windows(between, "between", UTC)
    source.data = {**source.data, "between": between}
    save_source(source)


def make_current(plan: Plan) -> None:
    """Make this the job's current plan."""
    with transaction.atomic():
        plan.job.plans.filter(is_current=True).exclude(pk=plan.pk).update(is_current=False)
        Plan.objects.filter(pk=plan.pk).update(is_current=True)


def remove_plan(plan: Plan) -> None:
    """Remove a plan; another becomes the current one."""
    with transaction.atomic():
        plan.is_current = False
        remove(plan.job, plan, f"Removed {plan.name}")
        left = plan.job.plans.live()
        first = left.first()
        if first is not None and not left.filter(is_current=True).exists():
            make_current(first)
