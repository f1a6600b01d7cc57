"""Rounds held against households whose truth is known: does planning the visit narrow the range?

``python -m tools.rounds [HOUSEHOLDS]``: three hours, two plug meters, loads with evidence of any
kind, from a label to a capture; once after the planned round and once after each way in which
people spend the same time.
"""

from __future__ import annotations

import copy
import math
import sys
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any

import numpy as np

from needle.plan.document import parse_plan
from needle.plan.simulate import Outcome, simulate
from needle.round.candidates import COUNTER, IDLE_DROP, SPOT, Candidate
from needle.round.planning import plan_round, usual_ways
from needle.round.visit import Visit, carried
from tools.truth import (
    BEFORE_DAYS,
    DAY_S,
    MIXED,
    STEP_S,
    Appliance,
    Household,
    household,
    read_watts,
)

VISIT_H = 3.0
PLANNED = "the planned round"
DRAWS = 200
#: Loads of a household: where there are only two, no order matters.
LOADS_OF = (8, 15)


@dataclass
class RoundScore:
    """Widths that are left of those before, whether the truth was held, of each household."""

    left: list[float] = field(default_factory=list)
    held: list[bool] = field(default_factory=list)

    def add(self, outcome: Outcome, before_h: float, true_h: float) -> None:
        low, _, high = outcome.runtime
        self.left.append((high - low) / before_h)
        self.held.append(low <= true_h <= high)


def judge(count: int, first: int = 0, day_sd: float = 0.07) -> tuple[dict[str, RoundScore], float]:
    """Scores by way of spending the visit, and the longest that planning took, s."""
    scores: dict[str, RoundScore] = {}
    longest = 0.0
    for seed in range(first, first + count):
        home = household(seed, day_sd, MIXED, LOADS_OF)
        plan = parse_plan(home.document)
        before = simulate(plan, DRAWS)
        visit = Visit(plan.start - timedelta(hours=VISIT_H), plan.start, carried(["plug", "plug"]))
        began = time.perf_counter()
        planned = plan_round(before, visit)
        longest = max(longest, time.perf_counter() - began)
        ways: dict[str, Sequence[Candidate]] = {
            PLANNED: [step.candidate for step in planned.steps],
            **usual_ways(before, visit),
        }
        low, _, high = before.runtime
        for words, measured in ways.items():
            after = simulate(parse_plan(_measured(home, measured, seed)), DRAWS)
            scores.setdefault(words, RoundScore()).add(after, high - low, home.true_h)
    return scores, longest


def _measured(home: Household, measured: Sequence[Candidate], seed: int) -> dict[str, Any]:
    """The household's document with what was read in the visit."""
    rng = np.random.default_rng([seed, 83])
    document = copy.deepcopy(home.document)
    parts = {part.name: part for part in home.parts}
    for load in document["loads"]:
        for candidate in measured:
            if candidate.subject == load["name"]:
                load["profile"]["readings"] += _read(rng, parts[load["name"]], candidate, home)
    if any(candidate.what == IDLE_DROP for candidate in measured):
        fell = math.floor(100 * (1 - home.idle_w * VISIT_H / home.held_wh) + rng.random()) / 100
        document["supply"]["tests"] = [{"type": "idle", "from": 1.0, "to": fell, "hours": VISIT_H}]
    return document


def _read(
    rng: np.random.Generator, part: Appliance, candidate: Candidate, home: Household
) -> list[dict[str, Any]]:
    """What a plug meter shows in the visit."""
    start_h = int(home.document["start"][11:13])
    first = int((BEFORE_DAYS * DAY_S + (start_h - VISIT_H) * 3600) / STEP_S)
    hours = candidate.meter_min / 60
    course = part.watts[first : first + int(hours * 3600 / STEP_S)]
    if part.windows is not None:
        # It is switched on for the meter.
        course = np.full(len(course), part.running_w)
    gain = 1 + rng.uniform(-0.01, 0.01)
    if candidate.what == SPOT:
        # It is read when it runs: a person waits for that.
        at = first + int(np.argmax(part.on[first:])) if part.windows is None else first
        level = float(part.watts[at]) if part.windows is None else part.running_w
        return [{"type": "spot", "state": "running", "watts": read_watts(rng, level)}]
    assert candidate.what == COUNTER
    hours -= 5 / 60
    wh = float(course.mean()) * hours * gain
    return [{"type": "energy", "wh": 10 * int(wh / 10 + rng.random()), "hours": round(hours, 2),
             "instrument": "plug"}]  # fmt: skip


def table(count: int) -> None:
    """Print what each way leaves of the range, and how often it holds the truth."""
    scores, longest = judge(count)
    few, most = LOADS_OF
    print(f"  {count} households of {few} to {most - 1} loads, each with evidence of its own, "
          f"{VISIT_H:.0f} h, two plug meters; planning took at most {longest:.2f} s")  # fmt: skip
    planned = np.array(scores[PLANNED].left)
    for words, score in scores.items():
        left = np.array(score.left)
        against = "" if words == PLANNED else f"   planned / this {np.median(planned / left):5.2f}"
        print(f"    {words:40s} leaves {100 * np.median(left):5.1f} %   "
              f"held {100 * np.mean(score.held):5.1f} %{against}")  # fmt: skip


if __name__ == "__main__":
    table(int(sys.argv[1]) if len(sys.argv) > 1 else 40)
