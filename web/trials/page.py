"""What a trial's page shows: the forecast in words, drawn, and how good forecasts have been."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import timedelta
from typing import Any

from django.utils import timezone
from django.utils.safestring import SafeString

from needle.document import DocumentError
from needle.estimate import Estimate
from needle.measure.readings import parse
from needle.plan.plan import AC
from needle.profile.profile import derive
from needle.quantity import hours_text
from needle.supply.supply import parse_supply
from needle.trial.follow import Mark, Score, mark, next_check_ins, score
from needle.trial.forecast import Forecast, Leg, forecast
from needle.trial.trial import CheckIn as CoreCheckIn
from needle.trial.trial import Trial as CoreTrial
from web.drawing.fan import Point, Run, fan
from web.loads.models import Load
from web.plans.draft import draft_of
from web.trials.actions import carried_test
from web.trials.models import CheckIn, Trial


@dataclass(frozen=True)
class CheckInRow:
    """A check-in as the table shows it: hours into the trial, and its figures as written."""

    record: CheckIn
    h: float
    charge: str
    drawn: str
    counted: str
    promised: str
    note: str


@dataclass(frozen=True)
class Carry:
    """What a finished trial would change in its supply: capacity shares before and after."""

    used_wh: float
    before: float
    after: float
    done: bool


@dataclass(frozen=True)
class Learnt:
    """What a finished trial of one load would change in it: its mean W before and after."""

    load: Load
    data: dict[str, Any]
    note: str
    before: Estimate
    after: Estimate
    done: bool


@dataclass(frozen=True)
class TrialView:
    """A trial as its page shows it; ``prediction`` is None while there is nothing to go by."""

    trial: Trial
    core: CoreTrial
    prediction: Forecast | None
    words: str
    headline: str
    range: str
    drawing: SafeString | None
    rows: list[CheckInRow]
    legs: list[Leg]
    upcoming: list[Any]
    mark: Mark | None
    carry: Carry | None
    learnt: Learnt | None = None


def view_of(trial: Trial) -> TrialView:
    """Work out a trial as it stands."""
    core = trial.to_core()
    both = zip(trial.known_check_ins(), core.check_ins, strict=True)
    rows = [_row(record, seen) for record, seen in both]
    try:
        prediction = forecast(core)
    except DocumentError:
        words = "Nothing to go by yet: check in with a charge, a count or the watts drawn."
        return TrialView(trial, core, None, words, "", "", None, rows, [], [], None, None)
    planned = _planned(core)
    headline, range_words = _headline(trial, prediction)
    return TrialView(
        trial=trial,
        core=core,
        prediction=prediction,
        words=_because(prediction, planned),
        headline=headline,
        range=range_words,
        drawing=_drawing(trial, core, prediction, planned),
        rows=rows,
        legs=prediction.legs,
        upcoming=[] if trial.ended_at else upcoming(trial, prediction),
        mark=mark(core),
        carry=_carry(trial, prediction),
        learnt=_learnt(trial, prediction),
    )


def upcoming(trial: Trial, prediction: Forecast) -> list[Any]:
    """Moments at which a look is worth most."""
    return [
        timezone.localtime(trial.started_at + timedelta(hours=hour))
        for hour in next_check_ins(prediction)
    ]


def _planned(core: CoreTrial) -> Forecast | None:
    """What the plan alone description at the start."""
    if not core.expected_w:
        return None
    return forecast(CoreTrial(core.supply, core.start_charge, core.stop_at, core.expected_w,
                              core.expected_spread, ()))  # fmt: skip


def _headline(trial: Trial, prediction: Forecast) -> tuple[str, str]:
    if trial.ended_at is not None:
        ended = trial.hours_to(trial.ended_at)
        return f"{trial.get_ended_why_display().capitalize()} after {hours_text(ended)}", ""
    low, mid, high = (
        timezone.localtime(trial.started_at + timedelta(hours=hours)) for hours in prediction.stop_h
    )
    left = prediction.remaining_h
    return (
        f"Stops about {mid:%a %H:%M}",
        f"Likely between {low:%a %H:%M} and {high:%a %H:%M}; {hours_text(left[1])} from the last "
        "check-in.",
    )


def _because(prediction: Forecast, planned: Forecast | None) -> str:
    """How it differs from what the plan description, and why."""
    if planned is None:
        return ""
    off = prediction.stop_h[1] - planned.stop_h[1]
    drawn = prediction.level[1] - 1
    held = prediction.held_wh[1] / planned.held_wh[1] - 1
    why = []
    if abs(drawn) > 0.02:
        why.append(f"it draws {abs(drawn) * 100:.0f} % {'less' if drawn < 0 else 'more'}")
    if abs(held) > 0.01:
        why.append(f"the battery holds {abs(held) * 100:.0f} % {'less' if held < 0 else 'more'}")
    reason = f": {' and '.join(why)} than was believed" if why else ""
    if abs(off) < 0.02 * planned.stop_h[1]:
        return f"As foretold at the start, {hours_text(planned.stop_h[1])}{reason}."
    word = "longer" if off > 0 else "shorter"
    return f"{hours_text(abs(off))} {word} than foretold at the start{reason}."


def _row(record: CheckIn, seen: CoreCheckIn) -> CheckInRow:
    data = record.data
    charge = ""
    if seen.percent is not None:
        charge = f"{data['percent']:g} %"
    elif seen.bars is not None:
        charge = f"{seen.bars} of {seen.of} bars"
    counted = f"{seen.wh:g} Wh" if seen.wh is not None else ""
    if seen.ah is not None:
        counted = f"{seen.ah:g} Ah"
    notes = [f"new leg: {seen.leg}" if seen.leg else "", seen.note]
    if seen.volts is not None:
        notes.append(f"{seen.volts:g} V")
    if seen.room_c is not None:
        notes.append(f"room {seen.room_c:.3g} °C")
    if seen.inside_c is not None:
        notes.append(f"inside {seen.inside_c:.3g} °C")
    return CheckInRow(
        record, seen.h, charge,
        f"{seen.watts:g} W" if seen.watts is not None else "",
        counted,
        hours_text(seen.display_h) if seen.display_h is not None else "",
        "; ".join(note for note in notes if note),
    )  # fmt: skip


def _drawing(
    trial: Trial, core: CoreTrial, prediction: Forecast, planned: Forecast | None
) -> SafeString:
    points, promises = [], []
    for check_in in core.check_ins:
        charge, shown = check_in.shown, True
        if charge is None and check_in.wh is not None:
            charge, shown = core.start_charge - check_in.wh / prediction.held_wh[1], False
        if charge is None and check_in.ah is not None and core.battery.volts:
            used = check_in.ah * core.battery.volts
            charge, shown = core.start_charge - used / prediction.held_wh[1], False
        if charge is None:
            continue
        points.append(
            Point(check_in.h, charge, shown, f"{hours_text(check_in.h)}: {charge * 100:.0f} %")
        )
        if check_in.display_h is not None:
            promises.append((check_in.h, charge, check_in.h + check_in.display_h))
    legs = [(leg.from_h, leg.name) for leg in prediction.legs] if len(prediction.legs) > 1 else []
    ended = None
    if trial.ended_at is not None:
        ended = (trial.hours_to(trial.ended_at), trial.get_ended_why_display())
    last = (
        f"{points[-1].charge * 100:.0f} % at {hours_text(points[-1].h)}" if points else "none yet"
    )
    description = f"{len(points)} check-ins, the last {last}"
    if not ended:
        description += f"; stops after {hours_text(prediction.stop_h[1])}, likely"
    run = Run(points, prediction.fan, legs, promises, core.stop_at, core.start_charge,
              planned.stop_h[1] if planned else None, ended)  # fmt: skip
    return fan(run, f"Charge during {trial.name}", description)


def _carry(trial: Trial, prediction: Forecast) -> Carry | None:
    """What it would change in the supply, where the end tells and energy was counted."""
    counted = any(
        "wh" in check_in.data or "ah" in check_in.data for check_in in trial.known_check_ins()
    )
    proved = prediction.state_of_health is not None and trial.supply is not None
    if not proved or not counted:
        return None
    assert trial.supply is not None
    test = carried_test(trial, prediction.used_wh)
    document = trial.supply.to_document()
    before = trial.supply.to_core().battery.state_of_health.value
    tests = [*document.get("tests", []), test.to_document()]
    try:
        after = parse_supply({**document, "tests": tests}).battery.state_of_health.value
    except DocumentError:
        return None
    done = any(other.note == test.note for other in trial.supply.known_tests())
    return Carry(prediction.used_wh, before, after, done)


def _learnt(trial: Trial, prediction: Forecast) -> Learnt | None:
    """A charge drop of the load, where the plan has one alone, on AC, in one leg."""
    if (
        trial.ended_at is None
        or trial.plan is None
        or trial.supply is None
        or len(prediction.legs) > 1
    ):
        return None
    trial.plan.job = trial.job
    counted = [used_load for used_load in draft_of(trial.plan).used if used_load.counted]
    inverter = trial.supply.to_core().inverter
    if len(counted) != 1 or counted[0].route != AC or inverter is None:
        return None
    load, before = counted[0].load, counted[0].profile
    assert before is not None
    end = prediction.charge[1]
    data = {
        "supply_wh": round(prediction.held_wh[1], 1), "proven": True,
        "from": trial.start_charge, "to": round(end, 4),
        "hours": round(prediction.now_h, 2), "idle_w": round(inverter.idle_w.value, 2),
        "efficiency": round(inverter.efficiency.value, 4),
    }  # fmt: skip
    record = load.to_core()
    try:
        reading = parse({"type": "charge-drop", **data})
        after = derive(replace(record, readings=(*record.readings, reading)))
    except DocumentError:
        return None
    note = f"from the trial {trial.name}"[:400]
    done = any(reading.note == note for reading in load.known_readings())
    return Learnt(load, data, note, before.mean_w, after.mean_w, done)


def score_of(trials: Sequence[Trial]) -> Score:
    """How good forecasts have been over finished trials."""
    marks = [mark(trial.to_core()) for trial in trials if not trial.running]
    return score([mark for mark in marks if mark is not None])
