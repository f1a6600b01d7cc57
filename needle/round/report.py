"""A round in words, and as the document that ``needle round`` prints."""

from __future__ import annotations

from typing import Any

from needle.round.candidate import (
    COUNTER,
    DRAIN,
    EFFICIENCY,
    IDLE,
    IDLE_DROP,
    SPOT,
    START,
    TALLY,
    TASK,
    TOGETHER,
)
from needle.round.planning import Round, Step

#: What is done, by what is measured; ``{until}`` is the clock when its meter is free again.
_DONE = {
    COUNTER: "{meter} to {subject}: reset its counter, leave it in until {until}",
    SPOT: "{meter} to {subject}: read it while it runs",
    TALLY: "{meter}, {subject}: note each start and each stop until {until}",
    START: "{meter} around one conductor of {subject}, inrush mode: switch it on",
    TASK: "{meter} to {subject}: reset its counter, run it once, read it at {until}",
    IDLE: "{meter}: inverter on, nothing plugged in; read its watts",
    IDLE_DROP: "{meter}: note the charge, inverter on with nothing in it; note it again at {until}",
    EFFICIENCY: "{meter} and a plug meter: read both at three loads and more",
    TOGETHER: "{meter}: run {loads} on the supply, nothing else; reset it, read its Wh at {until}",
    DRAIN: "{meter}: reset it, drain the full battery, read the Wh at {until}; charge it at once",
}
#: What is read at the end, by what is measured; what is not named is read at once.
_ENDS = {
    COUNTER: "read {meter} at {subject}, and take it out",
    TASK: "read {meter} at {subject}, and take it out",
    TALLY: "enter the moments noted at {subject}",
    IDLE_DROP: "read the charge again on {meter}",
    TOGETHER: "read {meter}: Wh since its reset, and the hours; charge the battery again",
    DRAIN: "read {meter}: Wh given, and the charge",
}


def words_of(step: Step, until: str) -> str:
    """What to do at the beginning of a step; ``until`` is when its meter is free again."""
    count = step.candidate.count
    words = _DONE[step.candidate.what].format(
        meter=step.meter,
        subject=step.candidate.subject,
        until=until,
        loads=", ".join(count.loads) if count else "",
    )
    if step.candidate.switch_on and step.candidate.what in (COUNTER, SPOT):
        words += "; switch it on for it"
    return words[0].upper() + words[1:]


def end_words_of(step: Step) -> str:
    """What to do at the end of a step; empty if it is read at once."""
    words = _ENDS.get(step.candidate.what, "")
    told = words.format(meter=step.meter, subject=step.candidate.subject)
    return told[:1].upper() + told[1:]


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
                "do": words_of(step, f"{visit.after(step.last_min):%H:%M}"),
                "hands_min": step.candidate.hands_min,
                "leaves_h": _hours(step.left_h),
                **({"together": list(count.loads)} if (count := step.candidate.count) else {}),
            }
            for step in planned.steps
        ],
        "left_alone": [{"load": left.subject, "why": left.why} for left in planned.alone],
        "open": planned.open,
        "other_ways": [
            {"way": way.words, "leaves_h": _hours(way.left_h)} for way in planned.others
        ],
    }


def _hours(hours: tuple[float, float, float]) -> dict[str, float]:
    low, mid, high = hours
    return {"value": mid, "low": low, "high": high}
