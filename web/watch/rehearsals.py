"""Rehearsals: an outage on a simulated household, sixty times as fast, and its judgement."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass

from needle.quantity import hours_text
from needle.watch.rehearsal import (
    CLOUDS,
    RUNS_ON,
    Judged,
    Switch,
    judge_document,
    rehearsal_of,
)
from web.background.asking import worked_out
from web.background.questions import Urgency, key_of
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
    early: str
    surprise: str
    rows: Sequence[JudgedRow]


def shown_now(trial: Trial, hour: float) -> float:
    """Charge that the simulated display shows at an hour, share."""
    return rehearsal_of(*_of(trial)).shown(switches_of(trial), hour)


def empty_h(trial: Trial) -> float:
    """Hours until the simulated battery is empty; infinite if it lasts for the hours needed."""
    return rehearsal_of(*_of(trial)).empty_h(switches_of(trial))


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
    judged, surprise, load = worked_out(
        key_of("rehearsal", *asked),
        ("rehearsal", trial.job.owner_id),
        wait_s,
        judge_document,
        *asked,
        urgency=Urgency.LATER,
    )
    rows = [_row(each) for each in judged]
    return Judgement(_headline(judged), _early(trial), _surprise(surprise, load), rows)


def _of(trial: Trial) -> tuple[str, float, int]:
    plan = trial.to_document()["plan"]
    return json.dumps(plan, sort_keys=True), trial.needed_h or 0.0, trial.simulated_seed or 0


def _row(judged: Judged) -> JudgedRow:
    return JudgedRow(
        RULES[judged.rule],
        hours_text(judged.lasts_h),
        "yes" if judged.kept else "no",
        f"{judged.served * 100:.0f} %",
    )


def _headline(judged: Sequence[Judged]) -> str:
    done, musts = (next(each for each in judged if each.rule == rule) for rule in ("done", "musts"))
    if done.kept:
        return "What must run had power until the end."
    if musts.kept:
        return "What must run did not have power until the end."
    return (
        f"This outage was too long for the battery: with only what must run it lasts "
        f"{hours_text(musts.lasts_h)}."
    )


def _early(trial: Trial) -> str:
    """That it was ended before its end, and how it is judged then."""
    ended_h = trial.hours_to(trial.ended_at) if trial.ended_at is not None else 0.0
    if trial.ended_why == "cutoff" or ended_h >= (trial.needed_h or 0.0) - 0.1:
        return ""
    return f"You ended it after {hours_text(ended_h)}: it is judged as if that had gone on."


def _surprise(surprise: str, load: str) -> str:
    if surprise == CLOUDS:
        return "The surprise: clouds left a third of the sun."
    if surprise == RUNS_ON:
        return f"The surprise: {load} drew more than twice what it should."
    return "The surprise: the display stuck for some hours and then fell at once."
