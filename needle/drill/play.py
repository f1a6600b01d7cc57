"""Two ways to play a drill: a careful one, and the one that believes labels."""

from __future__ import annotations

import math
from typing import Any

from needle.drill.drill import CAPACITOR, START, Drill
from needle.drill.session import COUNTER, DRAIN, IDLE, RESET, SPOT
from needle.drill.session import START as DO_START


def careful(drill: Drill) -> list[dict[str, Any]]:
    """Reset every counter, read levels, then leave meters in for as long as the time allows."""
    if drill.ask == START:
        return [{"do": DO_START, "load": drill.loads[0].name}]
    if drill.ask == CAPACITOR:
        return [{"do": SPOT, "load": drill.loads[0].name}]
    doings: list[dict[str, Any]] = []
    spent = 0.0
    if drill.supply is not None and "shunt" in drill.meters:
        doings += [{"do": IDLE}, {"do": DRAIN}]
        # What the label promises is the most that a drain can take.
        spent = 20.0 + 60 * drill.supply.nominal_wh / (0.3 * drill.supply.continuous_w)
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


def careless(drill: Drill) -> list[dict[str, Any]]:
    """One look at one meter, if any: the label is believed."""
    if drill.ask in (START, CAPACITOR):
        return []
    return [{"do": SPOT, "load": drill.loads[0].name}]
