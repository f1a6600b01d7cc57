"""Sentences of advice on a load: what is not well known, and how to measure it."""

from __future__ import annotations

from collections.abc import Mapping

from needle.quantity import hours_text
from needle.words.figures import Sentence, Units

#: A meter that counts, and one that is read, by where a load can be read.
_COUNTER = {
    "plug": "a plug meter's counter",
    "dc": "the Wh counter of a DC meter",
    "panel": "a panel logger",
}
_METER = {
    "plug": "a plug meter",
    "dc": "a DC meter in its line",
    "panel": "a licensed electrician reads it in the panel",
}
_FITTED = "have a licensed electrician fit a panel logger"


def _count_days(_: Units, meter: str, hours: float, again: bool) -> str:
    more = " more" if again else ""
    days = f"{hours / 24:.1g}"
    length = f"for {days}{more} day{'' if days == '1' else 's'}"
    return f"{_FITTED}, {length}" if meter == "panel" else f"leave {_COUNTER[meter]} on it {length}"


def _leave_on(_: Units, meter: str, hours: float, again: bool) -> str:
    length = f"{hours_text(hours)} more" if again else f"for {hours_text(hours)}"
    return f"{_FITTED}, {length}" if meter == "panel" else f"leave {_COUNTER[meter]} on {length}"


def _count_one_use(_: Units, meter: str) -> str:
    fitted = ", fitted by a licensed electrician," if meter == "panel" else ""
    return f"read {_COUNTER[meter]}{fitted} before and after one use"


def _clamp_start(_: Units, meter: str) -> str:
    if meter == "panel":
        return "a licensed electrician clamps one conductor in inrush mode, one start"
    clamp = "a clamp for DC" if meter == "dc" else "a clamp"
    return f"{clamp} in inrush mode around one conductor, one start"


SENTENCES: Mapping[str, Sentence] = {
    "advice": "{what}: {method}.",
    "task-from-one-run": "Energy of one task is known from a single run",
    "count-one-more": "read the counter before and after one more",
    "counter-not-moved": "The counter has not moved yet",
    "leave-on-a-day": "leave it on for {hours:h} more, over a usual day",
    "keep-counting": "keep it running {hours:h} more to bring it under 5 %",
    "finer-counter": "use a meter whose counter shows finer digits",
    "last-digit": "The counter's last digit alone is ±{error:whole %}",
    "mean-metered-briefly": "The average was metered, but not for long",
    "mean-from-label": "The average is taken from a label",
    "mean-guessed": "Average use is only a guess",
    "leave-counter-on": _leave_on,
    "uses-unknown": "How often it is used is only what is usual for its kind",
    "uses-stated": "How often it is used is only what somebody says",
    "uses-few": "{uses:plural use} in {hours:h} say little of how often it is used",
    "count-days": _count_days,
    "count-one-use": _count_one_use,
    "no-start-reading": "No start reading",
    "clamp-one-start": _clamp_start,
    "no-resting-watts": "Resting watts are not measured",
    "meter-at-rest": lambda _, meter: f"{_METER[meter]} while it rests",
    "power-factor-from-table": "Power factor is a table value",
    "read-together": "read W and VA, or V, A and W, together",
    "duty-from-cycles": "Duty is known from {cycles:plural complete cycle}",
    "tally-more": "tally {cycles} more (about {hours:h}) to know it to ±5 %",
    "no-running-watts": "Running watts are not measured",
    "meter-when-steady": lambda _, meter: f"{_METER[meter]}, when the needle is steady",
    "few-running-readings": "Running watts rest on few readings",
    "read-again-later": "read them again at another time",
}
