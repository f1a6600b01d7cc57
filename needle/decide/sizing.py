"""How large an inverter a job needs, by both schools."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from needle.decide.order import Starter, best_order, ladder, worst


@dataclass(frozen=True)
class Size:
    """An inverter: W and VA without end, VA for its first moments, and what it rests on."""

    school: str
    continuous_w: float
    continuous_va: float
    surge_va: float
    why: str


def inverter_sizes(starters: Sequence[Starter], running_va: float | None = None) -> list[Size]:
    """*Just enough* and *roomy* sizes for loads that run together; none without loads.

    Just enough: continuous = the running sum, surge = the worst moment in the best order of
    switching on. Roomy: twice the running sum, and 1.5 times the worst start on top of all the
    rest, so that any order will do. VA add as vectors where power factors are known.

    Parameters
    ----------
    starters : sequence of Starter
    running_va : float, optional
        VA of all that runs, where it is known better than by adding the starters' middles.
    """
    if not starters:
        return []
    rungs = ladder(best_order(starters))
    worst_rung, running_w = worst(rungs), rungs[-1].after_w
    assert worst_rung is not None
    if running_va is None:
        running_va = rungs[-1].after_va
    any_order = max(
        ladder([*(other for other in starters if other is not starter), starter])[-1].peak_va
        for starter in starters
    )
    return [
        Size(
            "just enough",
            running_w,
            running_va,
            max(running_va, worst_rung.peak_va),
            "the running sum, and the worst moment when switched on in the best order; test it",
        ),
        Size(
            "roomy",
            2 * running_w,
            2 * running_va,
            max(2 * running_va, 1.5 * any_order),
            "twice the running sum, and 1.5 times the worst start on top of all the rest",
        ),
    ]
