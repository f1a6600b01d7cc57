"""Template tags for the answer bar and the live counts."""

from __future__ import annotations

from typing import Any

from django import template
from django.utils.safestring import SafeString

from needle.percentiles import range_of
from needle.plan.verdict import verdict_of, wanted_peak_w
from needle.quantity import significant
from web.answer.going import running_sessions, unread_loads
from web.answer.words import bar_of, dial_of_watch
from web.jobs.models import Job
from web.loads.models import loads_of
from web.plans.outcomes import Answer, answer_of, current_plan
from web.plans.runs import trials_of
from web.supplies.models import supplies_of
from web.watch.page import WatchPage

register = template.Library()


@register.inclusion_tag("answer/_bar.html")
def answer_bar(job: Job, oob: bool = False, fetched: bool = False) -> dict[str, Any]:
    """The answer bar; ``oob`` marks it for an out-of-band swap.

    A slow answer is ``fetched`` after the page has loaded.
    """
    return {"bar": bar_of(_answer(job, fetched), job), "job": job, "oob": oob}


@register.simple_tag
def watch_dial(watch: WatchPage) -> SafeString:
    """The dial of the hours left in an outage."""
    return dial_of_watch(watch)


def _answer(job: Job, fetched: bool = False) -> Answer:
    """The current plan's answer, computed once per request."""
    if job.cache.answer is None:
        job.cache.answer = answer_of(current_plan(job), page_first=not fetched)
    answer: Answer = job.cache.answer
    return answer


@register.inclusion_tag("answer/_places.html")
def places(job: Job, here: str, oob: bool = False) -> dict[str, Any]:
    """The navigation with its counts."""
    # The answer bar fetches loads, supplies and trials too.
    loads, unread = len(loads_of(job)), len(unread_loads(job))
    rows = [
        ("survey", "loads:survey", "Survey", _count(loads, "load", unread), "s"),
        ("bench", "bench:index", "Bench", _running(job), "b"),
        ("supplies", "supplies:list", "Supplies", str(len(supplies_of(job))), "u"),
        ("plan", "plans:current", "Day plan", str(max(1, job.plans.live().count())), "d"),
        ("trials", "trials:index", "Trials", _trials(job), "t"),
        ("sheet", "sheets:sheet", "Sheet", "print", "p"),
    ]
    return {"rows": rows, "here": here, "job": job, "oob": oob}


def _running(job: Job) -> str:
    running = running_sessions(job).count()
    return f"{running} running" if running else "meters"


def _trials(job: Job) -> str:
    trials = trials_of(job)
    running = sum(trial.running for trial in trials)
    return f"{running} running" if running else str(len(trials))


def _count(loads: int, noun: str, unread: int) -> str:
    words = f"{loads} {noun}{'' if loads == 1 else 's'}"
    return f"{words}, {unread} unproven" if unread else words


@register.inclusion_tag("answer/_sums.html")
def three_sums(job: Job) -> dict[str, Any]:
    """Three common estimates: sum of labels, worst minute, and mean."""
    answer = _answer(job)
    labels = sum(
        max(
            (
                reading.data.get("watts") or 0.0
                for reading in used.load.known_readings()
                if reading.type == "label"
            ),
            default=0.0,
        )
        for used in answer.used
    )
    sums: dict[str, Any] = {
        "labels_w": labels,
        "plan": answer.plan,
        "mean": None,
        "not_run": "",
        "has_inverter": answer.supply is None or bool(answer.supply.continuous_w),
    }
    if answer.outcome is not None:
        low, mid, high = range_of(answer.outcome.mean_ac_w)
        verdict = verdict_of(answer.outcome)
        sums |= {
            "worst_w": wanted_peak_w(answer.outcome, verdict),
            "not_run": ", ".join(blocked.load for blocked in verdict.blocked_loads),
            "mean": mid,
            "mean_range": f"{significant(low, 2)}\u2013{significant(high, 2)}",
        }
    return sums
