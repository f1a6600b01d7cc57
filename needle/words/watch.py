"""Sentences of the watch: what comes next, and what helps from here."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from needle.plan.verdict import UNFIT
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


def _not_run(_: Units, load: str, why: str) -> str:
    how = "does not run here" if why in UNFIT else "fails in most simulated runs"
    return f"{load} {how}: {_WHY_NOT[why]}."


SENTENCES: Mapping[str, Sentence] = {
    "charge-from": _charge_from,
    "run-source": "run {source} for {hours:h}",
    "look-at-charge": "look at the charge",
    "begin-task": "{load} is due",
    "mains-come": "{source} should be on",
    "mains-go": "{source} should be off",
    "not-run-here": _not_run,
    "switch-on": "{load} on",
    "switch-off": "{load} off",
}
