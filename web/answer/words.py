"""Sentences and dial of the answer bar."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from django.urls import reverse
from django.utils import timezone
from django.utils.safestring import SafeString

from needle.plan.energy.simulate import Outcome
from needle.plan.plan import Plan as CorePlan
from needle.plan.verdict import LIKELY, Verdict, verdict_of
from needle.quantity import chance_text, hours_range_text, hours_text
from needle.watch.summary import WatchSummary
from needle.words.answer import reach_text, short_text, span_text
from web.answer.lines import Line, lines_of
from web.common import units
from web.drawing.dial import dial, empty_dial
from web.jobs.actions import just_added
from web.jobs.models import Job
from web.loads.models import Load
from web.plans.draft import Draft
from web.plans.models import Plan, PlanEntry
from web.plans.outcomes import Answer, answer_draft
from web.plans.runs import trials_of
from web.plans.used import UsedLoad
from web.watch.page import WatchPage, page_of

#: Where the way out of each trouble lies: address and words of the button.
_WAYS = {
    "loads": ("loads:survey", "Add a load"),
    "evidence": ("loads:survey", "Open the survey"),
    "supply": ("supplies:add", "Add the battery"),
    "output": ("supplies:list", "Open the supplies"),
    "refused": ("plans:current", "Open the plan"),
}


@dataclass(frozen=True)
class Bar:
    """Contents of the answer bar.

    ``covers`` is "yes", "no", "unsure" or "" for its word and shape; ``headline`` and ``lines`` are
    read first; ``is_watch`` if the power is out and the bar is the watch's. The rest are sentences,
    the dial's markup, a button's link, and the link of a pending answer. ``joined`` is the effect
    of a load that was just added, ``caution`` is shown if a life depends on a load of the plan,
    ``contents`` if contents must stay in their temperature range; ``short`` is the whole answer in
    one line, for narrow screens.
    """

    dial: SafeString
    headline: str
    detail: str
    covers: str
    plan_words: str
    plan_url: str
    lines: Sequence[Line] = ()
    way_url: str = ""
    way_words: str = ""
    fetch_url: str = ""
    note: str = ""
    joined: str = ""
    caution: str = ""
    contents: str = ""
    is_watch: bool = False
    short: str = ""


def bar_of(answer: Answer, job: Job) -> Bar:
    """Return the bar of an answer, or of the job's outage that is under way."""
    watches = (trial for trial in trials_of(job) if trial.is_watch and not trial.is_rehearsal)
    watch = next((trial for trial in watches if trial.running), None)
    if watch is not None:
        watch.job = job
        return _bar_of_watch(page_of(watch, wait_s=0.2), job)
    return bar_of_plan(answer, job)


def bar_of_plan(answer: Answer, job: Job) -> Bar:
    """Return the bar of a plan's answer."""
    plan_url = reverse("plans:plan", args=[job.pk, answer.plan.pk or 0])
    if answer.pending:
        return _pending(answer, job, plan_url)
    if answer.outcome is None or answer.supply is None:
        name, words = _WAYS[answer.reason]
        return Bar(
            dial=empty_dial("No answer yet"),
            headline="No answer yet",
            detail=answer.words,
            covers="",
            plan_words=_plan_words(answer.plan),
            plan_url=plan_url,
            way_url=reverse(name, args=[job.pk]),
            way_words=words,
        )
    outcome = answer.outcome
    verdict, lines = verdict_of(outcome), lines_of(answer, outcome)
    return Bar(
        dial=dial(
            outcome.runtime, outcome.plan.needed_hours, _tick, "Hours covered", _said(outcome)
        ),
        headline=lines.lasts,
        detail=reach_text(outcome, verdict, units.units()),
        covers=covers(verdict),
        plan_words=_plan_words(answer.plan),
        plan_url=plan_url,
        lines=lines.rest,
        note=f"{len(outcome.runtime_h)} simulated runs while it moves" if answer.quick else "",
        joined=_joined(answer, job),
        caution=caution_of(outcome.plan),
        contents=_contents(outcome.plan),
        short=short_text(outcome, verdict),
    )


