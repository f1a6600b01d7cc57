"""How often and how long a load is used, in everyday words: ``twice a week, 40 minutes``."""

from __future__ import annotations

import re
from fractions import Fraction
from typing import Any

from needle.document import DocumentError, Reader
from needle.fields import Fields, Flag, Items, Number, Windows
from needle.moments import DAY_MIN
from needle.quantity import QuantityError, hours_text, parse
from needle.usage.schedule import text_of_use, use_from_text

#: Parts of the day as most people mean them: first and last hour, and where a short use falls.
_PARTS_OF_DAY = {
    "morning": ("06:00", "09:00", "07:00"),
    "noon": ("12:00", "13:00", "12:00"),
    "lunch": ("12:00", "13:00", "12:00"),
    "afternoon": ("12:00", "18:00", "15:00"),
    "daytime": ("08:00", "18:00", "12:00"),
    "evening": ("18:00", "23:00", "19:00"),
    "night": ("22:00", "07:00", "22:00"),
}
_PART = re.compile(rf"\b(?:over)?({'|'.join(_PARTS_OF_DAY)})s?\b")
_ALWAYS = (
    "always",
    "all the time",
    "all day",
    "a day",
    "day and night",
    "continuously",
    "nonstop",
    "non-stop",
    "24/7",
    "24 h",
    "24 hours",
    "24 h a day",
    "24 hours a day",
    "permanently",
)
_NOW_AND_THEN = re.compile(r"\b(now and then|now and again|sometimes|occasionally|rarely)\b")
_VAGUE = re.compile(r"\b(about|around|approximately|roughly|maybe|circa|ca\.?|~|in the|at|by)\b|~")
_DURATION = re.compile(
    r"(?:\bfor\s+)?(?P<length>\d+(?:[.,]\d+)?\s*(?:hours?|hrs?|h)"
    r"(?:\s*\d{1,2}\b(?!:))?(?:\s*min\w*)?"
    r"|\d+(?:[.,]\d+)?\s*(?:minutes?|mins?|seconds?|secs?|s)\b|half an hour|an hour|a minute)"
    r"(?:\s+each(?:\s+time)?)?(?P<daily>\s*(?:a|per|each|every)\s+day|\s+daily)?"
)
_SAID_LENGTHS = {"half an hour": 30.0, "an hour": 60.0, "a minute": 1.0}
_TIMES = re.compile(
    r"^(?P<count>once|twice|thrice|one|two|three|four|five|six|\d{1,3})?\s*(?:x|×|times?)?\s*"
    r"(?:(?:a|per|each|every)\s+day|daily|every\s*day)?$"
)
#: Days of each period that people count uses by.
_DAYS = {"day": 1, "week": 7, "fortnight": 14, "month": 30, "year": 365}
_PERIOD = re.compile(
    r"^(?P<count>once|twice|thrice|one|two|three|four|five|six|\d{1,3})?\s*(?:x|×|times?)?\s*"
    r"(?:(?:a|per|each|in a)\s+(?P<unit>week|fortnight|month|year)"
    r"|every\s+(?P<many>other|second|two|three|four|five|six|\d{1,3})?\s*"
    r"(?P<each>day|week|fortnight|month|year)s?"
    r"|(?P<ly>week|fortnight|month|year)ly)$"
)
_COUNTS = {
    "once": 1,
    "twice": 2,
    "thrice": 3,
    "one": 1,
    "two": 2,
    "three": 3,
    "four": 4,
    "five": 5,
    "six": 6,
    "other": 2,
    "second": 2,
}
#: A use that takes no longer is one of single moments, min.
_SHORT_MIN = 45.0
_HOW_LONG = "how long each time? Such as “twice a day, 3 minutes”"
#: Most uses that are counted, and most days that they are counted in.
MOST_TIMES, MOST_DAYS = 100, 366
_HOW_OFTEN = "how often? Such as “twice a day, 3 minutes”, “in the evening” or “5 hours a day”"


