"""Which measurement of a load narrows its profile most."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import timedelta

from needle.estimate import DEFAULT_SPREAD, Estimate
from needle.message import Message, message
from needle.profile.energy import (
    LONG_ENOUGH_H,
    STEADY_ENOUGH_H,
    count_error,
    hours_to_settle_count,
)
from needle.profile.evidence import Evidence
from needle.profile.kinds import Kind
from needle.profile.use_process import DISPERSION, UsePrior, UseProcess
from needle.profile.variation import HOURS_A_DAY

#: Age from which something is measured again.
OLD = timedelta(days=365)


#: Uses and hours after which it is known how often something is used.
ENOUGH_USES, SOME_DAYS_H = 30, 72.0
#: What is in use for less than this a day is counted use by use, h.
SHORT_USE_H = 1.0
#: A counter is left on for no longer than this only to settle its last digit, h.
LONGEST_COUNT_H = 30 * 24.0


@dataclass(frozen=True)
class Advice:
    """A recommended measurement.

    Attributes
    ----------
    what : Message
        What it determines or corrects.
    method : Message
        Instrument and method.
    minutes : float
        Duration, min.
    narrows : str
        The figure that becomes more precise: ``"mean"``, ``"running watts"``, ``"start"``,
        ``"duty"`` or ``"power factor"``.
    spread_after : float
        Relative spread of that figure afterwards.
    """

    what: Message
    method: Message
    minutes: float
    narrows: str
    spread_after: float

    @property
    def said(self) -> Message:
        """Both in one sentence."""
        return message("advice", what=self.what, method=self.method)


def advise_mean(
    mean: Estimate, evidence: Evidence, hours_per_day: float | None = None
) -> list[Advice]:
    """Return measurements that narrow the mean power, for hours of use per day if known."""
    after = evidence.watched.span(_hours_to_grade_a(evidence.kind))
    if evidence.by_task:
        if mean.grade == "A":
            return []
        what, how = message("task-from-one-run"), message("count-one-more")
        return [Advice(what, how, _task_minutes(evidence), "mean", after)]
    advice = _advise_counter(mean, evidence)
    if mean.grade != "A":
        advice.append(_advise_longer(mean, evidence, hours_per_day, after))
    return advice


def advise_uses(
    uses: UseProcess, prior: UsePrior, evidence: Evidence, stated: bool
) -> list[Advice]:
    """Return measurements that narrow how often a load is used, best first."""
    if uses.seen >= ENOUGH_USES and uses.hours_seen >= SOME_DAYS_H:
        return []
    hours = max(HOURS_A_DAY, SOME_DAYS_H - uses.hours_seen)
    after = spread_after(uses, prior, hours)
    what = message("uses-few", uses=uses.seen, hours=uses.hours_seen)
    if uses.hours_seen <= 0:
        what = message("uses-stated" if stated else "uses-unknown")
    how = message("count-days", meter=evidence.meter, hours=hours, again=bool(evidence.runs))
    return [Advice(what, how, hours * 60, "mean", after)]


def spread_after(uses: UseProcess, prior: UsePrior, hours: float) -> float:
    """Relative spread of the daily energy once a counter ran for some more hours."""
    total_h = uses.hours_seen + hours
    count = max(1.0, uses.seen + uses.per_day.value * hours / HOURS_A_DAY)
    days = max(1.0, total_h / HOURS_A_DAY)
    return math.hypot(math.sqrt(DISPERSION / count), prior.day_spread / math.sqrt(days))


def _advise_counter(mean: Estimate, evidence: Evidence) -> list[Advice]:
    """What to do if a counter has not moved, or its resolution limits the mean."""
    runs = evidence.runs
    if not runs:
        return []
    total_wh, total_h = sum(run.wh for run in runs), sum(run.hours for run in runs)
    step = max(run.step_wh for run in runs)
    if total_wh <= 0:
        what, how = message("counter-not-moved"), message("leave-on-a-day", hours=LONG_ENOUGH_H)
        return [Advice(what, how, LONG_ENOUGH_H * 60, "mean", DEFAULT_SPREAD["B"])]
    error = count_error(total_wh, step)
    if error <= 0.05:
        return []
    more = min(LONGEST_COUNT_H, hours_to_settle_count(mean.value, step) - total_h)
    how = message("keep-counting", hours=max(0.1, more))
    if more == LONGEST_COUNT_H:
        how = message("finer-counter")
    what = message("last-digit", error=error)
    return [Advice(what, how, more * 60, "mean", DEFAULT_SPREAD["B"])]


#: Advice on a mean by its grade.
_MEAN_OF_GRADE = {"B": "mean-metered-briefly", "C": "mean-from-label", "D": "mean-guessed"}


def _advise_longer(
    mean: Estimate, evidence: Evidence, hours_per_day: float | None, after: float
) -> Advice:
    """Measure for long enough to reach grade A."""
    kind, runs = evidence.kind, evidence.runs
    more = max(0.5, _hours_to_grade_a(kind) - sum(run.hours for run in runs))
    what = message(_MEAN_OF_GRADE[mean.grade])
    how = message("leave-counter-on", meter=evidence.meter, hours=more, again=bool(runs))
    minutes = more * 60
    if kind.by_use and hours_per_day is not None and hours_per_day < SHORT_USE_H:
        # A load that runs for minutes is not left on a counter for hours.
        how = message("count-one-use", meter=evidence.meter)
        minutes = min(minutes, 60 * hours_per_day)
    return Advice(what, how, minutes, "mean", after)


def _task_minutes(evidence: Evidence) -> float:
    """Duration of another task, min; an hour if none was timed."""
    timed = [task.minutes / task.runs for task in evidence.tasks if task.minutes]
    return max(timed, default=60.0)


def _hours_to_grade_a(kind: Kind) -> float:
    """Hours of measuring after which the mean has grade A, h."""
    return LONG_ENOUGH_H if kind.varies else STEADY_ENOUGH_H


def advise_rest(
    evidence: Evidence,
    running: Estimate,
    has_running: bool,
    has_resting: bool,
    has_factor: bool,
    start: Estimate,
) -> list[Advice]:
    """Return measurements that narrow start, running and resting W, power factor and duty."""
    kind, known_after = evidence.kind, DEFAULT_SPREAD["B"]
    advice = []
    if start.grade == "D" and kind.start_factor[2] > 1.5:
        what, how = message("no-start-reading"), message("clamp-one-start", meter=evidence.meter)
        advice.append(Advice(what, how, 5, "start", known_after))
    advice += _advise_running(evidence, running, has_running)
    if not has_resting and not kind.by_use and kind.duty != (1.0, 1.0, 1.0):
        what, how = message("no-resting-watts"), message("meter-at-rest", meter=evidence.meter)
        advice.append(Advice(what, how, 5, "duty", known_after))
    if not has_factor and kind.power_factor[0] < 1:
        what, how = message("power-factor-from-table"), message("read-together")
        advice.append(Advice(what, how, 5, "power factor", 0.03))
    cycles = None if evidence.runs else evidence.cycles
    if cycles is not None and cycles.more_cycles > 0:
        minutes = cycles.more_cycles * cycles.period_min
        what = message("duty-from-cycles", cycles=cycles.count)
        how = message("tally-more", cycles=cycles.more_cycles, hours=minutes / 60)
        advice.append(Advice(what, how, minutes, "duty", 0.039))
    return advice


def _advise_running(evidence: Evidence, running: Estimate, measured: bool) -> list[Advice]:
    if not measured:
        what, how = message("no-running-watts"), message("meter-when-steady", meter=evidence.meter)
        return [Advice(what, how, 5, "running watts", DEFAULT_SPREAD["B"])]
    if running.spread <= 0.05 or running.grade == "A":
        return []
    what, how = message("few-running-readings"), message("read-again-later")
    return [Advice(what, how, 5, "running watts", running.spread / 1.4)]
