"""Two ways to do a drill: carefully, and by trusting the labels."""

from __future__ import annotations

import math
from typing import Any

from needle.drill.drill import CAPACITOR, START, TASKS, Drill
from needle.drill.session import COUNTER, DRAIN, IDLE, MOST_TASKS, RESET, SPOT, TASK
from needle.drill.session import START as DO_START
from needle.profile.kinds import KINDS
from needle.standin.appliances import APPLIANCES


def careful(drill: Drill) -> list[dict[str, Any]]:
    """Reset every counter, read levels, then leave meters in for as long as possible."""
    if drill.ask == START:
        return [{"do": DO_START, "load": drill.loads[0].name}]
    if drill.ask == CAPACITOR:
        return [{"do": SPOT, "load": drill.loads[0].name}]
    doings, spent = _of_the_supply(drill)
    if drill.ask == TASKS:
        name = drill.loads[0].name
        return [
            *doings,
            {"do": RESET, "load": name},
            {"do": TASK, "load": name, "count": MOST_TASKS},
        ]
    names = [load.name for load in drill.loads]
    meters = max(1, sum(meter == "plug" for meter in drill.meters))
    turns = math.ceil(len(names) / meters)
    spare = drill.minutes - spent - 2.0 * len(names) - 6.0 * len(names)
    hours = min(26.0, max(0.25, spare / 60 / turns))
    for first in range(0, len(names), meters):
        turn = names[first : first + meters]
        doings += [{"do": RESET, "load": name} for name in turn]
        doings.append({"do": COUNTER, "loads": turn, "hours": round(hours, 2)})
    return doings


def _of_the_supply(drill: Drill) -> tuple[list[dict[str, Any]], float]:
    """Supply tests to make, and their longest duration in min."""
    supply = drill.supply
    if supply is None:
        return [], 0.0
    # What the label promises is the most that a drain can take.
    drain_min = 10.0 + 60 * supply.nominal_wh / (0.3 * supply.continuous_w)
    if "shunt" in drill.meters:
        return [{"do": IDLE}, {"do": DRAIN}], 10.0 + drain_min
    return ([{"do": DRAIN}], drain_min) if drill.can_drain else ([], 0.0)


def careless(drill: Drill) -> list[dict[str, Any]]:
    """At most one look at one meter: the label is trusted."""
    first = KINDS[APPLIANCES[drill.loads[0].standin].kind]
    # Nobody waits for what runs when water asks for it.
    if drill.ask in (START, CAPACITOR, TASKS) or first.runs_by == "water":
        return []
    return [{"do": SPOT, "load": drill.loads[0].name}]
