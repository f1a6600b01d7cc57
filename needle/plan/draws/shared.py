"""What the loads of several plans have in common, drawn and computed once."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from needle.plan.draws.inputs import InputKey, Inputs
from needle.plan.draws.patterns import Pattern, patterns_of
from needle.plan.load import PlanLoad
from needle.plan.plan import Plan


@dataclass(frozen=True)
class _Drawn:
    """Patterns of a load, and the random draws of its own that they come from."""

    normals: dict[InputKey, np.ndarray]
    patterns: list[Pattern]


class SharedPatterns:
    """Patterns of plans that differ in some of their loads, as a plan and its changes do.

    A load that is the same in several plans has one pattern in all of them, whose power is
    computed once for each block. The plans keep their patterns for as long as this is used.
    """

    def __init__(self) -> None:
        self.drawn: dict[tuple[Plan, int], dict[PlanLoad, _Drawn]] = {}
        self.block = -1, -1
        self.powers: dict[int, np.ndarray] = {}

    def patterns(self, plan: Plan, minutes: int, inputs: Inputs) -> list[Pattern]:
        """Patterns of a plan's loads, as of :func:`needle.plan.draws.patterns.patterns_of`."""
        known = self.drawn.setdefault((replace(plan, loads=()), minutes), {})
        by_name: dict[str, dict[InputKey, np.ndarray]] = {}
        for key, values in inputs.normals.items():
            by_name.setdefault(key.name, {})[key] = values
        several = []
        for load in plan.loads:
            normals = by_name.get(load.name, {})
            if load not in known or not _are_equal(known[load].normals, normals):
                known[load] = _Drawn(normals, patterns_of(load, plan, minutes, inputs))
            several += known[load].patterns
        return several

    def power(self, pattern: Pattern, first: int, last: int) -> np.ndarray:
        """As :meth:`Pattern.power`: an array of the caller's own."""
        if self.block != (first, last):
            self.block, self.powers = (first, last), {}
        if id(pattern) not in self.powers:
            self.powers[id(pattern)] = pattern.power(first, last)
        return self.powers[id(pattern)].copy()


def _are_equal(some: dict[InputKey, np.ndarray], others: dict[InputKey, np.ndarray]) -> bool:
    return some.keys() == others.keys() and all(
        np.array_equal(values, others[key]) for key, values in some.items()
    )
