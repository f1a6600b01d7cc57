"""Steps of a task in the capture of a machine with a programme: it heats, tumbles, spins."""

from __future__ import annotations

import numpy as np

from needle.measure.levels import Series
from needle.measure.readings import ProgrammeStep

#: Parts into which a task is cut before they are joined, and the shortest, s.
_PARTS, _LEAST_PART_S = 240, 5.0
MOST_STEPS = 8
#: Two steps are one if their mean W hardly differ (relative variance), or hardly any energy does.
_ALIKE, _LITTLE = 0.02, 0.01


def programme_of(series: Series, first_s: float, last_s: float) -> tuple[ProgrammeStep, ...]:
    """Return the steps between two moments of a series, s; empty if there is but one.

    Short parts are joined with the neighbour whose mean W is nearest, weighted by time (J. H. Ward
    1963, of neighbours only). The steps together have the energy of that time; in a gap the power
    goes on as it was.
    """
    shortest_s = max(_LEAST_PART_S, series.interval_s)
    if last_s - first_s < 2 * shortest_s:
        return ()
    count = int(np.clip((last_s - first_s) / shortest_s, 1, _PARTS))
    edges = np.linspace(first_s, last_s, count + 1)
    steps = _joined(edges, _mean_w(series, edges))
    if len(steps) == 1:
        return ()
    # The power changes within a part: what lies on the edge of a step is its neighbour's.
    part_s = float(edges[1] - edges[0])
    return tuple(
        _step(series, begin, end, mean, part_s if end - begin > 3 * part_s else 0.0)
        for begin, end, mean in steps
    )


def _mean_w(series: Series, edges: np.ndarray) -> np.ndarray:
    """Mean W between edges; a row's power goes on until the next row."""
    times = np.append(series.time_s, series.time_s[-1] + series.interval_s)
    joules = np.concatenate([[0.0], np.cumsum(series.watts * np.diff(times))])
    return np.asarray(np.maximum(0.0, np.diff(np.interp(edges, times, joules)) / np.diff(edges)))


def _joined(edges: np.ndarray, mean_w: np.ndarray) -> list[tuple[float, float, float]]:
    """Begin, end and mean W of the parts that are left after joining."""
    energy = float((mean_w * np.diff(edges)).sum())
    while len(mean_w) > 1:
        seconds = np.diff(edges)
        before, after = seconds[:-1], seconds[1:]
        both, apart = before + after, np.abs(np.diff(mean_w))
        lost = before * after / both * apart**2
        at = int(lost.argmin())
        joined = (before[at] * mean_w[at] + after[at] * mean_w[at + 1]) / both[at]
        unlike = lost[at] > _ALIKE * both[at] * joined**2
        matters = apart[at] * min(before[at], after[at]) > _LITTLE * energy
        if len(mean_w) <= MOST_STEPS and unlike and matters:
            break
        mean_w = np.delete(mean_w, at + 1)
        mean_w[at] = joined
        edges = np.delete(edges, at + 1)
    return list(zip(edges[:-1].tolist(), edges[1:].tolist(), mean_w.tolist(), strict=True))


def _step(
    series: Series, begin_s: float, end_s: float, mean_w: float, edge_s: float
) -> ProgrammeStep:
    from scipy.ndimage import median_filter

    inside = (series.time_s >= begin_s + edge_s) & (series.time_s < end_s - edge_s)
    rows = series.watts[inside]
    # A spike of a single row is a start, not a level.
    top_w = float(median_filter(rows, size=3, mode="nearest").max()) if len(rows) else mean_w
    top_w = max(top_w, mean_w, 1e-3)
    return ProgrammeStep(top_w, (end_s - begin_s) / 60, mean_w / top_w)
