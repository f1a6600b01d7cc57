"""The profile of a load: its figures from all readings, with range, grade and advice."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from needle.document import DocumentError
from needle.electrical import MAINS_V
from needle.estimate import Estimate, disagree, from_limits, pool, product, worst
from needle.measure.instruments import Instrument
from needle.measure.readings import (
    AssumedDuty,
    ChargeDrop,
    EnergyRun,
    Label,
    Reading,
    Recorded,
    ShortRun,
    Spot,
    Start,
    Tally,
    Task,
)
from needle.message import Message, message
from needle.profile import energy, recorded, states
from needle.profile.advice import Advice, advise_mean, advise_rest, advise_uses
from needle.profile.course import (
    Change,
    CoursePoint,
    change_of,
    in_force,
    left_out_undated,
    points_of,
)
from needle.profile.evidence import Evidence, of_type
from needle.profile.kinds import KINDS, Kind
from needle.profile.runs_by import as_used, use_prior
from needle.profile.start import start_seconds, start_va
from needle.profile.use_evidence import mean_of, process_of
from needle.profile.use_process import UsePrior, UseProcess
from needle.profile.variation import HOURS_A_DAY, with_unseen

_FULL = (1.0, 1.0, 1.0)
#: A counter that ran this long covers a load's whole day, use included.
_WHOLE_DAY_H = 20.0
#: Relative difference between a label's volts and the mains beyond which it runs on other volts.
_OTHER_VOLTS = 0.25


@dataclass(frozen=True)
class LoadRecord:
    """A load with all of its readings.

    Attributes
    ----------
    name : str
    kind : str
        Key of :data:`needle.profile.kinds.KINDS`.
    readings : tuple of Reading
        In any order.
    mains_v : float
        Mains voltage, used for readings without volts, V.
    setting : str
        Setting of the profile; empty to choose the best measured one.
    hours_per_day : float or None
        Hours of use per day, for loads that run only when used.
    never_rarer : bool
        Whether it is known to have no rare state, such as a defrost.
    set_c : float or None
        Set point, °C.
    dc : bool
        Whether it runs on DC: volts times amps are then watts, and there is no power factor.
    legs_open : bool
        Whether its mains are split and nobody said if it is on one leg or on both.
    runs_by : str
        Who decides when it runs, a key of :data:`needle.profile.kinds.RUNS_BY`; empty if nobody
        said.
    uses_per_day : Estimate or None
        How often a day it is used, as people say.
    use_min : float or None
        How long each time, min, as people say.
    in_hours : bool
        Whether it is used for some hours of the day, which are known.
    """

    name: str
    kind: str
    readings: tuple[Reading, ...]
    mains_v: float = MAINS_V
    setting: str = ""
    hours_per_day: float | None = None
    never_rarer: bool = False
    set_c: float | None = None
    dc: bool = False
    legs_open: bool = False
    runs_by: str = ""
    uses_per_day: Estimate | None = None
    use_min: float | None = None
    in_hours: bool = False


@dataclass(frozen=True)
class Profile:
    """What a load does.

    Attributes
    ----------
    mean_w : Estimate
        Mean true power, W (while in use, for loads that run by use).
    running_w : Estimate
        In the running state, W.
    resting_w : Estimate or None
        W; None when never read.
    duty : Estimate
        Share of time running, energy-equivalent.
    power_factor : Estimate
        Of the running state.
    start_va : Estimate
        Start-up VA.
    start_s : float
        Duration of the start-up surge, s.
    cycle_min : float
        Length of a cycle, min: measured, or else usual for the kind.
    wh_per_day, task_wh, piece_wh : Estimate or None
        Wh; None if it depends on use or was not measured.
    task_min : float or None
        Mean duration of a task, min; None if none was timed.
    day_spread, day_swing : float
        Relative sd of a day's mean about the long-run one, and amplitude of its swing over a day.
    states : tuple of State
        All states read, in all settings.
    setting : str
        Setting that the figures belong to.
    measured_room_c : float or None
        Mean room temperature of the readings that give the mean, °C.
    grade : str
        Grade of the mean, on which runtimes depend.
    how, notices : tuple of Message
        How each figure is known, in the order in which one would check them; what to mind.
    advice : tuple of Advice
        Best first.
    dc : bool
        Whether it runs on DC; its power factor is then 1 and has no meaning.
    meter : str
        The person's own meter, if all readings were made with the same one; else empty.
    meter_spread : float
        Relative sd that all readings of this meter share.
    meter_id : str
        First name of the meter, which seeds its random stream.
    course : tuple of CoursePoint
        Dated means, oldest first, including those that no longer count.
    change : Change or None
        Latest significant change of its power.
    newest_at : datetime or None
        Date of the newest reading that counts; None without dates.
    va_spread : float or None
        Relative sd of its running VA if these were measured; None if they follow from W and power
        factor.
    watched_h : float
        Hours over which the mean was measured, including rests; 0 if it is a mean while in use.
    hours_per_day, times_per_day : float or None
        Hours of use, or uses, per day, if stated.
    by_task : bool
        Whether it is measured by task rather than by hours of use.
    runs_by : str
        Who decides when it runs.
    uses : UseProcess or None
        What is known of its uses, if it runs by uses.
    wander : float
        How its W wander within the hour, relative sd.
    block : Task or None
        A short capture as one task, for a plan that uses it by tasks.
    """

    mean_w: Estimate
    running_w: Estimate
    resting_w: Estimate | None
    duty: Estimate
    power_factor: Estimate
    start_va: Estimate
    start_s: float
    cycle_min: float
    wh_per_day: Estimate | None
    task_wh: Estimate | None
    piece_wh: Estimate | None
    task_min: float | None
    day_spread: float
    day_swing: float
    states: tuple[states.State, ...]
    setting: str
    measured_room_c: float | None
    grade: str
    how: tuple[Message, ...]
    notices: tuple[Message, ...]
    advice: tuple[Advice, ...]
    dc: bool = False
    meter: str = ""
    meter_spread: float = 0.0
    meter_id: str = ""
    course: tuple[CoursePoint, ...] = ()
    change: Change | None = None
    newest_at: datetime | None = None
    va_spread: float | None = None
    watched_h: float = 0.0
    hours_per_day: float | None = None
    times_per_day: float | None = None
    by_task: bool = False
    runs_by: str = ""
    uses: UseProcess | None = None
    wander: float = 0.0
    block: Task | None = None

    def within_use(self, use_h: float) -> float:
        """Ratio (at least 1) of its power while in use to its mean, for hours of use per day.

        Energy counted over longer than the use was drawn within the use.
        """
        if use_h <= 0 or self.watched_h <= use_h:
            return 1.0
        return min(self.watched_h, HOURS_A_DAY) / use_h


class NoEvidence(DocumentError):
    """Raised when no reading gives any power or energy."""


def derive(record: LoadRecord) -> Profile:
    """Return the profile of a load's readings, which may be in any order.

    Raises
    ------
    NoEvidence
        No reading gives any power or energy, not even a label.
    """
    kind = KINDS[record.kind]
    kind = as_used(kind, record.runs_by, _in_hours(record))
    if record.dc:
        kind = replace(kind, power_factor=(1.0, 1.0, 1.0))
    record, of_volts = _at_its_volts(record)
    setting = states.chosen_setting(record.readings, record.setting)
    evidence, course, change = _evidence_in_force(record, kind, setting)
    all_readings = record.readings
    if change is not None:
        record = replace(record, readings=tuple(in_force(record.readings, change)))
    known_states, notices = _states(record, kind, evidence)
    mine = [state for state in known_states if state.setting in ("", setting)]
    running_state = _running(mine, setting)
    resting_state = next((state for state in mine if state.name in states.RESTING), None)
    task_wh, piece_wh, task_w = energy.per_task(evidence.tasks)
    power = _power(record, evidence, running_state, resting_state, task_w)
    factor, measured_factor = _power_factor(kind, None if record.dc else running_state)
    running_va = Estimate(
        power.running.value / max(factor.value, 0.05), power.running.spread, power.running.grade
    )
    start, start_notices = start_va(evidence.starts, running_va, kind, factor.value, record.mains_v)
    advice = [
        *_advise_mean(record, evidence, power),
        *advise_rest(
            evidence,
            power.running,
            running_state is not None,
            resting_state is not None,
            measured_factor,
            start,
        ),
    ]
    return Profile(
        mean_w=power.mean,
        running_w=power.running,
        resting_w=resting_state.watts if resting_state else None,
        duty=power.duty,
        power_factor=factor,
        start_va=start,
        start_s=start_seconds(evidence.starts, kind),
        cycle_min=evidence.watched.cycle_min,
        wh_per_day=_per_day(record, evidence, power),
        task_wh=task_wh,
        piece_wh=piece_wh,
        task_min=_task_min(task_wh, task_w),
        day_spread=evidence.watched.day_spread if power.prior is None else power.prior.day_spread,
        day_swing=kind.day_swing if power.prior is None else 0.0,
        states=tuple(known_states),
        setting=setting,
        measured_room_c=_measured_room(evidence.readings),
        grade=power.mean.grade,
        how=_chain(
            power.mean,
            power.running,
            resting_state,
            power.duty,
            None if record.dc else factor,
            start,
        ),
        notices=_all_notices(
            record, all_readings, change, [*of_volts, *notices, *power.notices, *start_notices]
        ),
        advice=tuple(advice),
        dc=record.dc,
        course=tuple(course),
        change=change,
        newest_at=_newest_at(evidence.readings),
        **_meter_fields(_shared_meter(evidence.readings)),
        va_spread=running_state.va_spread if running_state and not record.dc else None,
        watched_h=_watched_h(record, evidence, power),
        hours_per_day=record.hours_per_day,
        times_per_day=_times_per_day(record, evidence),
        by_task=evidence.by_task,
        runs_by=record.runs_by or kind.runs_by,
        uses=power.uses,
        wander=kind.wander,
        block=recorded.block_of(evidence.captures),
    )


def _advise_mean(record: LoadRecord, evidence: Evidence, power: _Power) -> list[Advice]:
    """Measurements that narrow the mean power, or how often it is used."""
    if power.uses is not None and power.prior is not None and not evidence.by_task:
        stated = record.uses_per_day is not None
        return advise_uses(power.uses, power.prior, evidence, stated)
    return advise_mean(power.mean, evidence, record.hours_per_day)


def _states(
    record: LoadRecord, kind: Kind, evidence: Evidence
) -> tuple[list[states.State], list[Message]]:
    """States of all settings, from spot readings and captures, with notices."""
    spots = of_type(record.readings, Spot)
    spots += [run.as_spot() for run in of_type(record.readings, ShortRun)]
    read, notices = states.find_states(spots, kind, record.mains_v)
    captured = recorded.states_of(of_type(record.readings, Recorded))
    known = recorded.merged(read, captured)
    return known, notices + states.over_breaker(evidence.labels, known, record.mains_v)


@dataclass(frozen=True)
class _Power:
    """Mean and running W and the duty, with notices; and the uses that it runs by."""

    mean: Estimate
    running: Estimate
    duty: Estimate
    notices: list[Message]
    prior: UsePrior | None = None
    uses: UseProcess | None = None


def _power(
    record: LoadRecord,
    evidence: Evidence,
    running_state: states.State | None,
    resting_state: states.State | None,
    task_w: Estimate | None,
) -> _Power:
    """Power in one setting: the mean of the best grade, and running W that agree with it."""
    kind = evidence.kind
    measured = running_state.watts if running_state else None
    from_label = states.running_from_label(evidence.labels, kind, record.mains_v)
    rest_w = resting_state.watts.value if resting_state else 0.0
    prior = None
    if not _in_hours(record):
        cycle_min = evidence.cycles.period_min if evidence.cycles else None
        prior = use_prior(kind, record.runs_by, measured or from_label, cycle_min)
    if prior is not None:
        known = measured or from_label or _usual_running(kind)
        by_uses = _power_of_uses(record, evidence, prior, known, rest_w)
        if by_uses is not None and not evidence.by_task:
            return by_uses
    means, notices = _mean_candidates(
        evidence, measured or from_label, rest_w, task_w, measured=measured is not None
    )
    # A bound limits the mean over the day, and not the power while it runs.
    bound = _bound(evidence, measured or from_label)
    running = measured or _running_without_spot(kind, from_label, means, bound)
    if bound is not None:
        means = [*means, bound]
    mean, checks = _settle_mean(means, evidence, running, rest_w)
    running, doubts = _not_below(running, mean)
    duty, clipped = _duty(mean, running, rest_w)
    found = [*notices, *checks, *doubts, *clipped]
    if prior is None or by_uses is None:
        return _Power(mean, running, duty, found)
    return _Power(mean, running, duty, found, prior, by_uses.uses)


def _power_of_uses(
    record: LoadRecord, evidence: Evidence, prior: UsePrior, running: Estimate, rest_w: float
) -> _Power | None:
    """Power of a load that runs by uses, over the whole day."""
    uses = process_of(evidence, prior, running, rest_w, record.uses_per_day, record.use_min)
    if uses is None:
        return None
    mean = mean_of(uses, rest_w)
    running, doubts = _not_below(running, mean)
    duty, clipped = _duty(mean, running, rest_w)
    notices = _counted_means(evidence)[1]
    return _Power(mean, running, duty, [*notices, *doubts, *clipped], prior, uses)


def _in_hours(record: LoadRecord) -> bool:
    """Whether it is used for a part of the day."""
    if record.uses_per_day is not None and not record.in_hours:
        return False
    hours = record.hours_per_day
    return record.in_hours or (hours is not None and hours < HOURS_A_DAY)


def _usual_running(kind: Kind) -> Estimate:
    """Running W that loads of this kind usually draw (grade D)."""
    low, high = kind.usual_w
    how = message("watts-usual", kind=kind.one)
    return from_limits(low, math.sqrt(low * high), high, how)


def _times_per_day(record: LoadRecord, evidence: Evidence) -> float | None:
    """Uses a day as stated, with the load or a short run."""
    if record.uses_per_day is not None:
        return record.uses_per_day.value
    return energy.times_per_day(evidence.short_runs)


def _all_notices(
    record: LoadRecord,
    all_readings: Sequence[Reading],
    change: Change | None,
    notices: Sequence[Message],
) -> tuple[Message, ...]:
    """Notices in order of importance, each once."""
    first: list[Message | None] = []
    last: list[Message] = []
    if change is not None:
        first = [change.notice, left_out_undated(all_readings, change)]
    if record.legs_open and any(_needs_volts(reading) for reading in all_readings):
        first.append(message("legs-open", volts=record.mains_v))
    setting = states.chosen_setting(record.readings, record.setting)
    if setting and any(reading.context.setting not in ("", setting) for reading in record.readings):
        last.append(message("of-setting", setting=setting))
    return tuple(dict.fromkeys(filter(None, [*first, *notices, *last])))


def _task_min(task_wh: Estimate | None, task_w: Estimate | None) -> float | None:
    """Mean duration of a task, min; None if none was timed."""
    return 60 * task_wh.value / task_w.value if task_wh and task_w else None


def _meter_fields(meter: Instrument | None) -> dict[str, Any]:
    """The profile's figures of the meter that all readings share."""
    if meter is None:
        return {}
    return {
        "meter": meter.name,
        "meter_id": meter.id or meter.name,
        "meter_spread": meter.shared_sd,
    }


