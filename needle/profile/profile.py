"""The profile of a load: its figures from all readings, with range, grade and advice."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from needle.estimate import Estimate, from_limits
from needle.measure.instruments import Instrument
from needle.measure.readings import (
    ChargeDrop,
    EnergyRun,
    Label,
    ProgrammeStep,
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
from needle.profile.power import Power, in_set_hours, power_of
from needle.profile.record import LoadRecord, NoEvidence
from needle.profile.runs_by import as_used
from needle.profile.start import start_seconds, start_va
from needle.profile.use_process import UseProcess
from needle.profile.variation import HOURS_A_DAY
from needle.quantity import MOST_DC_V

#: A counter that ran this long covers a load's whole day, use included.
_WHOLE_DAY_H = 20.0
#: Relative difference between a label's volts and the mains beyond which it runs on other volts.
_OTHER_VOLTS = 0.25


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
    programme : tuple of ProgrammeStep
        Steps of one task, where a capture of one shows a programme.
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
    programme: tuple[ProgrammeStep, ...] = ()

    @property
    def runs_by_uses(self) -> bool:
        """Whether its uses fall at any hour, so that a plan draws how often it is used."""
        return self.uses is not None and not self.by_task

    def within_use(self, use_h: float) -> float:
        """Ratio (at least 1) of its power while in use to its mean, for hours of use per day.

        Energy counted over longer than the use was drawn within the use.
        """
        if use_h <= 0 or self.watched_h <= use_h:
            return 1.0
        return min(self.watched_h, HOURS_A_DAY) / use_h


def derive(record: LoadRecord) -> Profile:
    """Return the profile of a load's readings, which may be in any order.

    Raises
    ------
    NoEvidence
        No reading gives any power or energy, not even a label.
    """
    kind = KINDS[record.kind]
    kind = as_used(kind, record.runs_by, in_set_hours(record))
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
    power = power_of(record, evidence, running_state, resting_state, task_w)
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
        programme=recorded.programme_of(evidence.captures),
    )


def _advise_mean(record: LoadRecord, evidence: Evidence, power: Power) -> list[Advice]:
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
    if record.legs_open and any(needs_volts(reading) for reading in all_readings):
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
    if not any(map(needs_volts, record.readings)):
        return record, []
    if record.dc:
        return _at_dc_volts(record)
    # Low volts are those behind its adapter.
    rated = [label.volts or 0.0 for label in of_type(record.readings, Label)]
    mains = [volts for volts in rated if volts > MOST_DC_V]
    other = next((v for v in mains if abs(v / record.mains_v - 1) > _OTHER_VOLTS), None)
    if other is None:
        return record, []
    notice = message("other-volts", label_v=other, mains_v=record.mains_v)
    return replace(record, mains_v=other, legs_open=False), [notice]


def _watched_h(record: LoadRecord, evidence: Evidence, power: Power) -> float:
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
    evidence = Evidence(kind, readings, record.never_rarer, record.dc, record.in_panel)
    course = points_of(readings, kind, evidence.watched, record.set_c, record.dc)
    change = change_of(course)
    if change is not None:
        evidence = replace(evidence, readings=tuple(in_force(readings, change)))
    return evidence, course, change


def _at_dc_volts(record: LoadRecord) -> tuple[LoadRecord, list[Message]]:
    """A DC load's record at the volts that were read beside other amps.

    It does not run at mains volts: amps without any volts are no evidence.

    Raises
    ------
    NoEvidence
        It has nothing else.
    """
    if record.mains_v <= MOST_DC_V:
        return record, []
    given = [r.volts or 0.0 for r in record.readings if isinstance(r, Spot | Start | Label)]
    # Mains volts are those before its adapter.
    own = [volts for volts in given if 0 < volts <= MOST_DC_V]
    if own:
        return replace(record, mains_v=own[-1]), [message("dc-volts-taken", volts=own[-1])]
    known = tuple(reading for reading in record.readings if not needs_volts(reading))
    if not known:
        raise NoEvidence("readings", "amps alone are no watts on DC: give the volts beside them")
    return replace(record, readings=known), [message("dc-volts-missing")]


def needs_volts(reading: Reading) -> bool:
    """Whether a reading needs a voltage that it does not give."""
    if not isinstance(reading, Spot | Start | Label) or reading.volts is not None:
        return False
    if reading.watts is not None or reading.va is not None:
        return False
    breaker_a = reading.breaker_a if isinstance(reading, Label) else None
    return reading.amps is not None or breaker_a is not None


def _running(mine: Sequence[states.State], setting: str) -> states.State | None:
    """The running state: the one with this name, else the highest that is not resting."""
    awake = [reading for reading in mine if reading.name not in states.RESTING]
    if not awake:
        return None
    return max(
        awake,
        key=lambda state: (state.setting == setting, state.name == "running", state.watts.value),
    )


def _measured_room(readings: Sequence[Reading]) -> float | None:
    rooms = sorted(
        reading.context.room_c
        for reading in readings
        if isinstance(reading, EnergyRun | Tally | ChargeDrop | Recorded)
        and reading.context.room_c is not None
    )
    return sum(rooms) / len(rooms) if rooms else None


def _per_day(record: LoadRecord, evidence: Evidence, power: Power) -> Estimate | None:
    mean = power.mean
    if power.uses is not None:
        return mean.scaled(HOURS_A_DAY) if not evidence.by_task else power.uses.day_wh
    if record.uses_per_day is not None and evidence.by_task:
        return energy.of_uses(evidence.tasks, record.uses_per_day)
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
