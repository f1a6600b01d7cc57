"""Rehearsals: an outage on a simulated household, sixty times as fast, and its judgement."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from needle.plan.documents.parse import parse_plan
from needle.quantity import hours_text
from needle.watch.rehearsal import CLOUDS, RUNS_ON, Judged, Rehearsal, Switch
from web.plans.answer_pool import worked_out
from web.trials.models import Trial

#: What each rule is called.
RULES = {
    "done": "What you did",
    "card": "By the wall card",
    "everything": "Everything on until it stops",
    "musts": "Only what must run, from the start",
}


@dataclass(frozen=True)
class JudgedRow:
    """How the outage went by a rule, in words."""

    rule: str
    lasted: str
    kept: str
    served: str


@dataclass(frozen=True)
class Judgement:
    """How a rehearsal went, beside other rules; and what its surprise was."""

    headline: str
    surprise: str
    rows: Sequence[JudgedRow]


def shown_now(trial: Trial, hour: float) -> float:
    """Charge that the simulated display shows at an hour, share."""
    return _rehearsal(*_of(trial)).shown(switches_of(trial), hour)


def empty_h(trial: Trial) -> float:
    """Hours until the simulated battery is empty; infinite if it lasts for the hours needed."""
    return _rehearsal(*_of(trial)).empty_h(switches_of(trial))


def switches_of(trial: Trial) -> list[Switch]:
    """What was on, from which hour on."""
    begins = trial.expected.get("on")
    switches: list[Switch] = [(0.0, begins)] if begins is not None else []
    for record in trial.known_check_ins():
        if "on" in record.data:
            switches.append((trial.hours_to(record.at), record.data["on"]))
    return switches


def judgement_of(trial: Trial, wait_s: float) -> Judgement:
    """How a finished rehearsal went.

    Raises
    ------
    AnswerPending
    """
    asked = (*_of(trial), switches_of(trial))
    key = "rehearsal:" + hashlib.sha256(json.dumps(asked).encode()).hexdigest()
    judged, surprise, load = worked_out(
        key, ("rehearsal", trial.job.owner_id), wait_s, judge_document, *asked
    )
    rows = [_row(each) for each in judged]
    return Judgement(_headline(judged[0]), _surprise(surprise, load), rows)


def judge_document(
    text: str, needed_h: float, seed: int, switches: Sequence[Any]
) -> tuple[list[Judged], str, str]:
    """How a rehearsal of a plan document went, its surprise, and the load that it was about."""
    made = _rehearsal(text, needed_h, seed)
    return made.judge([(hour, on) for hour, on in switches]), made.surprise, made.load


def _of(trial: Trial) -> tuple[str, float, int]:
    plan = trial.to_document()["plan"]
    return json.dumps(plan, sort_keys=True), trial.needed_h or 0.0, trial.simulated_seed or 0


@lru_cache(maxsize=4)
def _rehearsal(text: str, needed_h: float, seed: int) -> Rehearsal:
    return Rehearsal(parse_plan(json.loads(text)), needed_h, seed)


def _row(judged: Judged) -> JudgedRow:
    return JudgedRow(
        RULES[judged.rule],
        hours_text(judged.lasts_h),
        "yes" if judged.kept else "no",
        f"{judged.served * 100:.0f} %",
    )


def _headline(done: Judged) -> str:
    if done.kept:
        return "What must run had power until the end."
    return "What must run did not have power until the end."


def _surprise(surprise: str, load: str) -> str:
    if surprise == CLOUDS:
        return "The surprise: clouds left a third of the sun."
    if surprise == RUNS_ON:
        return f"The surprise: {load} drew more than twice what it should."
    return "The surprise: the display stuck for some hours and then fell at once."
