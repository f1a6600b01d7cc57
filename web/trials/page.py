"""Contents of a trial's page: forecast, drawing, and how good forecasts were."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.urls import reverse
from django.utils import timezone
from django.utils.safestring import SafeString

from needle.document import DocumentError
from needle.ledger import TOLD
from needle.plan.load import AC
from needle.quantity import hours_text, with_unit
from needle.trial.prediction import Forecast, Leg
from needle.trial.trial import CheckIn as CoreCheckIn
from needle.trial.trial import Trial as CoreTrial
from needle.trial.trial_summary import ForecastRecord, next_check_ins
from web.background.questions import AnswerPending
from web.common.units import clock, day_clock, said, temperature
from web.drawing.fan import Point, Run, fan
from web.plans.rests import RestLine, Rests
from web.trials.models import CheckIn, Trial
from web.trials.trial_summaries import PAGE_WAIT_S, record_of, summary_of

#: Hours after which a day's name alone could mean two days.
DAYS_NAMED_H = 144.0


@dataclass(frozen=True)
class CheckInRow:
    """A check-in in the table: hours into the trial, and its figures as text."""

    record: CheckIn
    h: float
    charge: str
    drawn: str
    counted: str
    promised: str
    note: str


@dataclass(frozen=True)
class CheckpointRow:
    """The forecast after a share of a finished run, in words."""

    when: str
    predicted: str
    span: str
    verdict: str
    display: str


@dataclass(frozen=True)
class TrialView:
    """A trial's page; ``prediction`` is None without a plan or check-ins.

    ``pending``: it is being computed.
    """

    trial: Trial
    core: CoreTrial
    prediction: Forecast | None
    words: str
    headline: str
    rows: list[CheckInRow]
    range: str = ""
    drawing: SafeString | None = None
    upcoming: Sequence[Any] = ()
    checkpoints: Sequence[CheckpointRow] = ()
    pending: bool = False

    @property
    def rests(self) -> Rests | None:
        """What the forecast uses: the plan at its start, and each check-in."""
        if self.prediction is None:
            return None
        return rests_of_trial(self.trial, self.prediction)

    @property
    def legs(self) -> list[Leg]:
        return self.prediction.legs if self.prediction else []

    @property
    def counted(self) -> str:
        """The last counter reading, and where it was read."""
        if self.prediction is None or self.prediction.count is None:
            return ""
        count = self.prediction.count
        place = {"battery": "the battery", AC: "AC"}.get(count.place, count.place)
        early = count.h < 0.995 * self.prediction.now_h
        by = f", by {hours_text(count.h, exact=True)}" if early else ""
        return f"{with_unit(count.wh, 'Wh', 4)} at {place}{by}"


def view_of(trial: Trial, wait_s: float = PAGE_WAIT_S, whole: bool = True) -> TrialView:
    """Compute a trial's page; not ``whole``: without what only its own page shows."""
    core = trial.to_core()
    both = zip(trial.known_check_ins(), core.check_ins, strict=True)
    rows = [_row(record, seen) for record, seen in both]
    try:
        tale = summary_of(trial, wait_s)
        checkpoints = (
            _checkpoint_rows(record_of(trial, wait_s)) if whole and not trial.running else []
        )
    except AnswerPending as pending:
        return TrialView(trial, core, None, "", pending.words, rows, pending=True)
    except DocumentError as error:
        return TrialView(trial, core, None, error.sentence, "", rows)
    prediction = tale.prediction
    if prediction is None:
        words = "Nothing to go by yet: check in with a charge, a count or the watts drawn."
        return TrialView(trial, core, None, words, "", rows)
    headline, range_words = _headline(trial, prediction)
    return TrialView(
        trial=trial,
        core=core,
        prediction=prediction,
        words=_because(prediction, tale.planned, trial.cut_short),
        headline=headline,
        range=range_words,
        drawing=_drawing(trial, core, prediction, tale.planned) if whole else None,
        rows=rows,
        upcoming=[] if trial.ended_at else upcoming(trial, prediction),
        checkpoints=checkpoints,
    )


