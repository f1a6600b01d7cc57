"""Trials side by side, against the first, and whether that is fair."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from needle.decide.compare import Against, Figure, against
from needle.estimate import Z90, Estimate
from needle.trial.forecast import Forecast, Range
from web.trials.models import Trial
from web.trials.page import TrialView, view_of

MOST = 4


@dataclass(frozen=True)
class TrialRow:
    """A figure of all trials: each with how it stands against the first's."""

    figure: Figure
    cells: list[tuple[Estimate | None, Against | None]]


@dataclass(frozen=True)
class Compared:
    """The page: the trials, rows, what was not alike, the verdict."""

    views: list[TrialView]
    rows: list[TrialRow]
    unfair: list[str]
    verdict: str


#: How a run made once differs from the next of its kind: days differ (a general value of ours).
ONCE_SPREAD = 0.05


def estimate_of(one: Range | None) -> Estimate | None:
    """A range as an estimate: its middle, and the spread that its ends ask for."""
    if one is None or one[1] <= 0:
        return None
    low, mid, high = one
    sigma = math.log(high / low) / (2 * Z90) if 0 < low < high else 0.0
    spread = math.hypot(math.sqrt(math.expm1(sigma**2)), ONCE_SPREAD)
    return Estimate(mid, spread, "A", ("a trial",))


_FIGURES: Sequence[tuple[str, str, Callable[[Forecast], Range | None]]] = (
    ("lasts", "h", lambda ahead: ahead.stop_h),
    ("mean, last leg", "W", lambda ahead: ahead.mean_w),
    ("battery held", "Wh", lambda ahead: ahead.held_wh),
    ("of its label", "", lambda ahead: ahead.state_of_health),
)


def compare(trials: Sequence[Trial]) -> Compared:
    """Put trials side by side; the first is the reference."""
    views = [view_of(trial) for trial in trials]
    predictions = [view.prediction for view in views]
    figures = [
        Figure(
            name, unit, [estimate_of(range_of(ahead)) if ahead else None for ahead in predictions]
        )
        for name, unit, range_of in _FIGURES
    ]
    rows = []
    for figure in figures:
        if any(value is not None for value in figure.values):
            first = figure.values[0]
            cells = [
                (value, against(value, first) if number and value and first else None)
                for number, value in enumerate(figure.values)
            ]
            rows.append(TrialRow(figure, cells))
    return Compared(views, rows, _unfair(trials), _verdict(rows, trials))


def _unfair(trials: Sequence[Trial]) -> list[str]:
    words = []
    for name, values in (
        ("the supply", [trial.supply_id for trial in trials]),
        ("the plan", [trial.plan_id for trial in trials]),
        ("the charge at the start", [trial.start_charge for trial in trials]),
        ("where they stop", [trial.stop_at for trial in trials]),
        ("the room", [trial.room_c for trial in trials]),
        ("the contents", [trial.contents for trial in trials]),
        ("why they ended", [trial.ended_why for trial in trials]),
    ):
        if len(set(values)) > 1:
            words.append(name)
    return words


def _verdict(rows: Sequence[TrialRow], trials: Sequence[Trial]) -> str:
    lasts = next((row for row in rows if row.figure.name == "lasts"), None)
    if lasts is None or len(trials) < 2 or lasts.cells[1][1] is None:
        return ""
    off = lasts.cells[1][1]
    if not off.real:
        return "No real difference in hours: either may last longer the next time."
    word = "longer" if off.value > 0 else "shorter"
    return f"{trials[1].name} lasts {abs(off.value) * 100:.0f} % {word} than {trials[0].name}."
