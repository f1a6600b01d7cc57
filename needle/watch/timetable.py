"""One time of a plan's timetable put off, or left out: as what really happens differs from it.

Mains that come later than by their turns, go earlier or do not come are away in that time; those
that come earlier or go later are on.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any

from needle.moments import Moment, minute_of, parse_moments, parse_windows
from needle.plan.draws.patterns import runs
from needle.plan.sources.mains import Mains
from needle.plan.sources.registry import parse_sources

#: Days for which daily times are written out with their dates, and how far a time is put that does
#: not happen: beyond every plan.
DAYS, AWAY = 16, timedelta(days=40)
#: How far a time may lie from the one that is meant: both are of whole minutes.
SAME = timedelta(seconds=90)
#: What can be put off, by the code of its sentence; what can be left out; what can come earlier.
MAINS = ("mains-come", "mains-go")
CAN_WAIT = ("switch-on", "switch-off", "begin-task", "run-source", *MAINS)
CAN_FAIL = ("switch-on", "begin-task", "run-source", "mains-come")
CAN_BE_EARLY = MAINS

Span = tuple[datetime, datetime]


def put_off(
    plan: Mapping[str, Any], code: str, name: str, at: datetime, later: timedelta | None
) -> dict[str, Any]:
    """Return a plan document in which one of its times is later, or never if ``later`` is None.

    Parameters
    ----------
    plan : dict
    code : str
        What happens then, one of :data:`CAN_WAIT`; with ``later`` None one of :data:`CAN_FAIL`.
    name : str
        Of the load or the source.
    at : datetime
    later : timedelta or None
        Negative for one of :data:`CAN_BE_EARLY`.

    Raises
    ------
    LookupError
        Nothing of that sort happens then.
    """
    if code not in _possible(later):
        raise LookupError(code)
    if code in MAINS:
        return _with_other_mains(plan, code, name, at, later)
    by = AWAY if later is None else later
    start = datetime.fromisoformat(plan["start"])
    of, key = ("sources", "between") if code == "run-source" else ("loads", "use")
    items = [dict(item) for item in plan.get(of, [])]
    mine = [item for item in items if item.get("name") == name and item.get(key)]
    if not mine:
        raise LookupError(name)
    if code == "run-source":
        mine[0][key] = _moved_spans(mine[0][key], start, at, lambda span: _both(span, by))
    elif code == "begin-task":
        mine[0][key] = _moved_tasks(mine[0][key], start, at, by)
    else:
        move = _end_only if code == "switch-off" else _both if later is None else _start_only
        use = mine[0][key]
        spans = use.get("between", []) if isinstance(use, dict) else []
        ends = code == "switch-off"
        mine[0][key] = {
            "between": _moved_spans(spans, start, at, lambda span: move(span, by), ends)
        }
    return {**plan, of: items}


def _possible(later: timedelta | None) -> tuple[str, ...]:
    if later is None:
        return CAN_FAIL
    return CAN_BE_EARLY if later < timedelta(0) else CAN_WAIT


def _with_other_mains(
    plan: Mapping[str, Any], code: str, name: str, at: datetime, later: timedelta | None
) -> dict[str, Any]:
    """The plan with its mains on, or away, between a moment of theirs and when it really is."""
    start = datetime.fromisoformat(plan["start"])
    items = [dict(item) for item in plan.get("sources", [])]
    for item in items:
        if item.get("kind") == "mains" and item.get("name") == name:
            (mains,) = parse_sources([item], start.tzinfo, None)
            assert isinstance(mains, Mains)
            turn = _turn(mains, start, at, ends=code == "mains-go")
            key, span = _changed_turn(turn, code, later)
            for kept in ("missed", "came"):
                known = _dated_spans(item.get(kept, []), kept, start)
                spans = [part for each in known for part in _without(each, span)]
                spans += [span] if kept == key else []
                if spans or kept in item:
                    item[kept] = _as_written(spans)
            return {**plan, "sources": items}
    raise LookupError(name)


def _turn(mains: Mains, start: datetime, at: datetime, ends: bool) -> Span:
    """The turn of mains that begins, or ``ends``, at a moment."""
    minute = minute_of(at, start)
    on = mains.on(start, max(0, minute) + mains.on_min + 1)
    turns = [
        (start + timedelta(minutes=int(first)), start + timedelta(minutes=int(end)))
        for first, end in runs(on)
    ]
    return turns[_place([turn[ends] for turn in turns], at)]


def _changed_turn(turn: Span, code: str, later: timedelta | None) -> tuple[str, Span]:
    """Which minutes of mains change that come or go later or earlier: ``missed`` or ``came``."""
    begin, end = turn
    if later is None:
        return "missed", turn
    if code == "mains-come":
        new = min(begin + later, end)
        return ("missed", (begin, new)) if new > begin else ("came", (new, begin))
    new = end + later
    if new < begin:
        raise LookupError(end)
    return ("missed", (new, end)) if new < end else ("came", (end, new))


def _without(span: Span, other: Span) -> list[Span]:
    """What is left of a span outside another."""
    parts = (span[0], min(span[1], other[0])), (max(span[0], other[1]), span[1])
    return [part for part in parts if part[0] < part[1]]


def _both(span: Span, by: timedelta) -> Span:
    return span[0] + by, span[1] + by


def _start_only(span: Span, by: timedelta) -> Span:
    begin, end = span
    return (begin + by, end) if begin + by < end else _both(span, AWAY)


def _end_only(span: Span, by: timedelta) -> Span:
    return span[0], span[1] + by


def _moved_spans(
    items: list[Any],
    start: datetime,
    at: datetime,
    move: Callable[[Span], Span],
    ends: bool = False,
) -> list[list[str]]:
    """Windows with their dates, the one that begins (or ends) at a moment changed."""
    spans = _dated_spans(items, "between", start)
    place = _place([span[ends] for span in spans], at)
    spans[place] = move(spans[place])
    return _as_written(spans)


def _as_written(spans: Sequence[Span]) -> list[list[str]]:
    return [[begin.isoformat(), end.isoformat()] for begin, end in sorted(spans)]


def _dated_spans(items: list[Any], key: str, start: datetime) -> list[Span]:
    """Windows with their dates."""
    return [
        (begin, end if end > begin else end + timedelta(days=1))
        for window in parse_windows(items, key, start.tzinfo)
        for begin, end in zip(_dated(window.start, start), _dated(window.end, start), strict=True)
    ]


def _moved_tasks(use: Any, start: datetime, at: datetime, by: timedelta) -> dict[str, Any]:
    """Tasks or charges with their dates, the one at a moment put off."""
    key = next((key for key in ("tasks", "charges") if isinstance(use, dict) and key in use), "")
    items = use[key] if key else []
    if not isinstance(items, list):
        raise LookupError(at)
    moments = [
        moment for each in parse_moments(items, key, start.tzinfo) for moment in _dated(each, start)
    ]
    moments[_place(moments, at)] += by
    return {**use, key: [moment.isoformat() for moment in sorted(moments)]}


def _place(moments: Sequence[datetime], at: datetime) -> int:
    """Index of the moment that is meant.

    Raises
    ------
    LookupError
    """
    for place, moment in enumerate(moments):
        if abs(moment - at) <= SAME:
            return place
    raise LookupError(at)


def _dated(moment: Moment, start: datetime) -> list[datetime]:
    """A moment, or a time of day on each day from the one before a plan's start on."""
    if isinstance(moment, datetime):
        return [moment]
    midnight = start.replace(hour=0, minute=0, second=0, microsecond=0)
    first = midnight + timedelta(days=-1, minutes=moment)
    return [first + timedelta(days=day) for day in range(DAYS)]
