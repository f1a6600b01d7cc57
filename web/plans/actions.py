"""What changes plans."""

from __future__ import annotations

from django.db import transaction

from web.jobs.actions import remove, save_change, save_new
from web.plans.models import Plan, PlanEntry


def save_plan(plan: Plan) -> Plan:
    """Store a new or a changed plan; a job's first one is the one the answer bar speaks of."""
    if plan.pk is not None:
        save_change(plan.job, plan, f"Changed {plan.name}")
        return plan
    plan.is_current = not plan.job.plans.live().filter(is_current=True).exists()
    return save_new(plan.job, plan, f"Added {plan.name}")[0]


def use_load(entry: PlanEntry) -> None:
    """Store how a plan uses a load; stores the plan first where it was only a default."""
    with transaction.atomic():
        if entry.plan.pk is None:
            entry.plan = save_plan(entry.plan)
        words = entry.load.name if entry.taken_in else f"{entry.load.name}, left out"
        if entry.pk is None:
            # One that an undo had taken out makes room for the new one.
            PlanEntry.objects.filter(plan=entry.plan, load=entry.load).exclude(
                removed_at=None
            ).delete()
            save_new(entry.plan.job, entry, f"Set the use of {words}")
        else:
            save_change(entry.plan.job, entry, f"Changed the use of {words}")


def make_current(plan: Plan) -> None:
    """Let the answer bar speak of this plan."""
    with transaction.atomic():
        plan.job.plans.filter(is_current=True).exclude(pk=plan.pk).update(is_current=False)
        Plan.objects.filter(pk=plan.pk).update(is_current=True)


def remove_plan(plan: Plan) -> None:
    """Take a plan out; another becomes the current one."""
    with transaction.atomic():
        plan.is_current = False
        remove(plan.job, plan, f"Removed {plan.name}")
        left = plan.job.plans.live()
        first = left.first()
        if first is not None and not left.filter(is_current=True).exists():
            make_current(first)
