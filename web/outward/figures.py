"""The figures of a job that go out: those of its outage, or of its current plan."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from needle.plan.verdict import verdict_of
from needle.watch.summary import WatchSummary
from web.answer.words import bar_of_plan
from web.jobs.models import Job
from web.plans.outcomes import answer_of, current_plan
from web.watch.actions import running_watch
from web.watch.page import page_of

POWER_OUT, PLANNED = "power is out", "planned"


@dataclass(frozen=True)
class Figures:
    """What is known now; None where nothing is.

    Attributes
    ----------
    state : str
        "power is out", or "planned": then the hours count from the beginning of the plan.
    headline : str
        The answer in one line.
    hours_left : (low, likely, high) or None
        10th, 50th and 90th percentile, h.
    chance : float or None
        Chance that it reaches the hour needed, 0…1.
    charge : float or None
        Likely charge now, 0…1; only of an outage.
    next_step : str
        What comes next, with its time.
    caution : str
        Who must not rely on it alone.
    """

    state: str
    headline: str
    hours_left: tuple[float, float, float] | None = None
    chance: float | None = None
    charge: float | None = None
    next_step: str = ""
    caution: str = ""


def figures_of(job: Job, wait_s: float) -> Figures | None:
    """The figures of a job; None while they are being worked out."""
    watch = running_watch(job)
    if watch is None:
        return _of_plan(job, wait_s)
    page = page_of(watch, wait_s)
    if page.pending:
        return None
    summary = page.summary
    if summary is None:
        return Figures(POWER_OUT, page.headline)
    steps = [f"{row.at} {row.words}" for row in page.doings[:1]]
    return Figures(
        POWER_OUT,
        page.headline,
        summary.remaining_h,
        summary.chance,
        summary.charge[1],
        next(iter(steps), page.advice),
        caution_of(summary),
    )


def caution_of(summary: WatchSummary) -> str:
    """Whom a message must not be relied on alone for; empty if no life depends on a load."""
    lives = [load.name for load in summary.loads if load.safety_class == "life"]
    return f"{', '.join(lives)}: keep a second means at hand." if lives else ""


def _of_plan(job: Job, wait_s: float) -> Figures | None:
    answer = answer_of(current_plan(job), wait_s)
    if answer.pending:
        return None
    bar = bar_of_plan(answer, job)
    if answer.outcome is None:
        return Figures(PLANNED, bar.headline, next_step=bar.detail)
    chance = verdict_of(answer.outcome).chance
    first = next((line.sentence for line in bar.lines), "")
    hours = answer.outcome.runtime
    return Figures(PLANNED, bar.headline, hours, chance, None, first, bar.caution)


@dataclass(frozen=True)
class Topic:
    """A topic of a job: its name, what discovery says of it, and its payload."""

    key: str
    name: str
    unit: str
    kind: str
    payload: str


def topics_of(figures: Figures) -> list[Topic]:
    """What is published of some figures; "unknown" and "none" where nothing is."""
    low, likely, high = figures.hours_left or (None, None, None)
    rows: tuple[tuple[str, str, str, str, Any], ...] = (
        ("state", "State", "", "", figures.state),
        ("headline", "Answer", "", "", figures.headline),
        ("hours_left", "Hours left", "h", "duration", _text(likely)),
        ("hours_left_low", "Hours left, low", "h", "duration", _text(low)),
        ("hours_left_high", "Hours left, high", "h", "duration", _text(high)),
        ("chance", "Chance that it lasts", "%", "", _text(figures.chance, 100)),
        ("charge", "Charge", "%", "battery", _text(figures.charge, 100)),
        ("next", "Next step", "", "", figures.next_step or "none"),
        ("caution", "Caution", "", "", figures.caution or "none"),
    )
    return [Topic(key, name, unit, kind, str(value)[:250]) for key, name, unit, kind, value in rows]


def _text(value: float | None, times: float = 1.0) -> str:
    """A figure as text: hours to a tenth, shares to a percent."""
    if value is None:
        return "unknown"
    return f"{value * times:.0f}" if times > 1 else f"{value:.1f}"
