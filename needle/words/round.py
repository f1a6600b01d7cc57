"""Sentences of a measuring round: what to do at each step, and what is left alone."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import datetime

from needle.words.figures import Sentence, Units, clock_text

#: What is done at the beginning; ``{until}`` is the time at which its meter is free again.
_BEGIN = {
    "counter": "{meter} to {subject}: reset its counter, leave it in until {until}",
    "spot": "{meter} to {subject}: read it while it runs",
    "tally": "{meter}, {subject}: note each start and each stop until {until}",
    "start": "{meter} around one conductor of {subject}, inrush mode: switch it on",
    "task": "{meter} to {subject}: reset its counter, run it once, read it at {until}",
    "idle": "{meter}: inverter on, nothing plugged in; read its watts",
    "idle-drop": (
        "{meter}: note the charge, inverter on with nothing in it; note it again at {until}"
    ),
    "efficiency": "{meter} and a plug meter: read both at three loads and more",
    "together": (
        "{meter}: run {loads} on the supply, nothing else; reset it, read its Wh at {until}"
    ),
    "drain": (
        "{meter}: reset it, drain the full battery, read the Wh at {until}; charge it at once"
    ),
}
#: What is done at the end of those that are not read at once.
_END = {
    "counter": "read {meter} at {subject}, and take it out",
    "task": "read {meter} at {subject}, and take it out",
    "tally": "enter the moments noted at {subject}",
    "idle-drop": "read the charge again on {meter}",
    "together": "read {meter}: Wh since its reset, and the hours; charge the battery again",
    "drain": "read {meter}: Wh given, and the charge",
}


def _capital(words: str) -> str:
    return words[:1].upper() + words[1:]


def _begin(words: str) -> Callable[..., str]:
    def sentence(
        units: Units,
        meter: str,
        subject: str,
        until: datetime,
        loads: Sequence[str],
        switch_on: bool,
    ) -> str:
        at, together = clock_text(until, units), ", ".join(loads)
        said = words.format(meter=meter, subject=subject, until=at, loads=together)
        return _capital(said) + ("; switch it on for it" if switch_on else "")

    return sentence


def _end(words: str) -> Callable[..., str]:
    return lambda _, meter, subject: _capital(words.format(meter=meter, subject=subject))


SENTENCES: Mapping[str, Sentence] = {
    **{f"begin-{what}": _begin(words) for what, words in _BEGIN.items()},
    **{f"end-{what}": _end(words) for what, words in _END.items()},
    "hard-wired": "hard-wired: a licensed electrician clamps it",
    "both-legs": "on both legs, where no plug meter fits: a licensed electrician clamps it",
    "plug-stays-in": "its plug stays in",
    "biggest-first": "the biggest first, an hour each",
    "same-time-each": "each for the same time",
    "in-order": "in the order of the list, an hour each",
}
