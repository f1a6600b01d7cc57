"""Switching order with the lowest peak.

With running W r and start-up s of each load, the moment of its start needs s in addition to all
that already runs: (sum of earlier r) + s = (sum of r up to it) + (s - r). Minimising the largest of
these is the maximum lateness of one machine with due dates -(s - r), for which the order of
decreasing s - r is optimal (J. R. Jackson 1955, UCLA Management Sciences Research Project, report
43; by exchanging neighbours). Tests compare it with every order of small sets.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from needle.decide.starting import required_va, start_factor


@dataclass(frozen=True)
class Starter:
    """A load to be switched on: running W (its highest state), start-up VA.

    ``power_factor`` is that of running; None if unknown, then its W are added as they are.
    """

    name: str
    running_w: float
    start_va: float
    start_s: float = 0.3
    power_factor: float | None = None

    @property
    def nonactive_va(self) -> float:
        """Non-active VA while it runs; 0 if its power factor is unknown."""
        if self.power_factor is None:
            return 0.0
        return self.running_w * math.sqrt(1 / self.power_factor**2 - 1)


@dataclass(frozen=True)
class Rung:
    """One switching step: W already running, W and VA once it runs, VA during the start."""

    starter: Starter
    before_w: float
    after_w: float
    after_va: float
    peak_va: float


def best_order(starters: Sequence[Starter]) -> list[Starter]:
    """The order with the lowest peak: by decreasing start-up minus running W."""
    return sorted(
        starters, key=lambda starter: (starter.running_w - starter.start_va, starter.name)
    )


def ladder(starters: Sequence[Starter]) -> list[Rung]:
    """Running sum, and each start on top of it, in the given order.

    VA add as vectors where power factors are known (:func:`needle.decide.starting.required_va`).
    """
    rungs = []
    known_w, nonactive_va, plain_w = 0.0, 0.0, 0.0
    for starter in starters:
        before = known_w + plain_w
        factor = start_factor(starter.power_factor)
        peak = float(required_va(starter.start_va, factor, known_w, nonactive_va, plain_w))
        if starter.power_factor is None:
            plain_w += starter.running_w
        else:
            known_w += starter.running_w
            nonactive_va += starter.nonactive_va
        after_va = math.hypot(known_w, nonactive_va) + plain_w
        rungs.append(Rung(starter, before, known_w + plain_w, after_va, max(after_va, peak)))
    return rungs


def last_peak_va(starters: Sequence[Starter]) -> float:
    """The highest VA of any start with all the others running, that of its running included."""
    known = [starter for starter in starters if starter.power_factor is not None]
    known_w = sum(starter.running_w for starter in known)
    nonactive_va = sum(starter.nonactive_va for starter in known)
    plain_w = sum(starter.running_w for starter in starters if starter.power_factor is None)
    peaks = [math.hypot(known_w, nonactive_va) + plain_w]
    for starter in starters:
        factor = start_factor(starter.power_factor)
        if starter.power_factor is None:
            others = known_w, nonactive_va, plain_w - starter.running_w
        else:
            others = known_w - starter.running_w, nonactive_va - starter.nonactive_va, plain_w
        peaks.append(float(required_va(starter.start_va, factor, *others)))
    return max(peaks)


def worst(rungs: Sequence[Rung]) -> Rung | None:
    """The rung with the highest peak; the first of equals, None if there are none."""
    return max(rungs, key=lambda rung: rung.peak_va, default=None)
