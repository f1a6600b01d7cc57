"""All changes of rounds: start, new plan, progress of a step, end."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

from django.utils import timezone

from needle.document import DocumentError
from needle.measure.instruments import INSTRUMENTS, Instrument
from needle.message import as_stored, kept
from needle.round.planning import Round, plan_round
from needle.round.report import as_document, begin_of, end_of
from web.background.asking import worked_out
from web.background.questions import Urgency
from web.common.models import StaleRecordError
from web.common.units import said
from web.jobs.actions import remove, save_change, save_new
from web.jobs.models import Job
from web.loads.reading_forms import OWN
from web.plans.outcomes import LONG_WAIT_S, answer_of, current_plan
from web.rounds.models import DONE, PLANNED, STARTED, MeasuringRound

#: Delay up to which a step is on time, min.
LATE_MIN = 10
#: How often a change is made, where other hands are quicker.
HANDS = 3


def begin(record: MeasuringRound) -> MeasuringRound:
    """Plan a new round and store it.

    Raises
    ------
    DocumentError
        The plan has no answer, or there is no time.
    AnswerPending
    """
    _plan_rest(record, max(record.begins, _now()))
    return save_new(record.job, record, "Planned a measuring round")[0]


def plan_anew(record: MeasuringRound, label: str = "Planned the rest of a round anew") -> None:
    """Plan the rest of a round again, from what is known now.

    Raises
    ------
    DocumentError
    AnswerPending
    """

    def planned(record: MeasuringRound) -> str:
        _plan_rest(record, max(record.begins, _now()))
        return label

    _change(record, planned)


def mark(record: MeasuringRound, key: str, state: str, at: datetime) -> None:
    """Set the state of a step from a moment on; except for a start, the rest is planned again.

    Raises
    ------
    DocumentError
        The step is no longer in the round, or the plan is refused.
    AnswerPending
    """
    _change(record, lambda record: _marked(record, key, state, at))


def _change(record: MeasuringRound, change: Callable[[MeasuringRound], str]) -> None:
    """Change a round and store it; repeated if another request changed it meanwhile.

    ``change`` returns its label, "" if nothing changed. It may take long, and nothing is locked
    then.
    """
    for _ in range(HANDS):
        label = change(record)
        if not label:
            return
        try:
            save_change(record.job, record, label)
        except StaleRecordError:
            newest = record.job.rounds.live().filter(pk=record.pk).first()
            if newest is None:
                raise DocumentError("", "this round was removed meanwhile") from None
            record = newest
        else:
            return
    raise StaleRecordError


def _marked(record: MeasuringRound, key: str, state: str, at: datetime) -> str:
    step = next((step for step in record.steps if step["key"] == key), None)
    if step is None:
        raise DocumentError("", "that step is no longer in this round, which was planned anew")
    was = step["state"]
    if was == state:
        return ""
    step["state"] = state
    if state == STARTED:
        length = datetime.fromisoformat(step["last"]) - datetime.fromisoformat(step["first"])
        step |= {"first": at.isoformat(), "last": (at + length).isoformat()}
    if state == DONE:
        step["last"] = at.isoformat()
    label = f"{said(step['do']).split(':')[0]}: {state or 'to be done'}"
    if state != STARTED and not record.over:
        _plan_rest(record, max(record.begins, _now()))
    return label


def end(record: MeasuringRound) -> None:
    remove(record.job, record, "Removed a measuring round")


def instruments_of(record: MeasuringRound) -> list[tuple[str, Instrument]]:
    """Meters by name, in order; equal classes are numbered, own meters keep their names."""
    own = record.job.meters()
    named: list[tuple[str, Instrument]] = []
    for key in record.meters:
        if key.startswith(OWN) and key.removeprefix(OWN) in own:
            named.append((key.removeprefix(OWN), own[key.removeprefix(OWN)]))
        elif key in INSTRUMENTS:
            alike = [other for other in record.meters if other == key]
            number = sum(instrument is INSTRUMENTS[key] for _, instrument in named) + 1
            name = INSTRUMENTS[key].name
            named.append((f"{name} {number}" if len(alike) > 1 else name, INSTRUMENTS[key]))
    return named


def _now() -> datetime:
    """Now, in whole minutes of the job's clock."""
    return timezone.localtime().replace(second=0, microsecond=0) + timedelta(minutes=1)


def _plan_rest(record: MeasuringRound, at: datetime) -> None:
    planned = _planned(record, at)
    done = [step for step in record.steps if step["state"] != PLANNED]
    record.steps = done + [_stored(planned, number) for number in range(len(planned.steps))]
    if not record.before_h:
        record.before_h = list(planned.before_h)
    record.told = {
        "now_h": list(planned.before_h),
        "after_h": list(planned.after_h),
        "open": planned.open,
        "alone": [[left.subject, as_stored(left.why)] for left in planned.alone],
        "gap": planned.gap,
        "others": [[as_stored(way.said), list(way.left_h)] for way in planned.others],
        "document": kept(as_document(planned)),
    }
    record.planned_at = timezone.now()


def _planned(record: MeasuringRound, at: datetime) -> Round:
    plan = record.plan or current_plan(record.job)
    plan.job = record.job
    answer = answer_of(plan, LONG_WAIT_S)
    if answer.outcome is None:
        raise DocumentError("plan", answer.words)
    at = timezone.localtime(at)
    visit = record.visit(at, instruments_of(record))
    visit = replace(visit, ends=timezone.localtime(record.ends))
    told = repr((answer.outcome.runtime, visit)).encode()
    key = f"round:{hashlib.sha256(told).hexdigest()}"
    owner = ("round", record.job.owner_id)
    return worked_out(
        key, owner, LONG_WAIT_S, plan_round, answer.outcome, visit, urgency=Urgency.LATER
    )


def _stored(planned: Round, number: int) -> dict[str, Any]:
    step, visit = planned.steps[number], planned.visit
    first, last = visit.after(step.first_min), visit.after(step.last_min)
    return {
        "key": step.candidate.key,
        "what": step.candidate.what,
        "load": step.candidate.subject,
        "meter": step.meter,
        "first": first.isoformat(),
        "last": last.isoformat(),
        "do": as_stored(begin_of(step, last)),
        "end": kept(end_of(step)),
        "before_min": step.candidate.before_min,
        "after_min": step.candidate.after_min,
        "left_h": list(step.left_h),
        "state": PLANNED,
        "settles": step.settles,
        "open_chance": step.candidate.open_chance,
        "loads": list(step.candidate.count.loads) if step.candidate.count else [],
    }


def news_of(record: MeasuringRound, job: Job) -> bool:
    """Whether there are new readings since the rest was planned."""
    newest = (
        job.loads.live()
        .filter(readings__removed_at=None, readings__created_at__gt=record.planned_at)
        .exists()
    )
    return newest and not record.over
