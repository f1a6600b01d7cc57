"""Contents of a round's page: lanes, steps with their state, and the range."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any
from urllib.parse import urlencode

from django.urls import reverse
from django.utils import timezone
from django.utils.safestring import SafeString

from needle.plan.advice.measurements import DECIDES
from needle.quantity import hours_text
from web.common.units import said
from web.drawing.dial import dial
from web.drawing.reach import reach
from web.drawing.timeline import Paper
from web.drawing.visit import VisitBlock, VisitLane, visit_lanes
from web.jobs.models import Job
from web.rounds.actions import LATE_MIN, instruments_of, news_of
from web.rounds.models import (
    DONE,
    IMPOSSIBLE,
    PLANNED,
    SKIPPED,
    STARTED,
    STATES,
    MeasuringRound,
)

#: Which form takes what a step read.
_READINGS = {
    "counter": "energy",
    "spot": "spot",
    "tally": "tally",
    "start": "start",
    "task": "task",
}
_TESTS = {
    "idle": "idle",
    "idle drop": "idle",
    "efficiency": "efficiency",
    "drain": "capacity",
    "together": "together",
}


@dataclass(frozen=True)
class StepRow:
    """A step in the list: key, times, text, state, and link for its reading."""

    key: str
    at: datetime
    until: datetime
    words: str
    end_words: str
    state: str
    state_words: str
    hands_min: float
    left: str
    left_drawn: SafeString
    form_url: str
    late: bool
    decides: bool

    @property
    def open(self) -> bool:
        return self.state in (PLANNED, STARTED)

    @property
    def started(self) -> bool:
        return self.state == STARTED


@dataclass(frozen=True)
class RoundPage:
    """A round's page."""

    record: MeasuringRound
    rows: list[StepRow]
    drawing: SafeString
    dials: list[tuple[str, SafeString]]
    began_words: str
    now_words: str
    after_words: str
    hands_min: float
    others: list[tuple[str, str, SafeString]]
    now_drawn: SafeString
    news: bool

    @property
    def late(self) -> bool:
        return any(row.late for row in self.rows)

    @property
    def has_moved(self) -> bool:
        """Whether the range has changed since the round began."""
        return self.began_words != self.now_words

    @property
    def now_wide(self) -> str:
        return _wide(self.record.told["now_h"])

    @property
    def gap(self) -> float:
        return float(self.record.told.get("gap", 0.0))

    @property
    def alone(self) -> list[list[str]]:
        alone = self.record.told.get("alone", [])
        return [[subject, said(why)] for subject, why in alone]

    @property
    def open(self) -> list[str]:
        return list(self.record.told.get("open", []))


def page_of(record: MeasuringRound, job: Job, paper: Paper) -> RoundPage:
    now = timezone.localtime()
    forms = _forms(job)
    rows = [_row(record, forms, step, now) for step in record.steps]
    rows.sort(key=lambda row: row.at)
    told = record.told
    return RoundPage(
        record=record,
        rows=rows,
        drawing=_drawn(record, now, paper),
        dials=[
            ("now", _dial(told, "now_h", "Hours now")),
            ("after it", _dial(told, "after_h", "Hours after the round")),
        ],
        began_words=_between(record.before_h),
        now_words=_between(told["now_h"]),
        after_words=_between(told["after_h"]),
        hands_min=sum(row.hands_min for row in rows if row.open),
        others=[
            (said(way), _wide(left), _narrowing(told, left, "Hours then"))
            for way, left in told.get("others", [])
        ],
        now_drawn=_narrowing(told, told["now_h"], "Hours now"),
        news=news_of(record, job),
    )


def _dial(told: dict[str, Any], key: str, title: str) -> SafeString:
    """A dial of hours; both dials of a round have the same scale."""
    low, mid, high = told[key]
    most = max(told["now_h"][2], told["after_h"][2])
    words = f"{hours_text(low)} to {hours_text(high)}"
    return dial((low, mid, high), None, lambda hour: f"{hour:.3g}", title, words, least=most)


def _between(hours: list[float]) -> str:
    return f"{hours_text(hours[0])} to {hours_text(hours[2])}"


def _wide(hours: list[float]) -> str:
    """Width of a range."""
    return hours_text(hours[2] - hours[0])


def _narrowing(told: dict[str, Any], hours: list[float], words: str) -> SafeString:
    """The remaining range below the present one, on one scale."""
    scale = (told["now_h"][0], told["now_h"][2])
    low, likely, high = hours
    return reach((low, likely, high), scale, words, _between(hours))