def rests_of_trial(trial: Trial, prediction: Forecast) -> Rests:
    """What a trial's forecast uses, check-in by check-in; the plan is that of its start."""
    url = reverse("trials:trial", args=[trial.job_id, trial.pk])
    checkpoints = trial.known_check_ins()
    lines = []
    if trial.expected.get("plan"):
        lines.append(RestLine("The plan as it was at the start", url, "what is expected", True))
    used, left_out = 0, defaultdict[tuple[str, str], list[str]](list)
    for entry in prediction.ledger:
        number, _, key = entry.where.removeprefix("check_ins[").partition("]")
        if int(number) >= len(checkpoints) or entry.said.code in TOLD:
            continue
        hours = trial.hours_to(checkpoints[int(number)].at)
        at = hours_text(hours, exact=True)
        if entry.used:
            used += 1
            lines.append(RestLine(f"Check-in at {at}", url, said(entry.said), True))
        else:
            left_out[_FIGURES[key.lstrip(".")], said(entry.said)].append(at)
    for (what, why), seen_at in left_out.items():
        lines.append(RestLine(f"{what}, at {', '.join(seen_at)}", url, why, False))
    return Rests(lines, {"check-in": used})


#: What figures of a check-in are called.
_FIGURES = {
    "percent": "Charge shown",
    "bars": "Bars lit",
    "of": "Bars in all",
    "wh": "Wh counted",
    "ah": "Ah counted",
    "wh_in": "Wh charged",
    "volts": "Volts",
    "watts": "W out",
    "amps": "A out",
    "watts_in": "W in",
    "display_h": "The display's hours",
    "room_c": "Room",
    "inside_c": "Inside",
    "counted": "Where it was counted",
    "watts_at": "Where W were read",
    "note": "Note",
}


_WHEN = {0.0: "at the start", 1 / 3: "after a third", 0.5: "at half time", 0.8: "after four fifths"}


def _checkpoint_rows(record: ForecastRecord) -> list[CheckpointRow]:
    """Forecast and display at each checkpoint, against the actual hours."""
    rows = []
    for checkpoint in record.checkpoints:
        predicted = span = verdict = display = ""
        if checkpoint.stop_h is not None:
            low, mid, high = checkpoint.stop_h
            predicted, span = hours_text(mid), f"{hours_text(low)} to {hours_text(high)}"
            verdict = "held" if record.covered(checkpoint) else "missed"
        if checkpoint.display_h is not None:
            display = hours_text(checkpoint.display_h, exact=True)
        if predicted or display:
            rows.append(CheckpointRow(_WHEN[checkpoint.share], predicted, span, verdict, display))
    return rows


def upcoming(trial: Trial, prediction: Forecast) -> list[Any]:
    """Suggested times of further check-ins."""
    return [
        timezone.localtime(trial.started_at + timedelta(hours=hour))
        for hour in next_check_ins(prediction)
    ]


def moment_of(trial: Trial, hours: float) -> datetime:
    """A moment of a trial, by the job's clock."""
    return timezone.localtime(trial.started_at + timedelta(hours=hours))


def when_text(trial: Trial, hours: float) -> str:
    """A time of a trial: its weekday, with the date if that is ambiguous."""
    moment = moment_of(trial, hours)
    return f"{moment:%a %d %b} {clock(moment)}" if hours > DAYS_NAMED_H else day_clock(moment)


def _headline(trial: Trial, prediction: Forecast) -> tuple[str, str]:
    if trial.ended_at is not None:
        ended = hours_text(trial.hours_to(trial.ended_at))
        return f"{trial.get_ended_why_display().capitalize()} after {ended}", ""
    low, mid, high = (when_text(trial, hours) for hours in prediction.stop_h)
    most = prediction.most_h - 1e-6
    if prediction.stop_h[1] >= most:
        return f"Does not stop before {mid}", "It was looked no further ahead than that."
    later = " or later" if prediction.stop_h[2] >= most else ""
    left = hours_text(prediction.remaining_h[1])
    since = "from the last check-in" if prediction.now_h else "from the start"
    return (
        f"Stops about {mid}",
        f"Likely between {low} and {high}{later}; {left} {since}.",
    )