def usual_use_from_text(text: str) -> dict[str, Any]:
    """Parse how often and how long a load is used.

    Parameters
    ----------
    text : str
        ``all the time``, ``in the evening``, ``twice a day, 3 minutes``, ``19:00 4 min``,
        ``18:00–23:00``, ``5 hours a day``, ``twice a week, 40 min``, ``every other day, 1 h``,
        ``now and then, 10 min`` (read as once a day).

    Returns
    -------
    dict
        Empty for an empty text; else ``{"always": True}``, ``{"hours": h}`` a day,
        ``{"between": [[from, to], …]}``, ``{"tasks": [moment, …], "minutes": min}``, or, where
        nobody said at what times, ``{"times": n, "days": n, "minutes": min}``.

    Raises
    ------
    DocumentError
        The message says what is missing: how often, or how long.
    """
    said = " ".join(text.casefold().replace("–", "-").split()).strip(" .")
    if not said:
        return {}
    if said in _ALWAYS:
        return {"always": True}
    minutes, daily, rest = _without_duration(_VAGUE.sub(" ", said))
    rest = " ".join(rest.strip(" ,;.").split())
    parts = _PART.findall(rest)
    if (period := _PERIOD.match(rest)) and rest != "every day":
        return _in_days(period, minutes)
    if daily or (minutes is not None and minutes > _SHORT_MIN and not rest):
        return _hours(minutes or 0.0)
    if parts:
        return _in_parts(parts, minutes)
    if _NOW_AND_THEN.search(rest):
        return _of_times(1, 1, minutes)
    if times := _TIMES.match(rest):
        if not rest:
            raise DocumentError("use", _HOW_OFTEN)
        return _of_times(_number(times["count"] or "once"), 1, minutes)
    try:
        use = use_from_text(rest)
    except DocumentError:
        raise DocumentError("use", _HOW_OFTEN) from None
    return _tasks(rest, minutes) if "tasks" in use else use


def _without_duration(said: str) -> tuple[float | None, bool, str]:
    """Minutes per use, whether they are per day, and the remaining text."""
    found = _DURATION.search(said)
    if found is None:
        return None, False, said
    length = found["length"]
    try:
        minutes = _SAID_LENGTHS.get(length) or parse(length, "min").value
    except QuantityError as error:
        raise DocumentError("use", str(error)) from None
    if not 0 < minutes <= DAY_MIN:
        raise DocumentError("use", f"{length} is no part of a day")
    return minutes, bool(found["daily"]), said[: found.start()] + " " + said[found.end() :]


def _in_days(period: re.Match[str], minutes: float | None) -> dict[str, Any]:
    """Uses in a number of days."""
    many, unit = period["many"] or "1", period["unit"] or period["each"] or period["ly"]
    times = _number(period["count"] or "1")
    return _of_times(times, _number(many) * _DAYS[unit], minutes)


def _number(word: str) -> int:
    return _COUNTS.get(word) or int(word)


def _of_times(times: int, days: int, minutes: float | None) -> dict[str, Any]:
    """Uses in some days, checked.

    Raises
    ------
    DocumentError
    """
    if minutes is None:
        raise DocumentError("use", _HOW_LONG)
    if not 1 <= times <= MOST_TIMES or not 1 <= days <= MOST_DAYS:
        limits = f"give 1 to {MOST_TIMES} times in 1 to {MOST_DAYS} days"
        raise DocumentError("use", f"{times} times in {days} days: {limits}")
    if times * minutes > days * DAY_MIN:
        span = "a day" if days == 1 else f"{days} days"
        raise DocumentError("use", f"{times} times {minutes:g} min is more than {span}")
    return {"times": times, "days": days, "minutes": minutes}


def _hours(minutes: float) -> dict[str, Any]:
    return {"always": True} if minutes >= DAY_MIN else {"hours": minutes / 60}


def _in_parts(parts: list[str], minutes: float | None) -> dict[str, Any]:
    """A use in parts of the day: all of each, a time in each, or a moment in each."""
    spans = [_PARTS_OF_DAY[part] for part in dict.fromkeys(parts)]
    if minutes is None:
        return {"between": [[first, last] for first, last, _ in spans]}
    if minutes <= _SHORT_MIN:
        return {"tasks": [moment for _, _, moment in spans], "minutes": minutes}
    return {"between": [[first, _later(first, minutes)] for first, _, _ in spans]}


