"""The starts of a plan, each at its worst moment, as odds over draws."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from needle.decide.starting import Running, Start, Verdict
from needle.plan.asked import Asked
from needle.plan.patterns import Pattern
from needle.plan.plan import AC
from needle.plan.uncertain import GREY

#: What is dropped in more than this share of the draws does not run in the plan.
MOSTLY = 0.5


@dataclass(frozen=True)
class PlannedStart:
    """A load's start in the plan.

    Attributes
    ----------
    load : str
    start_va : float
        VA, the middle of the draws.
    others_w : float
        W of the others at the worst moment of its use.
    asked_va, running_va : (low, likely, high)
        VA that both ask for then, and once it runs.
    running_w : (low, likely, high)
        W of both once it runs.
    verdict : Verdict
    beside : tuple of str
        Names of the loads in use then, itself among them.
    """

    load: str
    start_va: float
    others_w: float
    asked_va: tuple[float, float, float]
    running_va: tuple[float, float, float]
    running_w: tuple[float, float, float]
    verdict: Verdict
    beside: tuple[str, ...]


def planned_starts(asked: Asked) -> list[PlannedStart]:
    """Each load's start at the moment of its use when the others in use add up to most.

    What the supply drops in most draws runs beside no other: its own start alone is judged.
    """
    inverter = asked.plan.supply.inverter
    if inverter is None:
        return []
    first: dict[str, Pattern] = {}
    for pattern in asked.patterns:
        if pattern.load.route == AC:
            first.setdefault(pattern.load.name, pattern)
    in_use = {name: pattern.shape > 0 for name, pattern in first.items()}
    dropped = {
        pattern.load.name
        for pattern, minute in zip(asked.patterns, asked.tripper.first_drops_min, strict=True)
        if float(np.isfinite(minute).mean()) > MOSTLY
    }
    running = np.zeros(asked.minutes)
    for name, pattern in first.items():
        if name in dropped:
            continue
        running += in_use[name] * (pattern.load.running_w * pattern.load.count)
    starts = []
    for name, pattern in first.items():
        if in_use[name].any():
            worst = int(np.where(in_use[name], running, -1.0).argmax())
            beside = [
                other
                for key, other in first.items()
                if in_use[key][worst] and (key not in dropped or key == name)
            ]
            starts.append(_start(asked, pattern, beside))
    return starts


def _start(asked: Asked, pattern: Pattern, beside: list[Pattern]) -> PlannedStart:
    """One start beside what runs; ``beside`` holds the load itself, of which one less runs."""
    load, inverter = pattern.load, asked.plan.supply.inverter
    assert inverter is not None and pattern.start_va is not None
    others = Running.nothing(asked.inputs.draws)
    for other in beside:
        count = other.load.count - (other is pattern)
        known = other.load.power_factor_known
        others = others.with_load(_running_w(other) * count, known, other.nonactive)
    start = Start(
        va=pattern.start_va,
        running_w=_running_w(pattern),
        grey=asked.inputs.uniform(GREY, load.name),
        start_s=load.start_s,
        power_factor=load.power_factor if load.power_factor_known else None,
        nonactive=pattern.nonactive,
        volts=load.volts,
    ).beside(others)
    after = start.after
    asked_va, running_va, running_w = _spans(start.asks_va, after.va, after.all_w)
    return PlannedStart(
        load=load.name,
        start_va=load.start_va,
        others_w=others.usual_w,
        asked_va=asked_va,
        running_va=running_va,
        running_w=running_w,
        verdict=start.verdict(inverter, load.tried),
        beside=tuple(other.load.name for other in beside),
    )


def _spans(*values: np.ndarray) -> list[tuple[float, float, float]]:
    """10th, 50th and 90th percentile of each, over draws; found at one go."""
    spans = np.quantile(np.stack(values), [0.1, 0.5, 0.9], axis=1).T
    return [(float(low), float(middle), float(high)) for low, middle, high in spans]


def _running_w(pattern: Pattern) -> np.ndarray:
    """W of a load while it is on, in each draw."""
    if pattern.peak_factor is not None:
        return pattern.load.running_w * pattern.peak_factor
    return np.asarray(pattern.rest_w + pattern.extra_w)
