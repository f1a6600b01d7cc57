"""The true answer of a drill, which the learner sees afterwards."""

from __future__ import annotations

from datetime import UTC, datetime
from functools import lru_cache

import numpy as np

from needle.decide.power_factor import correct
from needle.drill.drill import (
    CAPACITOR,
    DAY,
    DIFFERENCE,
    HOURS,
    START,
    TASKS,
    Drill,
    DrillLoad,
    DrillSupply,
)
from needle.electrical import MAINS_HZ, MAINS_V
from needle.moments import DAY_MIN, in_windows, parse_windows
from needle.standin.appliances import timeline
from needle.standin.timeline import Timeline

#: Seconds between the points of a drill's course; days over which a mean is true.
_STEP_S, DAYS = 30.0, 7.0
DAY_S = 86_400.0


def line_of(drill: Drill, load: DrillLoad) -> Timeline:
    """Power profile of a load."""
    return timeline(load.standin, drill.load_seed(load.name))


def day_wh(drill: Drill, load: DrillLoad) -> float:
    """True Wh per day, mean over a week."""
    return line_of(drill, load).mean_w(0.0, DAYS * DAY_S) * 24


def running_w(drill: Drill, load: DrillLoad) -> float:
    """True power of the running state, W: half of its energy is drawn at more, half at less."""
    return _running(load.standin, drill.load_seed(load.name))[0]


@lru_cache(maxsize=64)
def _running(standin: str, seed: int) -> tuple[float, float]:
    """W and VA at the median of its energy."""
    sample = timeline(standin, seed).sample(np.arange(0.0, 2 * DAY_S, 10.0))
    order = np.argsort(sample.watts)
    drawn = np.cumsum(sample.watts[order])
    middle = order[int(np.searchsorted(drawn, drawn[-1] / 2))]
    return float(sample.watts[middle]), float(sample.va[middle])


def capacitor_uf(drill: Drill, load: DrillLoad) -> float:
    """True µF that raise its power factor to the usual target while it runs."""
    watts, va = _running(load.standin, drill.load_seed(load.name))
    return correct(watts, max(watts, va), MAINS_V, MAINS_HZ).to_target_uf


def label_w(drill: Drill, load: DrillLoad) -> float:
    """Label of a load, whole W."""
    return float(round(running_w(drill, load) * load.label_factor))


def start_va(drill: Drill, load: DrillLoad) -> float:
    """Mean start, as the highest 100 ms RMS VA that a clamp in inrush mode would show."""
    line = line_of(drill, load)
    peaks = []
    for at in line.starts_s()[:12]:
        sample = line.sample(at + np.arange(60) * 0.01)
        squares = np.convolve(sample.va**2, np.ones(10) / 10, "valid")
        peaks.append(float(np.sqrt(squares.max())))
    return float(np.mean(peaks)) if peaks else running_w(drill, load)


def usable_wh(supply: DrillSupply) -> float:
    """True Wh from full to the floor."""
    return supply.nominal_wh * supply.holds * (1 - supply.floor)


def supply_hours(drill: Drill) -> float:
    """True hours from full to the floor, from the end of the measuring time."""
    supply = drill.supply
    assert supply is not None
    times = drill.second(drill.minutes) + np.arange(0.0, DAYS * DAY_S, _STEP_S)
    watts = np.zeros(len(times))
    for load in drill.loads:
        watts += line_of(drill, load).sample(times).watts * _in_use(load, times)
    gone = np.cumsum(supply.idle_w + watts / supply.efficiency) * _STEP_S / 3600
    return float(np.searchsorted(gone, usable_wh(supply))) * _STEP_S / 3600


def _in_use(load: DrillLoad, times_s: np.ndarray) -> np.ndarray:
    """Whether the client uses it at each moment."""
    if not load.between:
        return np.ones(len(times_s), dtype=bool)
    windows = parse_windows(list(load.between), "between", UTC)
    day = in_windows(windows, datetime(2027, 1, 1, tzinfo=UTC), DAY_MIN)
    return np.asarray(day[(times_s // 60).astype(int) % DAY_MIN])


def task_wh(drill: Drill, load: DrillLoad) -> float:
    """True Wh of a task, mean over its whole profile."""
    line = line_of(drill, load)
    return line.mean_w() * line.horizon_s / 3600 / max(1, len(line.runs_s()))


def tasks(drill: Drill) -> float:
    """How often the supply runs the first load's task in the given hours, with the inverter on."""
    supply = drill.supply
    assert supply is not None
    left = usable_wh(supply) - supply.idle_w * drill.within_h
    return max(0.0, left * supply.efficiency / task_wh(drill, drill.loads[0]))


def truth_of(drill: Drill) -> float:
    """The answer to the question, in its unit."""
    first = drill.loads[0]
    if drill.ask == DAY:
        return day_wh(drill, first)
    if drill.ask == START:
        return start_va(drill, first)
    if drill.ask == CAPACITOR:
        return capacitor_uf(drill, first)
    if drill.ask == TASKS:
        return tasks(drill)
    if drill.ask == DIFFERENCE:
        return day_wh(drill, first) - day_wh(drill, drill.loads[1])
    assert drill.ask == HOURS
    return supply_hours(drill)