def _because(prediction: Forecast, planned: Forecast | None, cut_short: bool) -> str:
    """How the forecast differs from the one at the start, and why; of one cut short only why."""
    if planned is None or not prediction.now_h or planned.stop_h[1] >= planned.most_h - 1e-6:
        return ""
    off = prediction.stop_h[1] - planned.stop_h[1]
    drawn = [level - 1 for level in prediction.level]
    held = [wh / planned.held_wh[1] - 1 for wh in prediction.held_wh]
    why = []
    if abs(drawn[1]) > 0.02 and len(prediction.legs) == 1:
        why.append(f"it draws {_change_text(drawn)}")
    if abs(held[1]) > 0.01:
        why.append(f"the battery holds {_change_text(held)}")
    if cut_short:
        words = " and ".join(why)
        return f"{words[:1].upper()}{words[1:]} than was assumed." if why else ""
    reason = f": {' and '.join(why)} than was assumed" if why else ""
    if abs(off) < 0.02 * planned.stop_h[1]:
        return f"As predicted at the start, {hours_text(planned.stop_h[1])}{reason}."
    word = "longer" if off > 0 else "shorter"
    return f"{hours_text(abs(off))} {word} than predicted at the start{reason}."


def _change_text(change: Sequence[float]) -> str:
    """A relative change with its range: ``3 % less (6 % less to 1 % more)``."""
    low, mid, high = (
        f"{abs(share) * 100:.0f} % {'less' if share < 0 else 'more'}" for share in change
    )
    return f"{mid} ({low} to {high})"


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
    figures = (
        (seen.volts, "{:g} V"),
        (seen.amps, "{:g} A"),
        (seen.watts_in, "in {:g} W"),
        (seen.wh_in, "charged {:g} Wh"),
    )
    degrees = ((seen.room_c, "room"), (seen.inside_c, "inside"))
    still_on = "" if data else "still on"
    leg = f"new leg: {seen.leg}" if seen.leg else ""
    if seen.on is not None:
        leg = f"on from here: {', '.join(seen.on) or 'nothing'}"
    notes = [still_on, leg, seen.note]
    notes += [text.format(value) for value, text in figures if value is not None]
    notes += [f"{where} {temperature(at_c)}" for at_c, where in degrees if at_c is not None]
    return CheckInRow(
        record,
        seen.h,
        charge,
        f"{seen.watts:g} W" if seen.watts is not None else "",
        counted,
        hours_text(seen.display_h, exact=True) if seen.display_h is not None else "",
        "; ".join(note for note in notes if note),
    )


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
            Point(
                check_in.h,
                charge,
                shown,
                f"{hours_text(check_in.h, exact=True)}: {charge * 100:.0f} %",
            )
        )
        if check_in.display_h is not None:
            promises.append((check_in.h, charge, check_in.h + check_in.display_h))
    legs = [(leg.from_h, leg.name) for leg in prediction.legs] if len(prediction.legs) > 1 else []
    ended = None
    if trial.ended_at is not None:
        ended = (trial.hours_to(trial.ended_at), trial.get_ended_why_display())
    last = (
        f"{points[-1].charge * 100:.0f} % at {hours_text(points[-1].h, exact=True)}"
        if points
        else "none yet"
    )
    description = f"{len(points)} check-ins, the last {last}"
    if not ended:
        description += f"; stops after {hours_text(prediction.stop_h[1])}, likely"
    run = Run(
        points,
        prediction.fan,
        legs,
        promises,
        core.stop_at,
        core.start_charge,
        _planned_h(planned),
        ended,
    )
    return fan(run, f"Charge during {trial.name}", description)


def _planned_h(planned: Forecast | None) -> float | None:
    """Hours of the forecast at the start; None if no stop was predicted."""
    if planned is None or planned.stop_h[1] >= planned.most_h - 1e-6:
        return None
    return planned.stop_h[1]