def _bar_of_watch(watch: WatchPage, job: Job) -> Bar:
    """The bar of an outage that is under way: the plan's own hours would be old beside it."""
    summary, url = watch.summary, reverse("watch:watch", args=[job.pk])
    if summary is None:
        fetch = reverse("answer:bar", args=[job.pk]) if watch.pending else ""
        return Bar(
            dial=empty_dial(watch.headline),
            headline=watch.headline,
            detail=watch.words,
            covers="",
            plan_words=f"Power is out, {watch.since}",
            plan_url=url,
            fetch_url=fetch,
            is_watch=True,
        )
    return Bar(
        dial=dial_of_watch(watch),
        headline=watch.headline,
        detail=f"{watch.words} {watch.advice}",
        covers=_covers_of_watch(summary),
        plan_words=f"Power is out, {watch.since}",
        plan_url=url,
        caution=", ".join(row.name for row in watch.lives) and caution_words(watch),
        is_watch=True,
        short=_short_of_watch(summary),
    )


def _short_of_watch(summary: WatchSummary) -> str:
    """The watch's answer in one line: ``3 to 5 h left, 4 in 10 for 5 h``."""
    low, _, high = summary.remaining_h
    needed = hours_text(max(0.0, summary.needed_h - summary.hour))
    return f"{hours_range_text(low, high)} left, {chance_text(summary.chance)} for {needed}"


def _covers_of_watch(summary: WatchSummary) -> str:
    """As of a plan: "yes" at the chance wanted, "unsure" from even chances on, else "no"."""
    if summary.chance >= summary.wanted:
        return "yes"
    return "unsure" if summary.chance >= LIKELY else "no"


def dial_of_watch(watch: WatchPage) -> SafeString:
    """The dial of the hours left in an outage, with the hour needed."""
    summary = watch.summary
    if summary is None:
        return empty_dial(watch.headline)
    left, needed = summary.remaining_h, max(0.0, summary.needed_h - summary.hour)
    return dial(left, needed, _tick, "Hours left", f"likely {hours_text(left[1])}")


def caution_words(watch: WatchPage) -> str:
    """Caution for loads that a life depends on, in an outage."""
    names = ", ".join(row.name for row in watch.lives)
    return f"{names}: never rely on an estimate alone; have the second means ready."


def _joined(answer: Answer, job: Job) -> str:
    """Effect of a load that was just added on the plan's hours; "" if there is none."""
    if answer.outcome is None or answer.quick:
        return ""
    added = just_added(job, Load)
    new = [used for used in answer.used if used.load.pk in added and used.counted]
    if not new:
        return ""
    before = answer_draft(_without(answer.draft, new)).outcome
    if before is None:
        return ""
    names = ", ".join(used.name for used in new)
    after, without = span_text(answer.outcome), span_text(before)
    if after == without:
        return f"{names} joined this plan, which lasts about as long: {after}."
    return f"{names} joined this plan: with it {after}, without it {without}."


def _without(draft: Draft, loads: Iterable[UsedLoad]) -> Draft:
    """The draft without some loads."""
    for used in loads:
        draft = draft.with_entry(PlanEntry(plan=draft.plan, load=used.load, taken_in=False))
    return draft


def _pending(answer: Answer, job: Job, plan_url: str) -> Bar:
    """A bar that fetches its answer after the page has loaded."""
    return Bar(
        dial=empty_dial("Working it out"),
        headline=answer.words,
        detail="It takes a moment; this fills in by itself.",
        covers="",
        plan_words=_plan_words(answer.plan),
        plan_url=plan_url,
        fetch_url=reverse("answer:bar", args=[job.pk]),
    )


def caution_of(plan: CorePlan) -> str:
    """Caution for a plan with a load that a life depends on."""
    names = _of_class(plan, "life")
    if not names:
        return ""
    return f"{names}: never rely on an estimate alone; keep a second means at hand."


def _contents(plan: CorePlan) -> str:
    """Caution for a plan with contents that must stay in their temperature range."""
    names = _of_class(plan, "store")
    return f"Keep {names} at the temperature that its maker or authority states." if names else ""


def _of_class(plan: CorePlan, safety_class: str) -> str:
    return ", ".join(load.name for load in plan.loads if load.safety_class == safety_class)


#: The states of a verdict for the mark beside it.
_COVERS = {"covers": "yes", "likely": "unsure", "does not": "no"}


def covers(verdict: Verdict) -> str:
    """Whether the plan succeeds: "yes" at the chance wanted, "unsure" from 5 in 10, else "no"."""
    return _COVERS[verdict.state]


def _tick(hours: float) -> str:
    return f"{hours:.3g}"


def _said(outcome: Outcome) -> str:
    low, mid, high = outcome.runtime
    return f"likely {hours_text(mid)}, between {hours_text(low)} and {hours_text(high)}"


def _plan_words(plan: Plan) -> str:
    start = timezone.localtime(plan.start)
    room = f", {units.temperature(plan.room_c)} indoors" if plan.room_c is not None else ""
    return f"{plan.name}, from {units.day_clock(start)}{room}"
