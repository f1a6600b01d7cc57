"""Rounds held against households whose truth is known: does planning the visit narrow the range?

``python -m tools.rounds [HOUSEHOLDS]``: three hours, two meters, loads with evidence of any kind,
from a label to a capture; once after the planned round and once after each way in which people
spend the same time.
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

from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import Outcome, simulate
from needle.round.candidate import (
    COUNTER,
    DRAIN,
    EFFICIENCY,
    IDLE,
    IDLE_DROP,
    SPOT,
    TALLY,
    TOGETHER,
    Candidate,
)
from needle.round.candidates import counter_for
from needle.round.of_all import together
from needle.round.of_supply import of_supply
from needle.round.planning import plan_round, usual_ways
from needle.round.visit import Visit, carried, with_what_is_there
from tools.truth import (
    BEFORE_DAYS,
    DAY_S,
    MIXED,
    STEP_S,
    Appliance,
    Household,
    edges,
    household,
    read_watts,
)

VISIT_H = 3.0
#: The visit ends so long before the plan begins: a battery that it uses is full again by then.
BEFORE_H = 24.0
#: What is at hand: two for the loads, or one for them and one at the battery.
PAIRS = (("plug", "plug"), ("plug", "shunt"))
PLANNED = "the planned round"
#: Bound that no round of that length can beat; the distance from it measures a round.
BOUND = "a meter in each load, all three hours"
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


def judge(
    count: int, meters: Sequence[str] = PAIRS[0], first: int = 0, day_sd: float = 0.07
) -> tuple[dict[str, RoundScore], float]:
    """Scores by way of spending the visit with these meters; the longest that planning took, s."""
    scores: dict[str, RoundScore] = {}
    longest = 0.0
    for seed in range(first, first + count):
        home = household(seed, day_sd, MIXED, LOADS_OF)
        plan = parse_plan(home.document)
        before = simulate(plan, DRAWS)
        ends = plan.start - timedelta(hours=BEFORE_H)
        visit = Visit(ends - timedelta(hours=VISIT_H), ends, carried(meters))
        began = time.perf_counter()
        planned = plan_round(before, visit)
        longest = max(longest, time.perf_counter() - began)
        ways: dict[str, Sequence[Candidate]] = {
            PLANNED: [step.candidate for step in planned.steps],
            **usual_ways(before, visit),
            BOUND: _everything(before, with_what_is_there(visit)),
        }
        low, _, high = before.runtime
        for words, measured in ways.items():
            after = simulate(parse_plan(_measured(home, measured, seed)), DRAWS)
            scores.setdefault(words, RoundScore()).add(after, high - low, home.true_h)
    return scores, longest


def _everything(before: Outcome, visit: Visit) -> list[Candidate]:
    """A counter in every load for the whole visit, and all that tells of the supply at once."""
    whole = visit.minutes / 60 - 0.1
    counters = [
        counter
        for load in before.plan.loads
        if (counter := counter_for(load, before, visit, whole)) is not None
    ]
    tests = {test.what: test for test in of_supply(before, visit)}
    tests |= {test.what: test for test in together(before, visit, before.plan.loads)}
    told = (EFFICIENCY, IDLE_DROP, TOGETHER)
    return [*counters, *(tests[what] for what in told if what in tests)]


def _measured(home: Household, measured: Sequence[Candidate], seed: int) -> dict[str, Any]:
    """The household's document with what was read in the visit."""
    rng = np.random.default_rng([seed, 83])
    document = copy.deepcopy(home.document)
    parts = {part.name: part for part in home.parts}
    for load in document["loads"]:
        for candidate in measured:
            if candidate.subject == load["name"]:
                load["profile"]["readings"] += _read(rng, parts[load["name"]], candidate, home)
    tests = [test for candidate in measured for test in _tested(rng, candidate, home)]
    document["supply"]["tests"] = tests
    return document