def _later(clock: str, minutes: float) -> str:
    hour, minute = map(int, clock.split(":"))
    whole = (60 * hour + minute + round(minutes)) % DAY_MIN
    return f"{whole // 60:02d}:{whole % 60:02d}"


def _tasks(when: str, minutes: float | None) -> dict[str, Any]:
    if minutes is None:
        raise DocumentError("use", _HOW_LONG)
    tasks = use_from_text(when)["tasks"]
    if len(tasks) * minutes > DAY_MIN:
        raise DocumentError("use", f"{len(tasks)} times {minutes:g} min is more than a day")
    return {"tasks": tasks, "minutes": minutes}


USUAL_USE_FIELDS: Fields = {
    "always": Flag("all the time"),
    "hours": Number("hours a day", unit="h", most=24.0, above=True),
    "between": Windows("windows of every day", most=50),
    "tasks": Items("times at which a task begins", form='["07:30", …]', most=100),
    "times": Number("number of its uses", least=1, most=MOST_TIMES, whole=True),
    "days": Number(
        "number of days in which they fall", least=1, most=MOST_DAYS, default=7, whole=True
    ),
    "minutes": Number("length of a task", unit="min", most=float(DAY_MIN), above=True),
}


def parse_usual_use(data: Any, path: str = "use") -> dict[str, Any]:
    """Validate a stored usual use.

    Raises
    ------
    DocumentError
    """
    reader = Reader(data, path, USUAL_USE_FIELDS)
    hours, minutes = reader.number_or_none("hours"), reader.number_or_none("minutes")
    if reader.flag("always"):
        return {"always": True}
    if hours is not None:
        return {"hours": hours}
    if tasks := reader.items("tasks"):
        return _tasks("at " + ", ".join(map(str, tasks)), minutes)
    times = reader.number_or_none("times")
    if times is not None:
        return _of_times(int(times), int(reader.number("days")), minutes)
    between = reader.items("between")
    text = ", ".join("–".join(map(str, span)) for span in between if isinstance(span, list))
    return use_from_text(text) if text else {}


def uses_per_day_of(use: dict[str, Any]) -> float | None:
    """Uses per day of a usual use; None if it has no single uses."""
    if "tasks" in use:
        return float(len(use["tasks"]))
    return use["times"] / use["days"] if "times" in use else None


def use_of_rate(uses_per_day: float, minutes: float) -> dict[str, Any]:
    """A usual use of a number of uses a day, which may be a fraction.

    Raises
    ------
    DocumentError
    """
    most_days = max(1, min(MOST_DAYS, int(MOST_TIMES / uses_per_day)))
    rate = Fraction(uses_per_day).limit_denominator(most_days)
    return _of_times(rate.numerator, rate.denominator, minutes)


def hours_per_day_of(use: dict[str, Any]) -> float | None:
    """Hours per day of a usual use; None if unknown."""
    if use.get("always"):
        return 24.0
    if (uses := uses_per_day_of(use)) is not None:
        return uses * float(use["minutes"]) / 60
    if between := use.get("between"):
        return sum(_span_min(first, last) for first, last in between) / 60
    return use.get("hours")


def _span_min(first: str, last: str) -> int:
    begin, end = (60 * int(clock[:2]) + int(clock[3:5]) for clock in (first, last))
    return (end - begin) % DAY_MIN or DAY_MIN


def text_of_usual_use(use: dict[str, Any]) -> str:
    """A usual use in the form that :func:`usual_use_from_text` reads."""
    if use.get("always"):
        return "all the time"
    if "hours" in use:
        return f"{hours_text(use['hours'], exact=True)} a day"
    if "tasks" in use:
        return f"{text_of_use(use)}, {use['minutes']:.6g} min"
    if "times" in use:
        return f"{often_text(use)}, {use['minutes']:.6g} min"
    return text_of_use(use)


def often_text(use: dict[str, Any]) -> str:
    """How often something is used: ``twice a week``."""
    often = {1: "once", 2: "twice"}.get(use["times"], f"{use['times']} times")
    days = use["days"]
    words = {number: f"a {word}" for word, number in _DAYS.items()}
    return f"{often} {words.get(days, f'every {days} days')}"
