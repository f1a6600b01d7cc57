"""Times of use of a load, as people write them: hours, task times and task steps."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from needle.document import DocumentError
from needle.moments import DAY_MIN, parse_windows, spread_over_day
from needle.quantity import QuantityError, parse

_MOMENT = r"(?:(\d{4}-\d{2}-\d{2})[ T])?(\d{1,2})(?:[:.]?([0-5]\d))?(?:\s*([ap])\.?m\.?)?"
_SPAN = re.compile(rf"^{_MOMENT}\s*(?:-|–|—|to|until)\s*{_MOMENT}$", re.I)
_AT = re.compile(rf"^(?:at\s+)?{_MOMENT}$", re.I)
_A_DAY = re.compile(r"^(once|twice|\d{1,3})\s*(?:x|×|times?)?\s*(?:a|per|each|every)\s*day$", re.I)
_PARTS = re.compile(r"[,;\n]|\band\b", re.I)
_WORDS = {"once": 1, "twice": 2}
#: Always, in the words for what somebody switches on now and then.
AT_ANY_HOUR = "at any hour"
_STEP = re.compile(
    r"^(?P<watts>[\d.,\s]+k?W)\s*(?:for|,)?\s*(?P<time>[^%]+?)"
    r"(?:\s*(?:at|on)?\s(?P<duty>\d+(?:[.,]\d+)?)\s*%)?$",
    re.I,
)


def use_from_text(text: str) -> dict[str, Any]:
    """Parse the times of use of a load.

    Parameters
    ----------
    text : str
        ``always`` or ``at any hour``, ``18:00–22:30, 7–9``, ``at 20:15, 07:00``, ``2 a day``; a
        date before a time means once: ``2027-02-10 12:30``.

    Returns
    -------
    dict
        Empty for always; ``{"between": [[from, to], …]}`` or ``{"tasks": [moment, …]}``.

    Raises
    ------
    DocumentError
        A part is neither a span nor a time; the message names it.
    """
    if text.strip().casefold() in ("", "always", AT_ANY_HOUR):
        return {}
    if a_day := _A_DAY.match(text.strip()):
        return {"tasks": _times_a_day(a_day[1].casefold())}
    parts = [part.strip() for part in _PARTS.split(text) if part.strip()]
    if any(_AT.match(part) for part in parts):
        return {"tasks": [_moment(part) for part in parts]}
    windows = [_window(part) for part in parts]
    parse_windows(windows, "use", UTC)
    return {"between": windows}


def _times_a_day(number: str) -> list[str]:
    """Times of a number of tasks per day."""
    count = _WORDS.get(number) or int(number)
    if not 1 <= count <= 100:
        raise DocumentError("use", f"{count} a day: give 1 to 100")
    return [f"{moment // 60:02d}:{moment % 60:02d}" for moment in spread_over_day(count)]


def with_times(use: dict[str, Any]) -> dict[str, Any]:
    """A use with times assumed, where it has a number of tasks per day; else as it is."""
    tasks = use.get("tasks")
    return {**use, "tasks": _times_a_day(str(tasks))} if isinstance(tasks, int) else use


def _window(part: str) -> list[str]:
    span = _SPAN.match(part)
    if not span:
        raise DocumentError(
            "use", f"“{part[:40]}” is not a span such as 18:00–22:30, nor a time such as 20:15"
        )
    day, hour, minute, half, last_day, last_hour, last_minute, last_half = span.groups()
    return [
        _clock(day, hour, minute, half, part),
        _clock(last_day or day, last_hour, last_minute, last_half, part, end=True),
    ]


def _moment(part: str) -> str:
    clock = _AT.match(part)
    if not clock:
        raise DocumentError("use", f"“{part[:40]}” is not a time such as 20:15")
    day, hour, minute, half = clock.groups()
    return _clock(day, hour, minute, half, part)


def _clock(
    day: str | None,
    hour: str,
    minute: str | None,
    half: str | None,
    part: str,
    *,
    end: bool = False,
) -> str:
    hours, minutes = int(hour), int(minute or 0)
    if half:
        hours = _of_half_day(hours, half, part)
    if hours == 24 and end and not minutes and day is None:
        hours = 0
    if hours > 23:
        raise DocumentError("use", f"“{part[:40]}” goes beyond 24:00")
    text = f"{hours:02d}:{minutes:02d}"
    if day is None:
        return text
    try:
        datetime.fromisoformat(day)
    except ValueError:
        raise DocumentError("use", f"{day} is not a day of the calendar") from None
    return f"{day}T{text}"


def _of_half_day(hours: int, half: str, part: str) -> int:
    """Hour of the day from an hour with a.m. or p.m."""
    if not 1 <= hours <= 12:
        raise DocumentError("use", f"“{part[:40]}” is no hour before or after noon")
    return hours % 12 + (12 if half.casefold() == "p" else 0)


def spans_from_text(text: str, key: str) -> list[list[str]]:
    """Parse spans of the day, without anything else.

    Raises
    ------
    DocumentError
    """
    try:
        use = use_from_text(text)
    except DocumentError as error:
        raise DocumentError(key, error.message) from error
    if "tasks" in use:
        raise DocumentError(key, "wants hours from and to, such as 23:00–06:00")
    return list(use.get("between", []))


def text_of_use(use: dict[str, Any]) -> str:
    """A use in the form that :func:`use_from_text` reads; empty for always."""
    if between := use.get("between"):
        return ", ".join(f"{_plain(first)}–{_plain(last)}" for first, last in between)
    if tasks := use.get("tasks"):
        return f"at {', '.join(_plain(task) for task in tasks)}"
    return ""


def _plain(moment: str) -> str:
    return moment[:16].replace("T", " ")


def steps_from_text(text: str) -> list[dict[str, float]]:
    """Parse a task's steps: ``1480 W 12 min; 1480 W 20 min 40 %; 300 W 15 min``.

    Raises
    ------
    DocumentError
    """
    steps = []
    for part in re.split(r"[;\n]|,\s", text):
        if not part.strip():
            continue
        step = _STEP.match(part.strip())
        if not step:
            raise DocumentError(
                "steps", f"“{part.strip()[:40]}” is not a step such as 1480 W 20 min, or 40 % of it"
            )
        try:
            watts = parse(step["watts"], "W").value
            minutes = parse(step["time"].strip(), "min").value
        except QuantityError as error:
            raise DocumentError("steps", str(error)) from None
        duty = float((step["duty"] or "100").replace(",", ".")) / 100
        if not 0 < duty <= 1 or minutes <= 0:
            raise DocumentError("steps", f"“{part.strip()[:40]}” needs minutes, and 1 to 100 %")
        steps.append({"watts": watts, "minutes": minutes, "duty": duty})
    return steps


def text_of_steps(steps: Sequence[dict[str, float]]) -> str:
    """Steps in the form that :func:`steps_from_text` reads."""
    return "; ".join(
        f"{step['watts']:g} W {step['minutes']:g} min"
        + (f" {100 * step['duty']:.4g} %" if step.get("duty", 1.0) < 1 else "")
        for step in steps
    )


def moved_block(use: dict[str, Any], index: int, by_min: int) -> dict[str, Any]:
    """A use with one of its blocks (a span, or a task's moment) shifted by minutes.

    A time of day wraps at midnight; a date changes.

    Raises
    ------
    DocumentError
        There is no such block, or it would overlap another.
    """
    key, blocks = _blocks(use, index)
    block = blocks[index]
    blocks[index] = (
        [_later(moment, by_min) for moment in block] if key == "between" else _later(block, by_min)
    )
    return _checked({key: blocks})


def stretched_block(use: dict[str, Any], index: int, by_min: int, end: bool) -> dict[str, Any]:
    """A use with the start or end of one of its spans shifted by minutes.

    Raises
    ------
    DocumentError
        It is not a span, would vanish or exceed a day, or would overlap another.
    """
    key, blocks = _blocks(use, index)
    if key != "between":
        raise DocumentError("use", "a task takes as long as its steps: it can only be moved")
    first, last = blocks[index]
    length = _length_min(first, last) + (by_min if end else -by_min)
    if not 5 <= length < DAY_MIN:
        raise DocumentError("use", "a span lasts 5 min at least, and less than a day")
    blocks[index] = [first, _later(last, by_min)] if end else [_later(first, by_min), last]
    return _checked({key: blocks})


def copied_block(use: dict[str, Any], index: int, gap_min: int = 60) -> dict[str, Any]:
    """A use with a copy of one of its blocks, ``gap_min`` after that block's end.

    Raises
    ------
    DocumentError
    """
    key, blocks = _blocks(use, index)
    block = blocks[index]
    if key == "between":
        length = _length_min(*block)
        blocks.append([_later(moment, length + gap_min) for moment in block])
    else:
        blocks.append(_later(block, gap_min))
        if blocks[-1] in blocks[:-1]:
            raise DocumentError("use", f"there is one at {_plain(blocks[-1])} already")
    return _checked({key: blocks})


def without_block(use: dict[str, Any], index: int) -> dict[str, Any]:
    """A use without one of its blocks; empty if it was the last.

    Raises
    ------
    DocumentError
    """
    key, blocks = _blocks(use, index)
    del blocks[index]
    return {key: blocks} if blocks else {}


def _blocks(use: dict[str, Any], index: int) -> tuple[str, list[Any]]:
    key = "tasks" if use.get("tasks") else "between"
    blocks = list(use.get(key, ()))
    if not 0 <= index < len(blocks):
        raise DocumentError("use", "that block is not there any more")
    return key, blocks


def _checked(use: dict[str, Any]) -> dict[str, Any]:
    parse_windows(use.get("between", ()), "use", UTC)
    return use


def _later(moment: str, by_min: int) -> str:
    if not is_daily(moment):
        return (datetime.fromisoformat(moment) + timedelta(minutes=by_min)).isoformat()
    hours, minutes = moment.split(":")
    place = (int(hours) * 60 + int(minutes) + by_min) % DAY_MIN
    return f"{place // 60:02d}:{place % 60:02d}"


def _length_min(first: str, last: str) -> int:
    if not is_daily(first):
        span = datetime.fromisoformat(last) - datetime.fromisoformat(first)
        return round(span.total_seconds() / 60)
    places = [int(clock[:2]) * 60 + int(clock[3:]) for clock in (first, last)]
    return (places[1] - places[0]) % DAY_MIN


def is_daily(moment: str) -> bool:
    """Whether a moment is a time of day, which recurs every day."""
    return len(moment) == len("20:15")