def _newest_at(readings: Sequence[Reading]) -> datetime | None:
    """Date of the newest reading; None without dates."""
    return max((at for reading in readings if (at := reading.context.at)), default=None)


def _power_factor(kind: Kind, running: states.State | None) -> tuple[Estimate, bool]:
    """Power factor of the running state and whether it was measured; else its kind's."""
    if running is not None and running.power_factor is not None:
        return running.power_factor, True
    return replace(
        from_limits(*kind.power_factor, message("pf-usual", kind=kind.one)), most=1.0
    ), False


def _at_its_volts(record: LoadRecord) -> tuple[LoadRecord, list[Message]]:
    """The record at its label's volts if these differ from the mains, with a notice.

    Amps that were read without volts are then taken at those volts.
    """
    rated = [label.volts for label in of_type(record.readings, Label) if label.volts]
    other = next((v for v in rated if abs(v / record.mains_v - 1) > _OTHER_VOLTS), None)
    if other is None or record.dc or not any(map(_needs_volts, record.readings)):
        return record, []
    notice = message("other-volts", label_v=other, mains_v=record.mains_v)
    return replace(record, mains_v=other, legs_open=False), [notice]


def _watched_h(record: LoadRecord, evidence: Evidence, power: _Power) -> float:
    """Hours over which the mean was measured, including rests; 0 if it is a mean while in use.

    A self-regulating load without stated hours of use is taken to run always.
    """
    if power.uses is not None and not evidence.by_task:
        return HOURS_A_DAY
    if evidence.kind.self_regulating and record.hours_per_day is None:
        return 0.0
    spans = [run.hours for run in evidence.runs] + [drop.hours for drop in evidence.drops]
    spans += [capture.covered_h for capture in evidence.captures if not recorded.is_task(capture)]
    if spans:
        return max(spans)
    labelled = energy.from_energy_label(evidence.labels)
    return HOURS_A_DAY if labelled is not None and power.mean.how == labelled.how else 0.0


