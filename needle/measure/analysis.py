"""Analysis of a capture: pattern, states, cycles with duty, starts, energy, power factor."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np

from needle.document import DocumentError
from needle.estimate import DEFAULT_SPREAD, Estimate
from needle.measure.capture import WATTS_LOGGED, Capture
from needle.measure.cycles import cycle_spread
from needle.measure.levels import STEADY_SHARE, Levels, Segments, Series, find_levels, series_of
from needle.measure.programme import programme_of
from needle.measure.readings import ProgrammeStep
from needle.message import Message, message

#: Time after a start's edge in which its peak is sought, s.
PEAK_WITHIN_S = 5.0
#: Cycling repeats itself for at least this share of its active time.
_REGULAR = 0.6
DAY_S = 86_400
_LEAST_ROWS = 3
#: Least share of the energy above rest in the main cycle's level.
_HEAVY = 0.2
#: Rarer states may carry this share of it; beyond, the states are steps of a program.
_RARE_ENERGY = 0.5
#: A block whose main level takes this share of it is one cycle, not a program.
_BLOCK = 0.7
#: A low level above this share of the main one is no rest.
_NO_REST = 0.4
#: Ratio to the median period beyond which cycles are bursts with pauses between them.
_BURSTS = 5.0
#: Longest task whose steps are found, s.
MOST_PROGRAMME_S = 6 * 3600.0


@dataclass(frozen=True)
class StartEvent:
    """A start: time of its edge in s, highest sample within 5 s in W, and seconds until stable."""

    time_s: float
    peak_w: float
    settle_s: float


@dataclass(frozen=True)
class StateFound:
    """A level: name, median W, share of covered time, seconds, Wh."""

    name: str
    watts: float
    share: float
    seconds: float
    wh: float


@dataclass(frozen=True)
class Analysis:
    """The analysis of a capture; None for figures that do not apply to its pattern.

    Attributes
    ----------
    samples, gaps, cycles, starts : int
        Rows used, gaps, complete on-periods, and starts.
    duration_s, covered_s : float
        First to last row, s; and without gaps, s.
    energy_wh, mean_w : float
        Energy and mean power over covered time.
    pattern : str
        ``"steady"``, ``"cycling"``, ``"modulating"`` or ``"program"``.
    idle_w, running_w, start_peak_w : float or None
        Resting, running and peak power of the main cycle, W.
    cycle_mean_w : float or None
        Mean W over complete cycles.
    duty : Estimate or None
        Duty over complete cycles.
    period_s : float or None
        Mean length of a complete cycle, s.
    whole_cycles : int
        Cycles from one start to the next without a gap or a rare state.
    power_factor : float or None
        Energy-weighted power factor.
    states : tuple of StateFound
    rarer : bool
        Whether there are levels besides the main cycle's two (a defrost).
    active_s : float
        Time from the first to the last change from or to rest, s; all if it never rests.
    high_w : float
        95th percentile of the power, W.
    days : int
        Complete days from the first row on.
    day_spread : float or None
        Relative sd of the days' means; None for fewer than two.
    segments : Segments
    steps : tuple of ProgrammeStep
        Steps of the task, where it has a programme; else empty.
    start_events : tuple of StartEvent
    notices : tuple of Message
    """

    samples: int
    duration_s: float
    covered_s: float
    gaps: int
    energy_wh: float
    mean_w: float
    pattern: str
    idle_w: float | None
    running_w: float | None
    cycle_mean_w: float | None
    duty: Estimate | None
    period_s: float | None
    cycles: int
    whole_cycles: int
    starts: int
    start_peak_w: float | None
    power_factor: float | None
    states: tuple[StateFound, ...]
    rarer: bool
    active_s: float
    high_w: float
    days: int
    day_spread: float | None
    segments: Segments
    steps: tuple[ProgrammeStep, ...]
    start_events: tuple[StartEvent, ...]
    notices: tuple[Message, ...]


@dataclass(frozen=True)
class Corrections:
    """Corrections by a person.

    Attributes
    ----------
    bounds_w : tuple of float
        Boundaries between levels, W; empty to find them.
    names : tuple of str
        Names of the levels, lowest first; "running" marks the main one, empty names change nothing.
    """

    bounds_w: tuple[float, ...] = ()
    names: tuple[str, ...] = ()


def analyse(
    capture: Capture, volts: float | None = None, corrections: Corrections | None = None
) -> Analysis:
    """Return the analysis of a capture.

    Parameters
    ----------
    capture : Capture
    volts : float or None
        Used if only amps were recorded.
    corrections : Corrections or None
        Boundaries and names that replace those found.

    Raises
    ------
    DocumentError
        There are fewer than three rows with power.
    """
    watts, how = capture.watts(volts)
    if int(np.isfinite(watts).sum()) < _LEAST_ROWS:
        raise DocumentError("file", "has fewer than three rows with power")
    series = series_of(capture.time_s, watts)
    known = corrections or Corrections()
    levels = find_levels(series, known.bounds_w)
    notices = list(capture.notices)
    if how.code != WATTS_LOGGED:
        notices.append(message("power-is", how=how))
    if gaps := int(series.gap_after.sum()):
        missing = series.time_s[-1] - series.time_s[0] - series.covered_s
        notices.append(message("gaps", gaps=gaps, seconds=float(missing)))
    shape = _named(_shape(levels, series), levels, known)
    main = _main_cycle(levels, series, shape, notices)
    energy = series.energy_wh()
    covered = series.covered_s
    days = _day_means(series)
    return Analysis(
        samples=len(series.watts),
        duration_s=float(series.time_s[-1] - series.time_s[0]),
        covered_s=covered,
        gaps=gaps,
        energy_wh=energy,
        mean_w=energy * 3600 / covered if covered else float(np.mean(series.watts)),
        pattern=shape.pattern,
        power_factor=_power_factor(capture, volts, energy),
        states=_renamed(_states(levels, shape, series), known.names),
        rarer=shape.main is not None and shape.pattern == "cycling" and len(levels.watts) > 2,
        active_s=_active_s(levels.segments, shape, series),
        high_w=max(0.0, float(np.quantile(series.watts, 0.95))),
        days=len(days),
        day_spread=_scatter(days),
        segments=levels.segments,
        steps=_programme(levels, shape, series, main["whole_cycles"]),
        notices=tuple(notices),
        **main,
    )


def _day_means(series: Series) -> np.ndarray:
    """Mean W of each day from the first row on that is at least nine tenths covered."""
    begins = np.arange(series.time_s[0], series.time_s[-1], DAY_S)
    # A day without a row begins with the row of the next one: it is no day of its own.
    first = np.unique(np.searchsorted(series.time_s, begins))
    seconds = np.add.reduceat(series.weight_s, first)
    joules = np.add.reduceat(series.weight_s * series.watts, first)
    whole = seconds > 0.9 * DAY_S
    return joules[whole] / seconds[whole]


def _scatter(means: np.ndarray) -> float | None:
    if len(means) < 2 or float(means.mean()) <= 0:
        return None
    return float(means.std(ddof=1) / means.mean())


@dataclass(frozen=True)
class _Shape:
    """The pattern, and which levels are resting and running (None if there is none)."""

    pattern: str
    rest: int | None
    main: int | None


def _shape(levels: Levels, series: Series) -> _Shape:
    if len(levels.watts) < 2:
        low, high = np.quantile(series.watts, [0.02, 0.98])
        wide = high - low > max(2.5 * STEADY_SHARE * max(high, 1e-9), 8 * series.noise_w)
        return _Shape("modulating" if wide or not levels.holds else "steady", None, None)
    if not levels.holds:
        return _Shape("modulating", None, None)
    segments = levels.segments
    runs = np.bincount(segments.label, minlength=len(levels.watts))
    above = np.arange(1, len(levels.watts))
    energy = levels.watts * levels.seconds
    heavy = [index for index in above if energy[index] >= _HEAVY * energy[above].sum()]
    main = int(max(heavy, key=lambda level: (runs[level], levels.seconds[level])))
    starts = segments.start_s[segments.label == main]
    ends = segments.end_s[segments.label == main]
    if len(starts) < 2:
        # One block: a cycle, unless it goes through several levels of weight.
        if levels.watts[0] > _NO_REST * levels.watts[main]:
            return _Shape("modulating", None, None)
        several = levels.seconds[main] < _BLOCK * levels.seconds[1:].sum()
        return _Shape("program" if several else "cycling", 0, main)
    periods = np.diff(starts)
    usual = _weighted_median(periods)
    others = energy[above].sum() - energy[main]
    if others > _RARE_ENERGY * energy[above].sum():
        return _Shape("program", 0, main)
    if len(heavy) == 1 and levels.seconds[main] >= _BLOCK * levels.seconds[1:].sum():
        # On and off at one level: a cycle, however irregular, as of what people or water use.
        return _Shape("cycling", 0, main)
    if usual > _BURSTS * float(np.median(periods)):
        return _Shape("program", 0, main)
    regular = periods[(periods > usual / 2) & (periods < usual * 2)].sum() + (ends - starts)[-1]
    active = segments.end_s[segments.label > 0][-1] - segments.start_s[segments.label > 0][0]
    return _Shape("cycling" if regular >= _REGULAR * active else "program", 0, main)


def _named(shape: _Shape, levels: Levels, known: Corrections) -> _Shape:
    """The shape with the level that a person called running as the main one."""
    names = [name.strip().casefold() for name in known.names[: len(levels.watts)]]
    if shape.main is None or "running" not in names[1:]:
        return shape
    return _Shape(shape.pattern, shape.rest, names.index("running"))


def _renamed(states: tuple[StateFound, ...], names: Sequence[str]) -> tuple[StateFound, ...]:
    given = [*names, *("" for _ in states)]
    return tuple(
        replace(state, name=name.strip()[:40] or state.name)
        for state, name in zip(states, given, strict=False)
    )


def _weighted_median(values: np.ndarray) -> float:
    """Weighted median: the value at half of the total."""
    order = np.sort(values)
    return float(order[np.searchsorted(np.cumsum(order), order.sum() / 2)])


def _main_cycle(
    levels: Levels, series: Series, shape: _Shape, notices: list[Message]
) -> dict[str, Any]:
    """Resting and running W, duty, cycles and starts of the main cycle."""
    none: dict[str, Any] = {
        "idle_w": None,
        "running_w": None,
        "cycle_mean_w": None,
        "duty": None,
        "period_s": None,
        "cycles": 0,
        "whole_cycles": 0,
        "starts": 0,
        "start_peak_w": None,
        "start_events": (),
    }
    if shape.pattern in ("steady", "modulating"):
        mean = series.energy_wh() * 3600 / series.covered_s
        return {
            **none,
            "running_w": mean,
            "duty": Estimate(1.0, 0.0, "A", (message("never-rests"),), 1.0),
        }
    assert shape.main is not None
    segments = levels.segments
    events = _starts(segments, series, shape)
    cycle = {
        **none,
        "idle_w": float(levels.watts[0]),
        "starts": len(events),
        "start_events": events,
        "start_peak_w": float(np.median([event.peak_w for event in events])) if events else None,
    }
    if shape.pattern == "program":
        return cycle
    cycle["running_w"] = float(levels.watts[shape.main])
    cycle["cycles"] = _inside(segments, shape.main)
    return cycle | _duty(segments, shape.main, series, notices, cycle["cycles"])


def _programme(
    levels: Levels, shape: _Shape, series: Series, whole_cycles: int
) -> tuple[ProgrammeStep, ...]:
    """Steps of a task: a programme, or one block of what does not cycle."""
    block = shape.pattern in ("cycling", "modulating") and whole_cycles == 0
    if shape.pattern != "program" and not block:
        return ()
    first_s, last_s = _active(levels.segments, shape, series)
    if last_s - first_s > MOST_PROGRAMME_S:
        return ()
    return programme_of(series, first_s, last_s)


def _inside(segments: Segments, main: int) -> int:
    """On-periods that begin and end inside the capture."""
    mine = segments.label == main
    begins = segments.joined
    ends = np.append(segments.joined[1:], False)
    return int((mine & begins & ends).sum())


def _duty(
    segments: Segments, main: int, series: Series, notices: list[Message], cycles: int
) -> dict[str, Any]:
    """Duty over complete cycles: from one start to the next, without gaps or rare states.

    Ratio estimator with its standard error (W. G. Cochran, "Sampling Techniques", eq. 2.46), the
    scatter is pooled with a prior.
    """
    label, seconds = segments.label, segments.seconds
    rest_before = np.concatenate(([False], label[:-1] == 0))
    starts = np.flatnonzero((label == main) & segments.joined & rest_before)
    on_time = np.concatenate(([0.0], np.cumsum(np.where(label == main, seconds, 0.0))))
    rare = np.concatenate(([0], np.cumsum((label != main) & (label != 0))))
    gaps = np.concatenate(([0], np.cumsum(~segments.joined)))
    first, last = starts[:-1], starts[1:]
    whole = (rare[last] == rare[first]) & (gaps[last + 1] == gaps[first + 1])
    on = (on_time[last] - on_time[first])[whole]
    period = (segments.start_s[last] - segments.start_s[first])[whole]
    if len(first) > whole.sum():
        left = len(first) - int(whole.sum())
        notices.append(message("cycles-interrupted", cycles=left))
    if not len(period):
        if not cycles:
            return {}
        share = float(on_time[-1]) / series.covered_s
        how = (message("one-block"),)
        return {"duty": Estimate(min(1.0, share), DEFAULT_SPREAD["D"], "D", how, 1.0)}
    count, duty = len(period), float(on.sum() / period.sum())
    deviations = (on - duty * period) / (duty * float(period.mean()))
    edges = series.interval_s / math.sqrt(6) * math.sqrt(count) / float(on.sum())
    spread = math.hypot(cycle_spread(deviations.tolist()), edges)
    grade = "A" if count >= 6 else "B"
    how = (message("cycles-recorded", cycles=count),)
    wh = np.concatenate(([0.0], np.cumsum(segments.watts * seconds))) / 3600
    return {
        "cycle_mean_w": float((wh[last] - wh[first])[whole].sum() * 3600 / period.sum()),
        "duty": Estimate(duty, spread, grade, how, 1.0),
        "period_s": float(period.mean()),
        "whole_cycles": count,
    }


def _starts(segments: Segments, series: Series, shape: _Shape) -> tuple[StartEvent, ...]:
    """Starts from rest; loops over starts, not samples."""
    label = segments.label
    wanted = label > 0 if shape.pattern == "program" else label == shape.main
    rest_first = np.concatenate(([False], label[:-1] == 0))
    if not (wanted & rest_first).any():  # a block that begins on another level than its main one
        wanted = label > 0
    from_rest = rest_first & segments.joined
    starts = []
    for index in np.flatnonzero(wanted & from_rest):
        edge = float(segments.start_s[index])
        # The edge lies between two rows; a spike may sit on the row before the level is reached.
        first = max(0, int(segments.first[index]) - 1)
        stop = int(np.searchsorted(series.time_s, edge + PEAK_WITHIN_S, side="right"))
        stop = max(stop, int(segments.first[index]) + 1)
        peak = float(series.watts[first:stop].max())
        starts.append(StartEvent(edge, peak, _settling(series, segments, int(index), edge)))
    return tuple(starts)


def _settling(series: Series, segments: Segments, run: int, edge: float) -> float:
    """Seconds from the edge until the power stays within 5 % of the run's stable power."""
    first, last = int(segments.first[run]), int(segments.last[run])
    power = series.watts[first : last + 1]
    level = float(np.median(power[len(power) // 2 :]))
    before_end = power[: max(1, (4 * len(power)) // 5)]
    early = np.flatnonzero(np.abs(before_end - level) > max(0.05 * level, 3 * series.noise_w))
    if not early.size:
        return 0.0
    return float(max(0.0, series.time_s[first + int(early[-1])] - edge))


def _states(levels: Levels, shape: _Shape, series: Series) -> tuple[StateFound, ...]:
    total = levels.seconds.sum() or 1.0
    wh = np.bincount(
        levels.segments.label,
        weights=levels.segments.watts * levels.segments.seconds / 3600,
        minlength=len(levels.watts),
    )
    return tuple(
        StateFound(
            _name(index, levels, shape),
            float(levels.watts[index]),
            float(levels.seconds[index] / total),
            float(levels.seconds[index]),
            float(wh[index]),
        )
        for index in range(len(levels.watts))
    )


def _active(segments: Segments, shape: _Shape, series: Series) -> tuple[float, float]:
    """Moments between which it ran, s: all of the capture if it never rests."""
    awake = np.flatnonzero(segments.label > 0)
    if shape.rest is None or not awake.size:
        return float(series.time_s[0]), float(series.time_s[-1]) + series.interval_s
    return float(segments.start_s[awake[0]]), float(segments.end_s[awake[-1]])


def _active_s(segments: Segments, shape: _Shape, series: Series) -> float:
    if shape.rest is None or not (segments.label > 0).any():
        return series.covered_s
    first_s, last_s = _active(segments, shape, series)
    return last_s - first_s


def _name(index: int, levels: Levels, shape: _Shape) -> str:
    if shape.rest is None:
        return "running" if len(levels.watts) == 1 else f"level {index + 1}"
    if index == shape.rest:
        return "resting"
    if shape.pattern == "program":
        return f"step {index}"
    if index == shape.main:
        return "running"
    assert shape.main is not None
    return _rare_name(index, shape.main, len(levels.watts))


def _rare_name(index: int, main: int, count: int) -> str:
    """Name of a level besides rest and running, numbered if there are several on its side."""
    if index > main:
        number, alike, side = index - main, count - 1 - main, "above"
    else:
        number, alike, side = index, main - 1, "below"
    return f"rarer, {side} running{f' {number}' if alike > 1 else ''}"


def _power_factor(capture: Capture, volts: float | None, energy_wh: float) -> float | None:
    """Energy over volt-ampere-hours, both over rows with both."""
    va, _ = capture.volt_amperes(volts)
    watts = capture.columns.get("watts")
    if va is None or watts is None:
        factor = capture.columns.get("pf")
        if factor is None or watts is None:
            return None
        with np.errstate(divide="ignore", invalid="ignore"):
            va = np.where(factor > 0.01, watts / factor, np.nan)
    both = np.isfinite(va) & np.isfinite(watts) & (watts > 0)
    total = float(va[both].sum())
    return min(1.0, float(watts[both].sum()) / total) if total > 0 and energy_wh > 0 else None


def as_document(analysis: Analysis) -> dict[str, Any]:
    """Return the analysis as ``needle analyse`` prints it."""
    segments = analysis.segments
    return {
        "samples": analysis.samples,
        "duration_s": analysis.duration_s,
        "covered_s": analysis.covered_s,
        "gaps": analysis.gaps,
        "energy_wh": analysis.energy_wh,
        "mean_w": analysis.mean_w,
        "pattern": analysis.pattern,
        "idle_w": analysis.idle_w,
        "running_w": analysis.running_w,
        "duty": None if analysis.duty is None else analysis.duty.as_range(),
        "cycles": analysis.cycles,
        "starts": analysis.starts,
        "start_peak_w": analysis.start_peak_w,
        "power_factor": analysis.power_factor,
        "states": [
            {
                "name": state.name,
                "watts": state.watts,
                "share": state.share,
                "seconds": state.seconds,
                "wh": state.wh,
            }
            for state in analysis.states
        ],
        "segments": [
            {"start_s": float(a), "end_s": float(b), "watts": float(w)}
            for a, b, w in zip(segments.start_s, segments.end_s, segments.watts, strict=True)
        ],
        "start_events": [
            {"time_s": start.time_s, "peak_w": start.peak_w, "settle_s": start.settle_s}
            for start in analysis.start_events
        ],
        "notices": list(analysis.notices),
    }


def _uses(segments: Segments) -> int:
    """How often the power left rest within the capture."""
    rest_before = np.concatenate(([False], segments.label[:-1] == 0))
    return int(((segments.label > 0) & segments.joined & rest_before).sum())


def _not_negative(watts: float | None) -> float | None:
    return None if watts is None else max(0.0, watts)


def as_reading(analysis: Analysis, interval_s: float) -> dict[str, Any]:
    """Return the analysis as a reading document."""
    duty = analysis.duty if analysis.pattern == "cycling" else None
    summary = {
        "type": "capture",
        "pattern": analysis.pattern,
        "covered_h": analysis.covered_s / 3600,
        "active_h": analysis.active_s / 3600,
        "wh": max(0.0, analysis.energy_wh),
        "idle_w": _not_negative(analysis.idle_w),
        "running_w": _not_negative(analysis.running_w),
        "cycle_mean_w": _not_negative(analysis.cycle_mean_w),
        **({} if duty is None else {"duty": duty.value, "duty_spread": duty.spread}),
        "whole_cycles": analysis.whole_cycles,
        "period_min": None if analysis.period_s is None else analysis.period_s / 60,
        "start_peak_w": analysis.start_peak_w,
        "power_factor": analysis.power_factor,
        "rarer": analysis.rarer,
        "interval_s": interval_s,
        "high_w": analysis.high_w,
        "uses": _uses(analysis.segments) if analysis.pattern in ("cycling", "program") else None,
        "days": analysis.days or None,
        "day_spread": analysis.day_spread,
        "steps": [asdict(step) for step in analysis.steps] or None,
    }
    return {key: value for key, value in summary.items() if value is not None}
