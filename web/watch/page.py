"""The page of a watch, and its line in the answer bar."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

from django.utils import timezone

from needle.decide.starting import HOLDS, LIKELY
from needle.document import DocumentError
from needle.plan.limits.starts import PlannedStart
from needle.plan.verdict import UNFIT
from needle.quantity import chance_text, hours_range_text, hours_text, with_unit
from needle.trial.prediction import Range
from needle.watch.card import Card
from needle.watch.doings import Doing
from needle.watch.report import watch_document
from needle.watch.summary import (
    LoadNow,
    WatchSummary,
    card_of_document,
    may_switch_on,
    summarise,
)
from needle.watch.timetable import CAN_BE_EARLY, CAN_FAIL, CAN_WAIT
from needle.watch.watch import MaySwitchOn, WatchHelp
from web.background.asking import worked_out
from web.background.questions import AnswerPending, key_of
from web.common.units import clock, day_clock, said
from web.jobs.models import Job
from web.loads.models import numbers_of
from web.plans.alone import WHY_NOT
from web.plans.draft import document, draft_of
from web.plans.models import Plan
from web.trials.models import Trial
from web.trials.page import moment_of, when_text
from web.watch.rehearsals import empty_h

T = TypeVar("T")
#: How long a page waits, s; and how often "now" moves, h.
PAGE_WAIT_S, STEP_H = 2.0, 0.1
#: Hours for which a page is answered by what it was made from.
SAME_PAGE_H = 0.25
#: Doings and helps that are shown at once.
MOST_DOINGS, MOST_HELPS = 5, 3


@dataclass(frozen=True)
class DoingRow:
    """What comes next: its time, words, and whether it is late.

    ``code``, ``name`` and ``moment`` name it where it is ticked off; without ``code`` it is not.
    ``can_be_early`` is whether it may have happened already, earlier than it should.
    """

    at: str
    words: str
    caution: str
    late: bool
    code: str = ""
    name: str = ""
    moment: str = ""
    can_wait: bool = False
    can_fail: bool = False
    can_be_early: bool = False


@dataclass(frozen=True)
class HelpRow:
    """What would help, with its gain; ``kind`` and ``name`` say what "Do it" does."""

    kind: str
    name: str
    words: str
    gain: str
    chance: str
    caution: str
    at: str = ""


@dataclass(frozen=True)
class LoadRow:
    """A load as a switch."""

    name: str
    on: bool
    draws: str


@dataclass(frozen=True)
class MayRow:
    """Whether a load may be switched on now, in sentences."""

    load: str
    verdict: str
    ok: bool
    detail: str
    cost: str
    free: str


@dataclass(frozen=True)
class WatchPage:
    """A watch as it stands; without ``summary`` it is being computed, or ``words`` say why not.

    ``over`` says that a rehearsal is at its end.
    """

    trial: Trial
    summary: WatchSummary | None
    headline: str = ""
    words: str = ""
    advice: str = ""
    lives: Sequence[LoadRow] = ()
    loads: Sequence[LoadRow] = ()
    doings: Sequence[DoingRow] = ()
    helps: Sequence[HelpRow] = ()
    notices: Sequence[str] = ()
    not_counted: str = ""
    pending: bool = False
    over: str = ""

    @property
    def since(self) -> str:
        """Since when it is out, and how long that is."""
        hours = self.trial.hours_to(self.trial.now())
        return f"since {day_clock(timezone.localtime(self.trial.started_at))}, {hours_text(hours)}"

    @property
    def handing_over(self) -> str:
        """One paragraph to read aloud or to send."""
        if self.summary is None:
            return ""
        loads = (*self.lives, *self.loads)
        on, off = (_names(row for row in loads if row.on is which) for which in (True, False))
        charge = self.summary.charge
        parts = [
            f"Power is out {self.since}.",
            f"Battery at about {charge[1] * 100:.0f} % ({charge[0] * 100:.0f} to "
            f"{charge[2] * 100:.0f} %). {self.headline}. {self.words} {self.advice}",
            f"On: {on or 'nothing'}. Off: {off or 'nothing'}.",
        ]
        parts += [self.not_counted] if self.not_counted else []
        parts += [f"{row.at} {row.words}." for row in self.doings[:3]]
        if self.lives:
            parts.append(f"{_names(self.lives)} must stay on; know the second means.")
        return " ".join(parts)


def _names(rows: Iterable[LoadRow]) -> str:
    return ", ".join(row.name for row in rows)


def hour_now(trial: Trial) -> float:
    """Hours since the start, in steps, so that two requests of a moment ask the same."""
    passed = trial.hours_to(trial.now())
    return max(0.0, _last_h(trial), math.floor(passed / STEP_H) * STEP_H)


def _last_h(trial: Trial) -> float:
    """Hour of the last check-in."""
    return max((trial.hours_to(record.at) for record in trial.known_check_ins()), default=0.0)


def summary_of(trial: Trial, wait_s: float = PAGE_WAIT_S) -> WatchSummary:
    """What stands now.

    Raises
    ------
    AnswerPending, DocumentError
    """
    return _worked_out("watch", trial, wait_s, summarise)


def document_of(trial: Trial, wait_s: float) -> dict[str, Any]:
    """What ``needle watch`` prints of it, as it stands now.

    Raises
    ------
    AnswerPending, DocumentError
    """
    return _worked_out("watch-document", trial, wait_s, watch_document)


def may_of(trial: Trial, name: str, wait_s: float, hour: float | None = None) -> MaySwitchOn:
    """Whether a load may be switched on now.

    ``hour`` is that of a page which asks: shortly after it, what was worked out then still holds.

    Raises
    ------
    AnswerPending, DocumentError
    """
    now, last = hour_now(trial), _last_h(trial)
    if hour is None or not max(last, now - SAME_PAGE_H) <= hour <= now:
        hour = now
    return _worked_out("watch-may", trial, wait_s, may_switch_on, name, hour=hour)


def card_for(plan: Plan, wait_s: float) -> Card:
    """The card of a plan.

    Raises
    ------
    AnswerPending, DocumentError
    """
    doc = document(draft_of(plan))
    return worked_out(key_of("watch-card", doc), plan.job.owner_id, wait_s, card_of_document, doc)


def _worked_out(
    kind: str,
    trial: Trial,
    wait_s: float,
    work: Callable[..., T],
    *more: Any,
    hour: float | None = None,
) -> T:
    now = hour_now(trial) if hour is None else hour
    asked = (trial.to_document(), now, trial.needed_h, *more)
    return worked_out(key_of(kind, *asked), (kind, trial.job.owner_id), wait_s, work, *asked)


#: Why a watch without loads has no answer.
NO_PLAN = "Its plan could not be worked out when it began. Mend the plan, then try again."


def page_of(trial: Trial, wait_s: float = PAGE_WAIT_S) -> WatchPage:
    """The page of a watch as it stands now."""
    try:
        summary = summary_of(trial, wait_s)
    except AnswerPending as pending:
        return WatchPage(trial, None, pending.words, pending=True)
    except DocumentError as error:
        if not trial.load_names:
            return WatchPage(trial, None, "No answer yet", NO_PLAN)
        return WatchPage(trial, None, "No answer", error.sentence)
    return _answered(trial, summary)


def _answered(trial: Trial, summary: WatchSummary) -> WatchPage:
    """The page of a watch whose answer is there."""
    lives = [load for load in summary.loads if load.safety_class == "life" and load.on]
    return WatchPage(
        trial=trial,
        summary=summary,
        headline=headline_of(trial, summary),
        words=chance_words(trial, summary),
        advice=advice_of(trial, summary),
        lives=[_load_row(load, summary.cannot_run.get(load.name, "")) for load in lives],
        loads=[
            _load_row(load, summary.cannot_run.get(load.name, ""))
            for load in summary.loads
            if load not in lives
        ],
        doings=_doing_rows(trial, summary),
        helps=[_help_row(trial, summary, each) for each in summary.helps[:MOST_HELPS]],
        notices=[said(notice) for notice in summary.notices],
        not_counted=_not_counted(trial),
        over=_over(trial) if trial.is_rehearsal else "",
    )


def _not_counted(trial: Trial) -> str:
    """That it is over sooner with loads of its plan that it does not count; empty without any."""
    if trial.plan is None or trial.is_rehearsal:
        return ""
    counted, numbers = trial.load_ids, numbers_of(trial.job)
    left_out = [
        used
        for used in draft_of(trial.plan).used
        if used.entry.taken_in and f"load {numbers[used.load.pk]}" not in counted
    ]
    if not left_out:
        return ""
    words = f"Not counted: {', '.join(used.name for used in left_out)}. If on, it is over sooner."
    lives = [used.name for used in left_out if used.load.safety_class == "life"]
    if lives:
        words += f" Never off: {', '.join(lives)}. Keep the second means ready."
    return words


def _over(trial: Trial) -> str:
    """That the simulated battery is empty, or that the hour needed is reached."""
    stops_h, now_h = empty_h(trial), trial.hours_to(trial.now())
    if stops_h <= now_h:
        return f"The battery is empty since {when_text(trial, stops_h)}."
    if now_h >= (trial.needed_h or 0.0) - 1e-6:
        return "The power is back."
    return ""


def headline_of(trial: Trial, summary: WatchSummary) -> str:
    """Until when it lasts: ``Lasts until about Tue 07:20, Tue 05:50 to Tue 09:40``."""
    low, mid, high = (when_text(trial, hour) for hour in summary.stop_h)
    longest = summary.most_h - 1e-6
    if summary.stop_h[1] >= longest:
        return f"Lasts for days, at least until {low}"
    later = " or later" if summary.stop_h[2] >= longest else ""
    return f"Lasts until about {mid}, {low} to {high}{later}"


def chance_words(trial: Trial, summary: WatchSummary) -> str:
    """The chance of the hour needed, for all that is on and for only what must run."""
    until = when_text(trial, summary.needed_h)
    left = hours_text(summary.remaining_h[1])
    words = f"{left} left. Chance to reach {until}: {chance_text(summary.chance)}"
    if summary.cannot_run:
        words += f", without {', '.join(summary.cannot_run)}"
    if not summary.has_musts:
        return f"{words}."
    if chance_text(summary.chance_musts) == chance_text(summary.chance):
        return f"{words}, with only what must run too."
    return f"{words}; with only what must run {chance_text(summary.chance_musts)}."


def advice_of(trial: Trial, summary: WatchSummary) -> str:
    """What should go off now for the musts to be safe, if anything; and when to look again."""
    at = clock(moment_of(trial, summary.look_h))
    if summary.go_off:
        names = ", ".join(summary.go_off)
        return f"Switch off now, for what must run: {names}. Look at the charge again at {at}."
    if summary.come_on:
        names = ", ".join(summary.come_on)
        return f"Can come on again: {names}. Look at the charge again at {at}."
    return f"Everything that is on can stay on. Look at the charge at {at}."


def _load_row(load: LoadNow, why_not: str) -> LoadRow:
    high = load.watts[2]
    draws = "not in the next hour" if high < 0.5 else _watts_text(load.watts)
    if why_not:
        draws = "does not run here" if why_not in UNFIT else "fails in most simulated runs"
    return LoadRow(load.name, load.on, draws if load.on else "off")


def _watts_text(watts: Range) -> str:
    low, mid, high = watts
    return f"{with_unit(mid, 'W', 2)} ({with_unit(low, 'W', 2)} to {with_unit(high, 'W', 2)})"


def _doing_row(trial: Trial, summary: WatchSummary, doing: Doing, can_be_early: bool) -> DoingRow:
    code, at = doing.said.code, moment_of(trial, doing.hour)
    life = any(load.name == doing.name and load.safety_class == "life" for load in summary.loads)
    return DoingRow(
        at=clock(at),
        words=said(doing.said),
        caution=said(doing.caution),
        late=doing.late(summary.hour),
        code=code if doing.name else "",
        name=doing.name,
        moment=_minute_of(trial, doing),
        can_wait=code in CAN_WAIT and not life,
        can_fail=code in CAN_FAIL and not life,
        can_be_early=can_be_early,
    )


def _minute_of(trial: Trial, doing: Doing) -> str:
    return moment_of(trial, doing.hour).replace(second=0, microsecond=0).isoformat()


def _doing_rows(trial: Trial, summary: WatchSummary) -> list[DoingRow]:
    """What comes next, without what was done."""
    done = {tuple(step) for step in trial.expected.get("done", [])}
    rows: list[DoingRow] = []
    changing: set[str] = set()
    for doing in summary.doings:
        if (doing.said.code, doing.name, _minute_of(trial, doing)) in done:
            continue
        # How mains change next may have happened before its time.
        ahead = doing.said.code in CAN_BE_EARLY and doing.hour > summary.hour
        rows.append(_doing_row(trial, summary, doing, ahead and doing.name not in changing))
        changing |= {doing.name} if ahead else set()
    return rows[:MOST_DOINGS]


def _help_row(trial: Trial, summary: WatchSummary, each: WatchHelp) -> HelpRow:
    low, mid, high = (max(0.0, hours) for hours in each.gained_h)
    chances = [f"chance {_moved(summary.chance, each.chance)}"]
    if each.kind == "charge":
        chances.append(f"for what must run {_moved(summary.chance_musts, each.chance_musts)}")
    words = said(each.said)
    return HelpRow(
        kind=each.kind,
        name=each.name,
        words=f"{words[:1].upper()}{words[1:]}",
        gain=f"+{hours_text(mid)} ({hours_range_text(low, high)})",
        chance=", ".join(chances),
        caution=said(each.caution),
        at="" if each.from_h is None else moment_of(trial, each.from_h).isoformat(),
    )


def _moved(before: float, after: float) -> str:
    """A chance before and after: ``1 in 10 → 3 in 10``, ``stays 1 in 10``."""
    texts = chance_text(before), chance_text(after)
    return f"stays {texts[0]}" if texts[0] == texts[1] else " → ".join(texts)


def may_row(trial: Trial, may: MaySwitchOn) -> MayRow:
    """Whether a load may be switched on now, in sentences."""
    start = may.start.start
    starts_likely = may.start.chance >= LIKELY
    ok = starts_likely and not may.takes_from_musts
    verdict = "Yes" if may.start.chance >= HOLDS else "Probably"
    if not ok:
        verdict = "Better not, for what must run" if starts_likely else "No"
    starts = f"it starts and runs in {chance_text(may.start.chance)}"
    if may.start.unfit:
        starts = f"it {WHY_NOT[may.start.unfit]}"
    detail = ""
    if start is not None:
        low, mid, high = start.required_va
        detail = (
            f"{with_unit(mid, 'VA', 2)} at its start ({with_unit(low, 'VA', 2)} to "
            f"{with_unit(high, 'VA', 2)}){_beside(start)}."
        )
    low, mid, high = (max(0.0, hours) for hours in may.cost_h)
    length = hours_text(may.minutes / 60)
    cost = f"{length} of use costs {hours_text(mid)} at the end ({hours_range_text(low, high)})"
    free = ""
    if may.free_at_h is not None:
        at = when_text(trial, may.free_at_h)
        free = f"Costs nothing from about {at}: sun or charger carries it."
    cost = f"{cost}; chance {_moved(may.chance, may.chance_after)}"
    if may.chance_musts is not None and may.chance_musts_after is not None:
        cost += f", for what must run {_moved(may.chance_musts, may.chance_musts_after)}"
    return MayRow(may.load, f"{verdict}: {starts}", ok, detail, f"{cost}.", free)


def _beside(start: PlannedStart) -> str:
    others = [name for name in start.beside if name != start.load]
    return f", with {', '.join(others)}" if others else ""


def job_has_plan(job: Job) -> bool:
    """Whether anything could be watched: a supply, and a load."""
    return job.supplies.live().exists() and job.loads.live().exists()
