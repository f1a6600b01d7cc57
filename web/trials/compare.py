"""Trials side by side, against the first one, and whether the comparison is fair."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from needle.decide.compare import Against
from needle.moments import occurrences
from needle.trial.compare import TrialRow, TrialSide, rows_of
from needle.trial.prediction import Forecast
from web.plans.outcomes import LONG_WAIT_S
from web.trials.models import STARTS, Trial
from web.trials.page import TrialView, view_of
from web.trials.taught import load_that_ran

MOST = 4


@dataclass(frozen=True)
class Compared:
    """The page: trials, rows, what is unfair, and the verdict."""

    views: list[TrialView]
    rows: list[TrialRow]
    unfair: list[str]
    verdict: str


def compare(trials: Sequence[Trial]) -> Compared:
    """Compare trials; the first is the reference."""
    views = [view_of(trial, LONG_WAIT_S) for trial in trials]
    rows = rows_of([_side(view) for view in views])
    return Compared(views, rows, _unfair(trials), _verdict(rows, trials))


def _side(view: TrialView) -> TrialSide:
    trial = view.trial
    ran = trial.ran.get("loads", [])
    load = uses = None
    if len(ran) == 1:
        load = load_that_ran(trial.job, ran[0])
        uses = _uses(trial, view.prediction)
    return TrialSide(
        name=trial.name,
        prediction=view.prediction,
        supply=trial.supply_id,
        litres=load.litres if load is not None else None,
        lift_c=_lift_c(trial, load.set_c if load is not None else None),
        uses=uses,
        cut_short=trial.cut_short,
    )


def _uses(trial: Trial, prediction: Forecast | None) -> int | None:
    """How often the one load of a trial's plan was used until now; None if not at times."""
    plan = trial.to_core().plan
    if plan is None or prediction is None or len(plan.loads) != 1:
        return None
    load = plan.loads[0]
    if not load.use.moments:
        return None
    minutes = round(60 * prediction.now_h)
    return load.count * len(occurrences(load.use.moments, plan.start, minutes))


def _lift_c(trial: Trial, set_c: float | None) -> float | None:
    """Temperature difference between the room and the inside, as read, or from the set point, K."""
    seen = trial.known_check_ins()
    rooms = [check_in.data["room_c"] for check_in in seen if "room_c" in check_in.data]
    insides = [check_in.data["inside_c"] for check_in in seen if "inside_c" in check_in.data]
    room_c = sum(rooms) / len(rooms) if rooms else trial.room_c
    inside_c = sum(insides) / len(insides) if insides else set_c
    if room_c is None or inside_c is None or abs(room_c - inside_c) < 1:
        return None
    return abs(float(room_c) - float(inside_c))


def _unfair(trials: Sequence[Trial]) -> list[str]:
    words = []
    for name, values in (
        ("the supply", [trial.supply_id for trial in trials]),
        (
            "what ran",
            [sorted(load["name"] for load in trial.ran.get("loads", [])) for trial in trials],
        ),
        ("the charge at the start", [trial.start_charge for trial in trials]),
        ("where they stop", [trial.stop_at for trial in trials]),
        ("the room", [trial.room_c for trial in trials]),
        ("the contents", [trial.contents for trial in trials]),
        ("why they ended", [trial.ended_why for trial in trials]),
    ):
        if any(value != values[0] for value in values):
            words.append(name)
    return words


def _verdict(rows: Sequence[TrialRow], trials: Sequence[Trial]) -> str:
    """Whether the others last longer than the first, each in a sentence."""
    starts = {trial.begins for trial in trials if trial.begins}
    if len(starts) > 1:
        words = " and ".join(STARTS[start] for start in sorted(starts))
        return f"Two different trials: {words}. Their hours do not compare."
    lasts = next((row for row in rows if row.name == "lasts"), None)
    if lasts is None:
        return ""
    others = [
        (trial, cell.against)
        for trial, cell in zip(trials[1:], lasts.cells[1:], strict=True)
        if cell.against is not None
    ]
    if others and not any(off.real for _, off in others):
        return "No real difference in hours: either may last longer the next time."
    return " ".join(_against(trial, trials[0], off) for trial, off in others)


def _against(trial: Trial, first: Trial, off: Against) -> str:
    """How much longer one lasts than the first."""
    if not off.real:
        return f"{trial.name} against {first.name}: no real difference in hours."
    word = "longer" if off.value > 0 else "shorter"
    return f"{trial.name} lasts {abs(off.value) * 100:.0f} % {word} than {first.name}."
