"""A round in words, and as the document that ``needle round`` prints."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from needle.message import AsText, Message, message
from needle.round.candidate import COUNTER, EFFICIENCY, IDLE, SPOT, START
from needle.round.planning import Round, Step


def begin_of(step: Step, until: datetime) -> Message:
    """What to do at the beginning of a step; ``until`` is when its meter is free again."""
    candidate, count = step.candidate, step.candidate.count
    return message(
        f"begin-{candidate.what.replace(' ', '-')}",
        meter=step.meter,
        subject=candidate.subject,
        until=until,
        loads=count.loads if count else (),
        switch_on=candidate.switch_on and candidate.what in (COUNTER, SPOT),
    )


#: Measurements that are read at once: nothing is left to do at their end.
_AT_ONCE = (SPOT, START, IDLE, EFFICIENCY)


def end_of(step: Step) -> Message | None:
    """What to do at the end of a step; None if it is read at once."""
    candidate = step.candidate
    if candidate.what in _AT_ONCE:
        return None
    code = f"end-{candidate.what.replace(' ', '-')}"
    return message(code, meter=step.meter, subject=candidate.subject)


def as_document(planned: Round) -> dict[str, Any]:
    """Return the round as ``needle round`` prints it."""
    visit = planned.visit
    return {
        "from": visit.begins.isoformat(),
        "until": visit.ends.isoformat(),
        "meters": [meter.name for meter in visit.meters],
        "runtime_h": _hours(planned.before_h),
        "runtime_h_after": _hours(planned.after_h),
        "hands_min": planned.hands_min,
        "gap": planned.gap,
        "steps": [
            {
                "at": visit.after(step.first_min).isoformat(),
                "until": visit.after(step.last_min).isoformat(),
                "meter": step.meter,
                "what": step.candidate.what,
                "load": step.candidate.subject or None,
                "do": AsText(begin_of(step, visit.after(step.last_min))),
                "hands_min": step.candidate.hands_min,
                "leaves_h": _hours(step.left_h),
                "settles": step.settles,
                **({"together": list(count.loads)} if (count := step.candidate.count) else {}),
            }
            for step in planned.steps
        ],
        "left_alone": [{"load": left.subject, "why": AsText(left.why)} for left in planned.alone],
        "open": planned.open,
        "other_ways": [
            {"way": AsText(way.said), "leaves_h": _hours(way.left_h)} for way in planned.others
        ],
    }


def _hours(hours: tuple[float, float, float]) -> dict[str, float]:
    low, mid, high = hours
    return {"value": mid, "low": low, "high": high}