def _tested(
    rng: np.random.Generator, candidate: Candidate, home: Household
) -> list[dict[str, Any]]:
    """What a display, or a plug meter and a shunt, show of the supply."""
    what = candidate.what
    if what == TOGETHER:
        return [_counted_together(rng, candidate, home)]
    if what == DRAIN:
        wh = 0.9 * home.held_wh * (1 + rng.uniform(-0.01, 0.01))
        return [
            {
                "type": "capacity",
                "wh": round(wh),
                "hours": round(candidate.meter_min / 60, 2),
                "from": 1.0,
                "to": 0.1,
                "counted": "battery",
            }
        ]
    if what == IDLE_DROP:
        fell = math.floor(100 * (1 - home.idle_w * VISIT_H / home.held_wh) + rng.random()) / 100
        return [{"type": "idle", "from": 1.0, "to": fell, "hours": VISIT_H}]
    if what == IDLE:
        return [{"type": "idle", "watts": read_watts(rng, home.idle_w)}]
    if what == EFFICIENCY:
        most = home.document["supply"]["inverter"]["continuous_w"]
        loads_w = [0.0, *(share * most for share in (0.05, 0.2, 0.5))]
        plug, shunt = 1 + rng.uniform(-0.01, 0.01, 2)
        return [
            {
                "type": "efficiency",
                "pairs": [
                    [
                        round(watts * plug, 1),
                        round((home.idle_w + watts / home.efficiency) * shunt, 1),
                    ]
                    for watts in loads_w
                ],
            }
        ]
    return []


def _first_point(home: Household) -> int:
    """Where the visit begins in the appliances' courses."""
    start_h = int(home.document["start"][11:13])
    return int((BEFORE_DAYS * DAY_S + (start_h - BEFORE_H - VISIT_H) * 3600) / STEP_S)


def _counted_together(
    rng: np.random.Generator, candidate: Candidate, home: Household
) -> dict[str, Any]:
    """What a shunt counts at the battery while several loads run and nothing else."""
    assert candidate.count is not None
    first, hours = _first_point(home), (candidate.meter_min - candidate.hands_min) / 60
    points = slice(first, first + int(hours * 3600 / STEP_S))
    loads_w = sum(
        float(part.watts[points].mean())
        for part in home.parts
        if part.name in candidate.count.loads
    )
    wh = (home.idle_w + loads_w / home.efficiency) * hours * (1 + rng.uniform(-0.01, 0.01))
    return {
        "type": "together",
        "wh": round(wh, 1),
        "hours": round(hours, 2),
        "loads": list(candidate.count.loads),
    }


def _read(
    rng: np.random.Generator, part: Appliance, candidate: Candidate, home: Household
) -> list[dict[str, Any]]:
    """What a plug meter shows in the visit, or ears and a watch tell."""
    first = _first_point(home)
    if candidate.what == TALLY:
        return [{"type": "tally", "edges": edges(rng, part, first * STEP_S, candidate.meter_min)}]
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
    return [
        {
            "type": "energy",
            "wh": 10 * int(wh / 10 + rng.random()),
            "hours": round(hours, 2),
            "instrument": "plug",
        }
    ]


def table(count: int, meters: Sequence[str]) -> None:
    """Print what each way leaves of the range, and how often it holds the truth."""
    scores, longest = judge(count, meters)
    few, most = LOADS_OF
    print(
        f"  {count} households of {few} to {most - 1} loads, each with evidence of its own, "
        f"{VISIT_H:.0f} h, {' and '.join(meters)}; planning took at most {longest:.2f} s"
    )
    planned = np.array(scores[PLANNED].left)
    for words, score in scores.items():
        left = np.array(score.left)
        against = "" if words == PLANNED else f"   planned / this {np.median(planned / left):5.2f}"
        print(
            f"    {words:40s} leaves {100 * np.median(left):5.1f} %   "
            f"held {100 * np.mean(score.held):5.1f} %{against}"
        )


if __name__ == "__main__":
    for pair in PAIRS:
        table(int(sys.argv[1]) if len(sys.argv) > 1 else 40, pair)