def _evidence_in_force(
    record: LoadRecord, kind: Kind, setting: str
) -> tuple[Evidence, list[CoursePoint], Change | None]:
    """Readings of a setting that count, its dated means, and the change that excludes others."""
    readings = tuple(states.in_setting(record.readings, setting))
    evidence = Evidence(kind, readings, record.never_rarer, record.dc)
    course = points_of(readings, kind, evidence.watched, record.set_c, record.dc)
    change = change_of(course)
    if change is not None:
        evidence = replace(evidence, readings=tuple(in_force(readings, change)))
    return evidence, course, change


def _needs_volts(reading: Reading) -> bool:
    """Whether a reading needs a voltage that it does not give."""
    if not isinstance(reading, Spot | Start | Label) or reading.amps is None:
        return False
    return reading.volts is None and reading.watts is None and reading.va is None


def _not_below(running: Estimate, mean: Estimate) -> tuple[Estimate, list[Message]]:
    """Running W raised to the mean, if the mean is higher and better known."""
    if running.value >= mean.value:
        return running, []
    doubts = []
    if mean.value > running.value * (1 + 3 * running.spread) + 1e-9:
        doubts.append(message("mean-above-running", mean_w=mean.value, running_w=running.value))
    why = message("lifted-to-mean", mean_w=mean.value)
    spread = max(running.spread, mean.spread)
    return replace(running, value=mean.value, spread=spread, how=(*running.how, why)), doubts


