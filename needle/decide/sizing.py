"""Inverter size of a job, by two methods."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from needle.decide.order import Starter, best_order, ladder, last_peak_va, worst


@dataclass(frozen=True)
class Size:
    """An inverter size: continuous W and VA, surge VA, and the reason."""

    school: str
    continuous_w: float
    continuous_va: float
    surge_va: float
    why: str


def inverter_sizes(starters: Sequence[Starter], running_va: float | None = None) -> list[Size]:
    """Return *just enough* and *roomy* sizes for loads that run together; empty without loads.

    Just enough: continuous = the running sum, surge = the peak in the best switching order. Roomy:
    twice the running sum, and 1.5 times the worst start on top of all the rest, so that any order
    works. VA are added as vectors if power factors are known.

    Parameters
    ----------
    starters : sequence of Starter
    running_va : float, optional
        VA of everything that runs, if known better than the sum of the starters' medians.
    """
    if not starters:
        return []
    rungs = ladder(best_order(starters))
    worst_rung, running_w = worst(rungs), rungs[-1].after_w
    assert worst_rung is not None
    if running_va is None:
        running_va = rungs[-1].after_va
    any_order = last_peak_va(starters)
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
