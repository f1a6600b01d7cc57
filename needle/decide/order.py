"""In which order to switch on, so that the worst moment is lowest.

With running W r and start s of each load, the moment of its start asks for s on top of all that
already runs: (sum of earlier r) + s = (sum of r up to it) + (s - r). Minimising the greatest of
these is one machine's maximum lateness with due dates -(s - r), for which taking the greatest
s - r first is optimal (J. R. Jackson 1955, UCLA Management Sciences Research Project, report 43;
by exchanging neighbours). The tests compare it with every order of small sets.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Starter:
    """A load to be switched on: running W (its highest state), VA in its first moments."""

    name: str
    running_w: float
    start_va: float
    start_s: float = 0.3


@dataclass(frozen=True)
class Rung:
    """One switching-on: W already running, W with it running, VA in its first moments."""

    starter: Starter
    before_w: float
    after_w: float
    peak_va: float


def best_order(starters: Sequence[Starter]) -> list[Starter]:
    """The order with the lowest worst moment: greatest start above its own running W first."""
    return sorted(
        starters, key=lambda starter: (starter.running_w - starter.start_va, starter.name)
    )


def ladder(starters: Sequence[Starter]) -> list[Rung]:
    """Running sum and each start on top of it, in the given order."""
    rungs, running = [], 0.0
    for starter in starters:
        after = running + starter.running_w
        rungs.append(Rung(starter, running, after, max(after, running + starter.start_va)))
        running = after
    return rungs


def worst(rungs: Sequence[Rung]) -> Rung | None:
    """The rung with the highest peak; the first of equals, None of none."""
    return max(rungs, key=lambda rung: rung.peak_va, default=None)