def _running(mine: Sequence[states.State], setting: str) -> states.State | None:
    """The running state: the one with this name, else the highest that is not resting."""
    awake = [reading for reading in mine if reading.name not in states.RESTING]
    if not awake:
        return None
    return max(
        awake,
        key=lambda state: (state.setting == setting, state.name == "running", state.watts.value),
    )


def _mean_candidates(
    evidence: Evidence,
    running: Estimate | None,
    rest_w: float,
    task_w: Estimate | None,
    measured: bool,
) -> tuple[list[Estimate], list[Message]]:
    """All ways in which the readings give a mean, and notices on what was not used."""
    counted, notices = _counted_means(evidence)
    observed = _observed_means(evidence, running, rest_w, measured)
    candidates = [
        with_unseen(mean, evidence.kind, evidence.rarer_settled, takes_all, evidence.longest_seen_h)
        for means, takes_all in ((counted, True), (observed, False))
        for mean in means
        if mean is not None
    ]
    if not evidence.runs and task_w is not None:
        candidates.append(task_w)
    labelled = energy.from_energy_label(evidence.labels)
    return candidates + ([labelled] if labelled is not None else []), notices


def _counted_means(evidence: Evidence) -> tuple[list[Estimate | None], list[Message]]:
    """Means from counters and charge drops, which include rare states; with notices."""
    notices = []
    counter = energy.from_counter(evidence.runs, evidence.watched, evidence.dc)
    if counter is None and evidence.runs:
        notices.append(message("counter-still"))
    counted = [counter]
    for drop in evidence.drops:
        implied = energy.from_charge_drop(drop, evidence.watched)
        counted.append(implied)
        if implied is None:
            notices.append(message("drop-all-idle"))
        elif drop.efficiency is None:
            notices.append(message("drop-efficiency-assumed"))
    return counted, notices


