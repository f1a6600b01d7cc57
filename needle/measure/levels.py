"""Power levels of a load, and the segments between its changes of level.

Levels are the modes of the time-weighted histogram of log power: a level may drift and be noisy,
but little time is spent between levels. No loop runs over samples.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

import numpy as np

from needle.measure.capture import GAP_INTERVALS

#: Bin width of log(1 + W), about 3 %.
_BIN = 0.03
_BLUR_BINS = 1.6
#: A mode with less than this share of the time is passing, not a level…
_LEAST_SHARE = 0.002
#: … and one that holds less than this many seconds as well.
_LEAST_S = 15.0
#: … or that has this share of the energy.
_LEAST_ENERGY = 0.2
#: Two modes are one level unless the valley between them is below this share of the lower one.
_VALLEY = 0.5
#: Power that stays within this share of itself is one level.
STEADY_SHARE = 0.15
#: Least share of a level's time within a fifth of its median.
_HOLDS = 0.7
#: A dip to rest within a run is none if it is shorter than this, and than this share of a run.
_MOST_DIP_S, _DIP_SHARE = 30.0, 0.1
#: A load that rests does so for at least this share of the time.
_LEAST_REST = 0.05
#: Shorter stays than this many seconds are no segment of their own.
_LEAST_DWELL_S = 4.0


@dataclass(frozen=True)
class Series:
    """The power of a capture, prepared for analysis.

    Attributes
    ----------
    time_s, watts : ndarray
        Times and powers of rows with a power.
    weight_s : ndarray
        Seconds that each row represents.
    gap_after : ndarray of bool
        Whether a gap follows the row.
    interval_s : float
        Median interval.
    noise_w : float
        Standard deviation of one row about its level.
    """

    time_s: np.ndarray
    watts: np.ndarray
    weight_s: np.ndarray
    gap_after: np.ndarray
    interval_s: float
    noise_w: float

    @cached_property
    def spans_s(self) -> np.ndarray:
        """Seconds from each row to the next; 0 across a gap."""
        return np.where(self.gap_after[:-1], 0.0, np.diff(self.time_s))

    @cached_property
    def covered_s(self) -> float:
        return float(np.sum(self.spans_s))

    def energy_wh(self, power: np.ndarray | None = None) -> float:
        """Wh over covered time by the trapezoid rule; never across a gap."""
        values = self.watts if power is None else power
        return float(np.dot(values[:-1] + values[1:], self.spans_s)) / 7200.0


def series_of(time_s: np.ndarray, watts: np.ndarray) -> Series:
    """Return a series without rows that lack power, with its gaps and row weights."""
    usable = np.isfinite(watts)
    if not usable.all():
        time_s, watts = time_s[usable], watts[usable]
    spans = np.diff(time_s)
    # Most loggers are regular: then no median need be looked for.
    regular = spans.size > 0 and float(spans.min()) == float(spans.max())
    interval = float(spans[0]) if regular else float(np.median(spans))
    gap = spans > GAP_INTERVALS * interval
    half = np.where(gap, 0.0, spans / 2)
    weight = np.zeros(len(time_s))
    weight[:-1] = half
    weight[1:] += half
    noise = 1.4826 * float(np.median(np.abs(np.diff(watts)))) / np.sqrt(2)
    return Series(time_s, watts, weight, np.append(gap, False), interval, max(noise, 0.05))


@dataclass(frozen=True)
class Segments:
    """Periods on one level, as arrays of equal length.

    Attributes
    ----------
    first, last : ndarray of int
        First and last row, both inclusive.
    start_s, end_s : ndarray
        Start and end, half way to the neighbouring rows unless there is a gap.
    label : ndarray of int
        Index of the level, 0 is the lowest.
    watts : ndarray
        Mean W.
    joined : ndarray of bool
        Whether it follows the previous segment without a gap.
    """

    first: np.ndarray
    last: np.ndarray
    start_s: np.ndarray
    end_s: np.ndarray
    label: np.ndarray
    watts: np.ndarray
    joined: np.ndarray

    @property
    def seconds(self) -> np.ndarray:
        return np.asarray(self.end_s - self.start_s)


@dataclass(frozen=True)
class Levels:
    """The power levels of a series.

    Attributes
    ----------
    watts : ndarray
        Median W of each level, increasing.
    seconds : ndarray
        Time on each level, s.
    holds : bool
        Whether the power stays near its levels; False if it varies continuously.
    segments : Segments
    """

    watts: np.ndarray
    seconds: np.ndarray
    holds: bool
    segments: Segments


def find_levels(series: Series, bounds_w: Sequence[float] = ()) -> Levels:
    """Return levels and segments of a series; ``bounds_w`` replaces the boundaries found, in W."""
    from scipy.ndimage import median_filter

    size = _odd(_filter_size(series.interval_s), len(series.watts))
    smooth = median_filter(series.watts, size=size, mode="nearest")
    passing, spike = _passing(smooth, series.noise_w)
    place = np.log1p(np.maximum(smooth, 0.0))
    bounds = np.log1p(sorted(bounds_w)) if bounds_w else None
    if bounds is None:
        bounds = _bounds(smooth, place, series, passing | spike)
    label = np.searchsorted(bounds, place).astype(np.int32)
    after = np.append(label[1:], label[-1:])
    label = _settled(np.where(spike, after, label), series)
    if not bounds_w:
        label = _bridged(label, series)
    is_used = np.bincount(label) > 0
    label = (np.cumsum(is_used) - 1).astype(np.int32)[label]
    count = int(is_used.sum())
    watts = _medians(smooth, label, count)
    seconds = np.bincount(label, weights=series.weight_s, minlength=count)
    holds = _holds(smooth, label, watts, seconds, series)
    if not holds and not bounds_w and (split := _on_and_off(smooth, series)) is not None:
        label, holds = _bridged(_settled(split, series), series), True
        watts = _medians(smooth, label, 2)
        seconds = np.bincount(label, weights=series.weight_s, minlength=2)
    return Levels(watts, seconds, holds, _segments(label, series))


def _filter_size(interval_s: float) -> int:
    """Rows of a median filter that removes a spike, but not a pulse of a few seconds."""
    if interval_s <= 1.0:
        return 5
    return 3 if interval_s <= 4.0 else 1


def _medians(smooth: np.ndarray, label: np.ndarray, count: int) -> np.ndarray:
    """Median W of each level."""
    return np.array([np.median(smooth[label == level]) for level in range(count)])


def _odd(size: int, most: int) -> int:
    return min(size, most if most % 2 else most - 1) or 1


def _bounds(smooth: np.ndarray, place: np.ndarray, series: Series, aside: np.ndarray) -> np.ndarray:
    """Boundaries between levels in log power; empty for a single level.

    ``place`` is the logarithm of the smooth power. Rows ``aside`` belong to no level and are not
    counted.
    """
    from scipy.ndimage import gaussian_filter1d

    # As high as is held for long enough to be a level, however long the rest around it.
    rare = min(0.002, _LEAST_S / max(series.covered_s, _LEAST_S))
    low, high = np.quantile(smooth, [0.002, 1 - rare])
    if high - low < max(STEADY_SHARE * high, 6 * series.noise_w, 1.0):
        return np.zeros(0)
    # Bins no finer than the noise: a quiet low level must not fall apart.
    index = (place / _BIN).astype(np.int64)
    count = int(index.max()) + 8
    time = np.bincount(index, weights=np.where(aside, 0.0, series.weight_s), minlength=count)
    blurred = gaussian_filter1d(_blur_low(time, series.noise_w), _BLUR_BINS, mode="constant")
    padded = np.concatenate(([0.0], blurred, [0.0]))
    peaks = np.flatnonzero((padded[1:-1] > padded[:-2]) & (padded[1:-1] >= padded[2:]))
    return _valleys(blurred, time, peaks)


def _passing(smooth: np.ndarray, noise_w: float) -> tuple[np.ndarray, np.ndarray]:
    """Rows on an edge, which belong to no level: between two levels, or a start-up spike.

    A logger that averages puts one of the first kind on every edge; one with a long interval keeps
    the second as a row of its own. A pulse, with the same level on both sides, is neither.
    """
    step = np.diff(smooth)
    large = np.abs(step)
    near = np.maximum(0.1 * smooth[1:-1], max(4 * noise_w, 1.0))
    jumps = np.flatnonzero((large[:-1] > near) & (large[1:] > near))
    before, after = step[jumps], step[jumps + 1]
    passing, spike = np.zeros(len(smooth), dtype=bool), np.zeros(len(smooth), dtype=bool)
    passing[jumps + 1] = before * after > 0
    spike[jumps + 1] = (before > 0) & (after < 0) & (np.abs(before + after) > near[jumps])
    return passing, spike


def _blur_low(time: np.ndarray, noise_w: float) -> np.ndarray:
    """Histogram smoothed below a few noise widths, where bins are narrower than the noise."""
    from scipy.ndimage import gaussian_filter1d

    edge = int(np.log1p(6 * noise_w) / _BIN)
    if edge < 3:
        return time
    low = gaussian_filter1d(time[: edge + 1], max(1.0, edge / 4), mode="nearest")
    return np.concatenate((low, time[edge + 1 :]))


def _valleys(blurred: np.ndarray, time: np.ndarray, peaks: np.ndarray) -> np.ndarray:
    """Boundaries between modes that are levels; loops over a few dozen modes."""
    total = time.sum()
    energy = time * np.expm1(np.arange(len(time)) * _BIN)
    modes = [int(peak) for peak in peaks if blurred[peak] > 0]
    while len(modes) > 1:
        cuts = [left + int(np.argmin(blurred[left : right + 1])) for left, right in pairwise(modes)]
        depth = [
            blurred[cut] / min(blurred[modes[i]], blurred[modes[i + 1]])
            for i, cut in enumerate(cuts)
        ]
        edges = [0, *cuts, len(time)]
        held = [time[edges[i] : edges[i + 1]].sum() for i in range(len(modes))]
        work = [energy[edges[i] : edges[i + 1]].sum() for i in range(len(modes))]
        # Short bursts between long silence are rare in time, yet all that is drawn.
        weak = [
            i
            for i, seconds in enumerate(held)
            if seconds < _LEAST_S
            or (seconds < _LEAST_SHARE * total and work[i] < _LEAST_ENERGY * energy.sum())
        ]
        if weak:
            modes.pop(min(weak, key=lambda i: held[i]))
        elif max(depth) > _VALLEY:
            shallow = int(np.argmax(depth))
            modes.pop(min((shallow, shallow + 1), key=lambda i: blurred[modes[i]]))
        else:
            return (np.array(cuts) + 0.5) * _BIN
    return np.zeros(0)


def _settled(label: np.ndarray, series: Series) -> np.ndarray:
    """Labels without segments that are too short, which join the previous one."""
    from scipy.ndimage import median_filter

    width = int(np.clip(round(8.0 / series.interval_s), 1, 9)) | 1
    if width > 1 and len(label) > width:
        label = median_filter(label, size=width, mode="nearest")
    new = np.flatnonzero(np.diff(label, prepend=label[0] - 1))
    ends = np.append(new[1:], len(label))
    times = np.append(series.time_s, series.time_s[-1] + series.interval_s)
    short = times[ends] - times[new] < min(_LEAST_DWELL_S, 2.5 * series.interval_s)
    short[0] = False
    keeper = np.maximum.accumulate(np.where(short, 0, np.arange(len(new))))
    return np.repeat(label[new][keeper], ends - new)


def _bridged(label: np.ndarray, series: Series) -> np.ndarray:
    """Labels without dips to rest that are far shorter than the runs they interrupt."""
    new = np.flatnonzero(np.diff(label, prepend=label[0] - 1))
    ends = np.append(new[1:], len(label))
    values = label[new]
    times = np.append(series.time_s, series.time_s[-1] + series.interval_s)
    lengths = times[ends] - times[new]
    runs = lengths[values > 0]
    if len(new) < 3 or not len(runs):
        return label
    least = min(_MOST_DIP_S, _DIP_SHARE * float(np.median(runs)))
    inner = np.zeros(len(new), dtype=bool)
    inner[1:-1] = (values[1:-1] == 0) & (values[:-2] == values[2:]) & (lengths[1:-1] < least)
    values = np.where(inner, np.append(values[:1], values[:-1]), values)
    return np.repeat(values, ends - new)


def _on_and_off(smooth: np.ndarray, series: Series) -> np.ndarray | None:
    """Labels of rest and of on, for a power that rests, and varies while on; else None.

    An on-period lasts from leaving rest to returning to it, however low the power falls then.
    """
    low, high = np.quantile(smooth, [0.02, 0.98])
    if high < 8 * max(low, series.noise_w, 0.5):
        return None
    awake = smooth > low + max(0.05 * high, 4 * series.noise_w)
    if 1 - awake.mean() < _LEAST_REST:
        return None
    new = np.flatnonzero(np.diff(awake.astype(np.int8), prepend=-1))
    on = awake[new] & (np.maximum.reduceat(smooth, new) > np.sqrt(max(low, 0.5) * high))
    return np.repeat(on.astype(np.int32), np.diff(np.append(new, len(smooth))))


def _holds(
    smooth: np.ndarray,
    label: np.ndarray,
    watts: np.ndarray,
    seconds: np.ndarray,
    series: Series,
) -> bool:
    """Whether every important level stays near its own median most of the time."""
    room_w = np.maximum(0.2 * watts, max(4 * series.noise_w, 1.5))
    near = np.abs(smooth - watts[label]) <= room_w[label]
    inside = np.bincount(label, weights=series.weight_s * near)
    energy = seconds * np.maximum(watts, 0.1)
    heavy = energy > 0.1 * energy.sum()
    return bool((inside[heavy] >= _HOLDS * seconds[heavy]).all())


def _segments(label: np.ndarray, series: Series) -> Segments:
    change = np.diff(label) != 0
    gap = series.gap_after[:-1]
    cuts = np.flatnonzero(change | gap) + 1
    first = np.concatenate(([0], cuts))
    last = np.append(cuts - 1, len(label) - 1)
    middle = (series.time_s[cuts - 1] + series.time_s[cuts]) / 2
    across = gap[cuts - 1]
    start = np.concatenate(([series.time_s[0]], np.where(across, series.time_s[cuts], middle)))
    end = np.append(np.where(across, series.time_s[cuts - 1], middle), series.time_s[-1])
    weights = np.add.reduceat(series.weight_s, first)
    sums = np.add.reduceat(series.weight_s * series.watts, first)
    watts = np.divide(sums, weights, out=series.watts[first].copy(), where=weights > 0)
    return Segments(
        first, last, start, end, label[first], watts, np.concatenate(([False], ~across))
    )
