"""Sentences of the watch: what comes next, and what helps from here."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from needle.quantity import hours_text
from needle.words.figures import Sentence, Units, moment_text


def _charge_from(units: Units, source: str, hours: float, at: datetime, begins: datetime) -> str:
    return f"run {source} for {hours_text(hours)} from {moment_text(at, begins, units)}"


_WHY_NOT = {
    "overload": "it and what runs with it overload the inverter",
    "start": "its start trips the inverter",
    "output": "its output gives less than it asks for",
    "volts": "it wants other volts than it is given",
    "no-ac": "it runs on AC, and the supply has no inverter",
}


SENTENCES: Mapping[str, Sentence] = {
    "charge-from": _charge_from,
    "run-source": "run {source} for {hours:h}",
    "look-at-charge": "look at the charge",
    "begin-task": "{load} is due",
    "mains-come": "{source} should be on",
    "mains-go": "{source} should be off",
    "not-run-here": lambda _, load, why: f"{load} does not run here: {_WHY_NOT[why]}.",
    "switch-on": "{load} on",
    "switch-off": "{load} off",
}