def _observed_means(
    evidence: Evidence, running: Estimate | None, rest_w: float, measured: bool
) -> list[Estimate | None]:
    """Means from tallies, an assumed duty, and captures, which may have missed rare states."""
    means: list[Estimate | None] = []
    watched, tallied = evidence.watched, evidence.tallied
    if tallied is not None and running is not None:
        mean_w = rest_w + tallied.duty.value * max(0.0, running.value - rest_w)
        hours = tallied.count * tallied.period_min / 60
        spread = math.sqrt(running.spread**2 + tallied.duty.spread**2 + watched.span(hours) ** 2)
        grade = worst((running.grade, tallied.duty.grade)) if measured else "C"
        means.append(Estimate(mean_w, spread, grade, running.how + tallied.duty.how))
    if evidence.assumed is not None and running is not None:
        means.append(_by_assumed(evidence.assumed, running, rest_w))
    return [*means, recorded.mean_of(evidence.captures, watched)]


def _bound(evidence: Evidence, running: Estimate | None) -> Estimate | None:
    """Upper bound of the mean if counters and captures showed nothing."""
    still = energy.from_still_counters(evidence.runs)
    if still is not None or running is None:
        return still
    return energy.from_still_captures(evidence.captures, _use_wh(evidence, running.value))


def _use_wh(evidence: Evidence, running_w: float) -> float:
    """Wh of one use or cycle, as measured or as usual for the kind."""
    task_wh = energy.per_task(evidence.tasks)[0]
    if task_wh is not None:
        return task_wh.value
    watched = evidence.watched
    on_h = watched.cycle_min / 60 * watched.duty if evidence.kind.cycles else energy.ONE_USE_H
    return running_w * on_h


