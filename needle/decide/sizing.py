"""How large an inverter a job needs, by both schools."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from needle.decide.order import Starter, best_order, ladder, worst


@dataclass(frozen=True)
class Size:
    """An inverter: W without end, VA for its first moments, and what it rests on."""

    school: str
    continuous_w: float
    surge_va: float
    why: str


def inverter_sizes(starters: Sequence[Starter]) -> list[Size]:
    """*Just enough* and *roomy* sizes for loads that run together; none without loads.

    Just enough: continuous = the running sum, surge = the worst moment in the best order of
    switching on. Roomy: twice the running sum, and 1.5 times the worst start on top of all the
    rest, so that any order will do.
    """
    if not starters:
        return []
    running = sum(starter.running_w for starter in starters)
    worst_rung = worst(ladder(best_order(starters)))
    assert worst_rung is not None
    any_order = max(
        running - starter.running_w + max(starter.start_va, starter.running_w)
        for starter in starters
    )
    return [
        Size(
            "just enough", running, max(running, worst_rung.peak_va),
            "the running sum, and the worst moment when switched on in the best order; test it",
        ),
        Size(
            "roomy", 2 * running, max(2 * running, 1.5 * any_order),
            "twice the running sum, and 1.5 times the worst start on top of all the rest",
        ),
    ]  # fmt: skip