def _row(
    record: MeasuringRound, forms: dict[str, str], step: dict[str, Any], now: datetime
) -> StepRow:
    first, last = _moments(step)
    late = step["state"] == PLANNED and now > first + timedelta(minutes=LATE_MIN)
    return StepRow(
        key=step["key"],
        at=first,
        until=last,
        words=said(step["do"]),
        end_words=said(step["end"]),
        state=step["state"],
        state_words=STATES.get(step["state"], ""),
        hands_min=step["before_min"] + step["after_min"],
        left=_wide(step["left_h"]),
        left_drawn=_narrowing(record.told, step["left_h"], "Hours once this is known"),
        form_url=_form_url(record, forms, step, first, last),
        late=late and not record.over,
        # Rounds of older versions have no such figure.
        decides=step.get("settles", 0.0) >= DECIDES,
    )


def _moments(step: dict[str, Any]) -> tuple[datetime, datetime]:
    first, last = (
        timezone.localtime(datetime.fromisoformat(step[key])) for key in ("first", "last")
    )
    return first, last


def _forms(job: Job) -> dict[str, str]:
    """Links of a job's loads by name; of equal names, the first."""
    pages: dict[str, str] = {}
    for load in job.loads.live():
        page = reverse("loads:load", args=[job.pk, load.pk])
        pages.setdefault(load.name, page)
        pages[f"{load.name} ({load.pk})"] = page
    return pages


def _form_url(
    record: MeasuringRound,
    forms: dict[str, str],
    step: dict[str, Any],
    first: datetime,
    last: datetime,
) -> str:
    """Link to the form for a reading, with what is known; empty if there is none."""
    hours = _counted_h(step, first, last)
    if step["what"] in _READINGS:
        if step["load"] not in forms:
            return ""
        query = f"?type={_READINGS[step['what']]}"
        if step["what"] == "counter":
            query += f"&hours={hours:.2f}"
        return f"{forms[step['load']]}{query}#reading-form"
    supply = record.plan.supply if record.plan else None
    supply = supply or record.job.supplies.live().first()
    if supply is None:
        return ""
    page = reverse("supplies:test", args=[record.job_id, supply.pk, _TESTS[step["what"]]])
    if step["what"] == "together":
        page += f"?{urlencode({'loads': step['loads'], 'hours': f'{hours:.2f}'}, doseq=True)}"
    return page


def _counted_h(step: dict[str, Any], first: datetime, last: datetime) -> float:
    """Hours that a counter has run, without the person's time at both ends."""
    now = timezone.localtime()
    ended, own_min = last, step["before_min"] + step["after_min"]
    if step["state"] == STARTED and now < last:
        ended, own_min = now, step["before_min"]
    minutes: float = (ended - first).total_seconds() / 60 - own_min
    return max(0.1, minutes / 60)


def _css_of(step: dict[str, Any]) -> str:
    css = "visit-start" if step["what"] == "start" else "visit-meter"
    return f"{css} is-done" if step["state"] == DONE else css


def _drawn(record: MeasuringRound, now: datetime, paper: Paper) -> SafeString:
    shown = [step for step in record.steps if step["state"] not in (SKIPPED, IMPOSSIBLE)]
    hands: list[VisitBlock] = []
    by_meter: dict[str, list[VisitBlock]] = {name: [] for name, _ in instruments_of(record)}
    for step in shown:
        first, last = _moments(step)
        words = step["load"] or step["what"]
        css = _css_of(step)
        by_meter.setdefault(step["meter"], []).append(VisitBlock(first, last, words, css))
        begin = first + timedelta(minutes=step["before_min"])
        hands.append(VisitBlock(first, begin, f"begin {words}", "visit-hands"))
        if step["after_min"]:
            away = last - timedelta(minutes=step["after_min"])
            hands.append(VisitBlock(away, last, f"end {words}", "visit-hands"))
    minutes = sum((block.last - block.first).total_seconds() / 60 for block in hands)
    lanes = [VisitLane("You", f"{minutes:.0f} min at hand", hands)]
    lanes += [VisitLane(name[:20], "", blocks) for name, blocks in by_meter.items()]
    begins, ends = timezone.localtime(record.begins), timezone.localtime(record.ends)
    return visit_lanes(begins, ends, lanes, now, paper)
