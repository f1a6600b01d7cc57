"""The starts of a plan, each at its worst moment, as a chance over draws."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from needle.decide.start_draws import Running, Start, StartBeside
from needle.decide.starting import Verdict
from needle.percentiles import ranges_of
from needle.plan.draws.inputs import GREY, USES, Inputs
from needle.plan.draws.patterns import Pattern
from needle.plan.limits.trips import MOSTLY, TripSimulator
from needle.plan.load import AC, PlanLoad

#: Number of the stream that says what is on beside a start.
AT_A_START = 99


@dataclass(frozen=True)
class PlannedStart:
    """A load's start in the plan.

    Attributes
    ----------
    load : str
    start_va : float
        Start-up VA, median of the draws.
    others_w : float
        Power of the other loads at the worst moment of its use, W.
    required_va, running_va : (low, likely, high)
        VA of all loads together during the start, and once it runs.
    running_w : (low, likely, high)
        Power of all loads together once it runs, W.
    verdict : Verdict
    beside : tuple of str
        Names of the loads in use at that moment, including itself.
    """

    load: str
    start_va: float
    others_w: float
    required_va: tuple[float, float, float]
    running_va: tuple[float, float, float]
    running_w: tuple[float, float, float]
    verdict: Verdict
    beside: tuple[str, ...]


def planned_starts(trips: TripSimulator, minutes: int) -> list[PlannedStart]:
    """Return each load's start at the moment of its use when the other loads add up to most.

    A load that the supply drops in most draws is not counted at other loads' starts.
    """
    inverter = trips.plan.supply.inverter
    if inverter is None:
        return []
    first: dict[str, Pattern] = {}
    for pattern in trips.patterns:
        if pattern.load.route == AC:
            first.setdefault(pattern.load.name, pattern)
    in_use = {name: pattern.shape > 0 for name, pattern in first.items()}
    dropped = _mostly_dropped(trips)
    running = np.zeros(minutes)
    for name, pattern in first.items():
        if name not in dropped:
            running += in_use[name] * _counted_w(pattern.load)
    starts = []
    for name, pattern in first.items():
        if in_use[name].any():
            worst = int(np.where(in_use[name], running, -1.0).argmax())
            beside = [
                other
                for key, other in first.items()
                if in_use[key][worst] and (key not in dropped or key == name)
            ]
            starts.append((pattern, beside, _start(trips, pattern, beside)))
    required_va = _spans([start.required_va for _, _, start in starts])
    running_va = _spans([start.after.va for _, _, start in starts])
    running_w = _spans([start.after.all_w for _, _, start in starts])
    return [
        PlannedStart(
            load=pattern.load.name,
            start_va=pattern.load.draw.start_va,
            others_w=start.others.usual_w,
            required_va=required_va[number],
            running_va=running_va[number],
            running_w=running_w[number],
            verdict=start.verdict(inverter, pattern.load.tried),
            beside=tuple(other.load.name for other in beside),
        )
        for number, (pattern, beside, start) in enumerate(starts)
    ]


def _mostly_dropped(trips: TripSimulator) -> set[str]:
    """Names of loads that are dropped in most draws."""
    return {
        pattern.load.name
        for pattern, minute in zip(trips.patterns, trips.first_drops_min, strict=True)
        if float(np.isfinite(minute).mean()) > MOSTLY
    }


def _start(trips: TripSimulator, pattern: Pattern, beside: list[Pattern]) -> StartBeside:
    """One start together with the loads in use; ``beside`` includes the load itself."""
    load = pattern.load
    assert pattern.start_va is not None
    others = Running.nothing(trips.inputs.draws)
    for other in beside:
        count = other.load.count - (other is pattern)
        known = other.load.draw.power_factor_known
        watts = _running_w(other) * count
        if other is not pattern and other.load.use.uses_per_day is not None:
            watts = watts * _is_on(trips.inputs, other)
        others = others.with_load(watts, known, other.nonactive)
    return Start(
        va=pattern.start_va,
        running_w=_running_w(pattern),
        grey=trips.inputs.uniform(GREY, load.name),
        start_s=load.draw.start_s,
        power_factor=load.draw.power_factor if load.draw.power_factor_known else None,
        nonactive=pattern.nonactive,
        volts=load.draw.volts,
    ).beside(others)


def _counted_w(load: PlanLoad) -> float:
    """W that count where loads add up to most; what runs by uses is seldom on."""
    share = load.draw.duty if load.use.uses_per_day is not None else 1.0
    return load.draw.running_w * load.count * share


def _is_on(inputs: Inputs, pattern: Pattern) -> np.ndarray:
    """Whether a load that runs by uses is on at a moment, in each draw."""
    ranks = inputs.stream(USES, pattern.load.name, AT_A_START).random(inputs.draws)
    return ranks < pattern.load.draw.duty


def _spans(values: list[np.ndarray]) -> list[tuple[float, float, float]]:
    """10th, 50th and 90th percentile of each array over draws, computed together."""
    if not values:
        return []
    spans = ranges_of(np.stack(values)).T
    return [(float(low), float(middle), float(high)) for low, middle, high in spans]


def _running_w(pattern: Pattern) -> np.ndarray:
    """Power of a load while it is on, W, (draws,)."""
    if pattern.peak_factor is not None:
        return pattern.load.draw.running_w * pattern.peak_factor
    return np.asarray(pattern.rest_w + pattern.extra_w)