def _by_assumed(assumed: AssumedDuty, running: Estimate, rest_w: float) -> Estimate:
    """Mean at an assumed duty: a guess with its range, grade D."""
    how = message("duty-assumed", low=assumed.low, high=assumed.high)
    duty = from_limits(assumed.low, math.sqrt(assumed.low * assumed.high), assumed.high, how)
    above = max(0.0, running.value - rest_w)
    mean_w = rest_w + duty.value * above
    spread = math.hypot(running.spread, duty.spread) * duty.value * above / max(mean_w, 1e-9)
    return Estimate(mean_w, spread, "D", (*running.how, how), running.value)


def _running_without_spot(
    kind: Kind,
    from_label: Estimate | None,
    means: Sequence[Estimate],
    bound: Estimate | None = None,
) -> Estimate:
    """Running W without a spot reading; from an upper bound of the mean if there is no more."""
    if not means and from_label is None and bound is not None:
        return bound
    best = min(means, key=lambda mean: (mean.grade, mean.spread), default=None)
    steady = kind.duty in (_FULL, None)
    if best is not None and steady and (from_label is None or best.grade < "D"):
        return best
    if from_label is not None:
        if best is not None and best.value > from_label.value:
            return replace(from_label, value=best.value)
        return from_label
    if best is None or kind.duty is None:
        raise NoEvidence("readings", "nothing gives watts or energy yet: start with its label")
    duty = from_limits(*kind.duty)
    how = (*best.how, message("running-from-duty", kind=kind.one))
    return product(best, replace(duty, value=1 / duty.value), how)


def _usual_mean(kind: Kind, running: Estimate, rest_w: float) -> Estimate:
    """The mean without any measurement of it: running W at the kind's usual duty."""
    if kind.modulates:
        return _of_a_speed(running)
    if kind.wander > 0:
        return _of_a_moment(running)
    if kind.duty is None or kind.duty == _FULL:
        return running
    usual = from_limits(*kind.duty, message("duty-usual", kind=kind.one))
    cycling = replace(running, value=max(0.0, running.value - rest_w))
    guessed = product(cycling, replace(usual, most=1.0))
    return replace(guessed, value=guessed.value + rest_w, most=running.value)


def _settle_mean(
    means: Sequence[Estimate], evidence: Evidence, running: Estimate, rest_w: float
) -> tuple[Estimate, list[Message]]:
    """The mean of the best grade; means of lower grades are compared with it, not averaged in."""
    if not means:
        return _usual_mean(evidence.kind, running, rest_w), []
    grade = min(estimate.grade for estimate in means)
    # Ways that watched the same days share what those days were like.
    watched_h = max(evidence.longest_h, sum(run.hours for run in evidence.runs))
    proven = [estimate for estimate in means if estimate.grade == grade]
    narrow = _MUCH_WIDER * min(estimate.spread for estimate in proven)
    best = pool(
        [estimate for estimate in proven if estimate.spread <= narrow],
        evidence.watched.span(watched_h),
    )
    notices = [
        message(
            "means-differ",
            best=best.how[0],
            best_w=best.value,
            other=other.how[-1],
            other_w=other.value,
        )
        for other in sorted(means, key=lambda mean: (mean.grade, mean.value))
        if other.grade != grade and disagree(best, other)
    ]
    return best, notices


#: Ratio to the narrowest spread beyond which another way to the mean is left out.
_MUCH_WIDER = 1.4
#: One reading of what wanders is at least so uncertain (relative sd).
_MOMENT_SPREAD = 0.30


#: The mean of what modulates over one reading of it: it may rest in a cool room (general values).
_OF_A_SPEED = (0.5, 0.95, 1.25)


def _of_a_speed(running: Estimate) -> Estimate:
    """Mean of a load that follows its work, and may rest: from momentary readings."""
    usual = from_limits(*_OF_A_SPEED)
    grade = worst((running.grade, "C"))
    how = (*running.how, message("speed-follows-work"))
    return replace(product(running, usual, how), grade=grade)


def _of_a_moment(running: Estimate) -> Estimate:
    """Mean of a load with varying W, from momentary readings."""
    spread, grade = max(running.spread, _MOMENT_SPREAD), worst((running.grade, "C"))
    how = (*running.how, message("watts-wander"))
    return replace(running, spread=spread, grade=grade, how=how)


def _duty(mean: Estimate, running: Estimate, rest_w: float) -> tuple[Estimate, list[Message]]:
    """Energy-equivalent duty (mean - resting)/(running - resting), clipped to 0…1."""
    span = running.value - rest_w
    above = mean.value - rest_w
    if rest_w > 0 and (span <= 0 or above <= 0):
        duty, notices = _duty(mean, running, 0.0)
        return duty, [message("resting-not-below"), *notices]
    if span <= 0 or above <= 0:
        return Estimate(0.0, 0.0, worst((mean.grade, running.grade))), []
    share = min(1.0, above / span)
    if mean == running:
        how = (message("no-break"),)
        return Estimate(1.0, 0.0, running.grade, how, 1.0), []
    spread = math.hypot(mean.spread * mean.value / above, running.spread * running.value / span)
    how = (message("duty-from-means", duty=share),)
    return Estimate(share, spread, worst((mean.grade, running.grade)), how, 1.0), []


def _measured_room(readings: Sequence[Reading]) -> float | None:
    rooms = sorted(
        reading.context.room_c
        for reading in readings
        if isinstance(reading, EnergyRun | Tally | ChargeDrop | Recorded)
        and reading.context.room_c is not None
    )
    return sum(rooms) / len(rooms) if rooms else None


def _per_day(record: LoadRecord, evidence: Evidence, power: _Power) -> Estimate | None:
    mean = power.mean
    if power.uses is not None:
        return mean.scaled(HOURS_A_DAY) if not evidence.by_task else power.uses.day_wh
    if record.hours_per_day is not None:
        watched_h = _watched_h(record, evidence, power)
        if watched_h > record.hours_per_day:
            # What it was watched for holds its use of the day, and its rests.
            return mean.scaled(min(watched_h, HOURS_A_DAY))
        return mean.scaled(record.hours_per_day, message("hours-a-day", hours=record.hours_per_day))
    if per_day := energy.from_times_a_day(evidence.short_runs):
        return per_day
    longest_h = max((run.hours for run in evidence.runs), default=0.0)
    if evidence.by_task or (evidence.kind.by_use and longest_h < _WHOLE_DAY_H):
        return None
    return mean.scaled(24.0)


def _chain(
    mean: Estimate,
    running: Estimate,
    resting: states.State | None,
    duty: Estimate,
    factor: Estimate | None,
    start: Estimate,
) -> tuple[Message, ...]:
    """The figures in the order in which a person would check them, each with its grade."""
    parts = [("mean", mean), ("running", running)]
    if resting is not None:
        parts.append(("resting", resting.watts))
    parts += [("duty", duty), *([("power factor", factor)] if factor else []), ("start", start)]
    return tuple(
        message("figure-known", figure=name, grade=estimate.grade, how=estimate.how)
        for name, estimate in parts
        if estimate.how
    )


def _shared_meter(readings: Sequence[Reading]) -> Instrument | None:
    """The person's own meter that all metered readings used; None if there is not just one."""
    metered = [
        reading.context
        for reading in readings
        if isinstance(reading, Spot | EnergyRun | Task | ShortRun | Recorded)
    ]
    owned = {context.own.name: context.own for context in metered if context.own}
    alone = len(owned) == 1 and all(context.own for context in metered)
    return next(iter(owned.values())) if alone else None
