"""Mean power, duty and energy per task, from counters, tallies, charge drops and labels."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial

from needle.estimate import (
    DEFAULT_SPREAD,
    DISPLAY_BEND,
    STATED_SPREAD,
    Z90,
    Estimate,
    from_limits,
    pool,
    product,
)
from needle.measure.cycles import cycle_spread
from needle.measure.readings import (
    ChargeDrop,
    EnergyRun,
    Label,
    Recorded,
    ShortRun,
    Tally,
    Task,
)
from needle.message import Message, message
from needle.profile.kinds import Kind
from needle.profile.states import repeated_spread
from needle.profile.variation import HOURS_A_DAY, UNSEEN_SPREAD, cut_off_spread, span_spread
from needle.supply.supply_tests import ADAPTER

#: Hours after which a mean is known: of what differs from day to day, and of a steady load.
LONG_ENOUGH_H, STEADY_ENOUGH_H = 24.0, 2.0
#: Cycles after which a duty is worth having.
ENOUGH_CYCLES = 6
#: How one run of a task differs from another (relative sd), until runs show it.
TASK_SPREAD = 0.08
#: Relative sd of one span of a load that is used in some spans and not in others (general value).
_USED_OR_NOT = 1.0
#: Time to note a moment by ear or eye, limits in s.
STOPWATCH_S = 2.0
#: Difference of starts within which two runs of a meter are one, h, and share of the longer.
_SAME_START_H, _SAME_START = 0.25, 0.03
_HOURS_PER_YEAR = 8760.0


@dataclass(frozen=True)
class Cycles:
    """Complete on/off cycles that were observed.

    Attributes
    ----------
    duty : Estimate
        Share of time running.
    count : int
        Number of complete cycles.
    period_min : float
        Mean length of a cycle, min.
    more_cycles : int
        Number of further cycles until the duty is known to ±5 % (10th to 90th percentile).
    """

    duty: Estimate
    count: int
    period_min: float
    more_cycles: int

    @classmethod
    def of(cls, duty: Estimate, count: int, period_min: float) -> Cycles:
        """Return cycles with the number of further cycles that are needed."""
        wanted = count * (duty.spread * Z90 / 0.05) ** 2
        return cls(duty, count, period_min, max(0, math.ceil(wanted) - count))


#: How well people note when a count began and ended (sd of both together, min).
CLOCK_MIN = 2.4


def clock_spread(hours: float) -> float:
    """Relative sd of a time that was read off a clock."""
    return CLOCK_MIN / 60 / hours


def count_error(wh: float, step_wh: float) -> float:
    """Relative error limit from a counter's last digit: half a digit over the count."""
    return 0.5 * step_wh / wh if wh > 0 else math.inf


def hours_to_settle_count(mean_w: float, step_wh: float, limit: float = 0.05) -> float:
    """Hours until half a digit of the counter is below ``limit`` of its total, at ``mean_w`` W."""
    return 0.5 * step_wh / (limit * mean_w) if mean_w > 0 else math.inf


@dataclass(frozen=True)
class Watched:
    """Assumed behaviour of a load between readings, which limits what a measuring period shows.

    Attributes
    ----------
    kind : Kind
    day_spread : float
        Relative sd of a day's mean.
    cycle_min : float
        Length of a cycle, min.
    duty : float
        Share of time running.
    """

    kind: Kind
    day_spread: float
    cycle_min: float
    duty: float

    def span(self, hours: float) -> float:
        """Relative sd from day-to-day and time-of-day variation after some hours."""
        return span_spread(self.kind, hours, self.day_spread)

    def cut_off(self, hours: float) -> float:
        """Relative sd from incomplete cycles at the ends of a measuring period."""
        return cut_off_spread(self.kind, hours, self.cycle_min, self.duty)

    def unseen(self, hours: float) -> float:
        """Relative sd from rare states that a counter may have included too often or not at all."""
        return UNSEEN_SPREAD if self.kind.rarer and hours < HOURS_A_DAY else 0.0


def without_read_on(runs: Sequence[EnergyRun]) -> list[EnergyRun]:
    """Runs without those that a longer run contains (the same counter, read again later).

    Runs without times are kept. Counting the same energy twice adds no information.
    """
    return [run for run in runs if not any(_goes_on(longer, run) for longer in runs)]


def _goes_on(longer: EnergyRun, run: EnergyRun) -> bool:
    """Whether a run is the continuation of another, without a reset."""
    mine, other = run.context, longer.context
    same_meter = (mine.meter_name, mine.instrument) == (other.meter_name, other.instrument)
    if mine.at is None or other.at is None or not same_meter or longer.counted != run.counted:
        return False
    near_h = max(_SAME_START_H, _SAME_START * longer.hours)
    read_later_h = (other.at - mine.at).total_seconds() / 3600
    more_h = longer.hours - run.hours
    return more_h > near_h and abs(read_later_h - more_h) <= near_h and longer.wh >= run.wh


def _is_settled(runs: Sequence[EnergyRun]) -> bool:
    """Whether the counter's resolution is at most 5 % of the energy counted."""
    return count_error(sum(run.wh for run in runs), max(run.step_wh for run in runs)) <= 0.05


def from_counter(runs: Sequence[EnergyRun], watched: Watched, dc: bool = False) -> Estimate | None:
    """Mean W from energy counters; for a load with an AC adapter (not ``dc``), at its plug.

    The spread combines the counter's last digit, the meter's accuracy, incomplete cycles, and
    day-to-day and time-of-day variation (:mod:`needle.profile.variation`).
    """
    counted = [run for run in runs if run.wh > 0]
    if not counted:
        return None
    total_h = sum(run.hours for run in runs)
    enough = LONG_ENOUGH_H if watched.kind.varies else STEADY_ENOUGH_H
    grade = "A" if total_h >= enough and _is_settled(counted) else "B"
    means = [_counter_mean(run, watched, grade, dc) for run in counted]
    # One meter's gain is common to all that it read.
    shared = min(run.context.meter().shared_sd for run in counted)
    mean = replace(pool(means, math.hypot(watched.span(total_h), shared)), grade=grade)
    if len(counted) == len(runs):
        return mean
    # Spans in which the counter stood still are part of the time: used in some, not in others.
    moved_h = sum(run.hours for run in counted)
    how = (*mean.how, message("nothing-in-more", hours=total_h - moved_h))
    spread = math.hypot(mean.spread, _USED_OR_NOT / math.sqrt(len(runs)))
    return replace(mean, value=mean.value * moved_h / total_h, spread=spread, grade="B", how=how)


#: How far under its bound the likely value of a mean lies of which nothing was seen, and how wide
#: open that is: a fifth of it, within a factor of five (general values).
_LIKELY_OF_BOUND = 0.2


def at_most(bound_w: float, how: Message) -> Estimate:
    """A mean with only an upper bound, which becomes its 90th percentile (grade B, metered)."""
    likely = _LIKELY_OF_BOUND * bound_w
    return from_limits(_LIKELY_OF_BOUND * likely, likely, bound_w, how, "B")


def from_still_counters(runs: Sequence[EnergyRun]) -> Estimate | None:
    """Mean W from counters that did not move: at most their last digit over their hours."""
    hours = sum(run.hours for run in runs)
    if hours <= 0 or any(run.wh > 0 for run in runs):
        return None
    digits_wh = sum(max(run.step_wh, LEAST_STEP_WH) for run in runs)
    return at_most(digits_wh / hours, message("nothing-counted", hours=hours, digits_wh=digits_wh))


#: The last digit of a counter that shows none, Wh; and how long one use of a load lasts of which
#: nothing is known, h (general value).
LEAST_STEP_WH, ONE_USE_H = 0.1, 5 / 60


def from_still_captures(captures: Sequence[Recorded], use_wh: float) -> Estimate | None:
    """Mean W from captures without any power: at most half a use over their hours.

    Parameters
    ----------
    captures : sequence of Recorded
    use_wh : float
        Energy of one use or cycle of the load, Wh.
    """
    hours = sum(capture.covered_h for capture in captures if capture.wh <= 0)
    if hours <= 0 or use_wh <= 0 or any(capture.wh > 0 for capture in captures):
        return None
    return at_most(0.5 * use_wh / hours, message("nothing-recorded", hours=hours, use_wh=use_wh))


def _counter_mean(run: EnergyRun, watched: Watched, grade: str, dc: bool) -> Estimate:
    meter = run.context.meter()
    # The last digit may have been about to turn at both ends.
    digits = count_error(run.wh, run.step_wh) * math.sqrt(2 / 3)
    spread = math.sqrt(
        watched.span(run.hours) ** 2
        + watched.cut_off(run.hours) ** 2
        + digits**2
        + meter.shared_sd**2
        + clock_spread(run.hours) ** 2
    )
    mean_w = run.wh / run.hours
    how = message("counted", wh=run.wh, hours=run.hours, meter=meter.words, mean_w=mean_w)
    if run.counted == "dc" and not dc:
        # Its adapter's loss comes on top where it is fed from a plug.
        why = message("counted-on-dc", left=ADAPTER.value)
        at_plug = replace(ADAPTER, value=1 / ADAPTER.value, grade=grade, how=(why,))
        return product(Estimate(mean_w, spread, grade, (how,)), at_plug)
    return Estimate(mean_w, spread, grade, (how,))


def from_times_a_day(runs: Sequence[ShortRun]) -> Estimate | None:
    """Wh per day of short uses, as often per day as the newest such reading says.

    The frequency is an estimate by a person and has the spread of a guess (grade C).
    """
    times_a_day = times_per_day(runs)
    if times_a_day is None:
        return None
    times = Estimate(times_a_day, DEFAULT_SPREAD["C"], "C")
    return of_uses([run.as_task() for run in runs], times)


def of_uses(tasks: Sequence[Task], times_a_day: Estimate) -> Estimate | None:
    """Wh per day of tasks, as often per day as somebody says; None without any task."""
    task_wh = per_task(tasks)[0]
    if task_wh is None:
        return None
    how = (message("times-a-day-stated", times=times_a_day.value),)
    return product(task_wh, replace(times_a_day, how=how))


def times_per_day(runs: Sequence[ShortRun]) -> float | None:
    """Uses per day, from the newest short run that states them."""
    return next((run.times_per_day for run in reversed(runs) if run.times_per_day), None)


def from_tallies(tallies: Sequence[Tally]) -> Cycles | None:
    """Duty over the complete cycles of all tallies.

    Ratio estimator R = Σon/Σperiod with its standard error (W. G. Cochran, "Sampling Techniques",
    3rd ed., eq. 2.46); the scatter is pooled with a prior.
    """
    pairs = sorted(pair for tally in tallies for pair in _whole_cycles(tally))
    if not pairs:
        return None
    on_s = sum(on for on, _ in pairs)
    all_s = sum(period for _, period in pairs)
    count, duty = len(pairs), on_s / all_s
    deviations = [(on - duty * period) / (duty * all_s / count) for on, period in pairs]
    timing = STOPWATCH_S * math.sqrt(2 / 3) * math.sqrt(count) / on_s
    spread = math.hypot(cycle_spread(deviations), timing)
    how = message("cycles-tallied", cycles=count, on_h=on_s / 3600, of_h=all_s / 3600, duty=duty)
    return Cycles.of(Estimate(duty, spread, "B", (how,), 1.0), count, all_s / count / 60)


def tallied(tally: Tally) -> tuple[float, float, int]:
    """Seconds on and in all of a tally's complete cycles, and their number."""
    pairs = _whole_cycles(tally)
    return sum(on for on, _ in pairs), sum(period for _, period in pairs), len(pairs)


def _whole_cycles(tally: Tally) -> list[tuple[float, float]]:
    """(on seconds, period seconds) of each complete cycle, beginning with the first edge.

    Incomplete cycles at the ends would bias the duty, so they are not counted.
    """
    edges = tally.edges
    cycles = []
    for first in range(0, len(edges) - 2, 2):
        (name, start), (_, middle), (_, end) = edges[first : first + 3]
        on_s = middle - start if name == "on" else end - middle
        cycles.append((on_s, end - start))
    return cycles


#: What stands for a figure of a charge drop that was left empty: the supply's own idle draw as a
#: share of its Wh an hour, the conversion on an AC route, and what the label's Wh really hold.
_IDLE_SHARE, _IDLE_SPREAD = 0.012, 0.7
_EFFICIENCY, _EFFICIENCY_SPREAD = 0.90, 0.06
_HELD, _HELD_SPREAD = 0.93, 0.06


def from_charge_drop(drop: ChargeDrop, watched: Watched) -> Estimate | None:
    """Mean W from a fall of the supply's charge; None if the idle draw alone explains it.

    The subtracted idle energy is uncertain too: a small difference of large figures is imprecise.
    An empty field is unknown, not 0 W or 100 %.
    """
    fallen = drop.start - drop.end
    held = drop.supply_wh * (1.0 if drop.proven else _HELD)
    taken_w = held * fallen / drop.hours
    idle_w = _IDLE_SHARE * drop.supply_wh if drop.idle_w is None else drop.idle_w
    efficiency = _EFFICIENCY if drop.efficiency is None else drop.efficiency
    mean_w = (taken_w - idle_w) * efficiency
    if mean_w <= 0:
        return None
    step = drop.step * math.sqrt(2 / 12) / fallen
    charge = math.hypot(step, DISPLAY_BEND / fallen, 0.02 if drop.proven else _HELD_SPREAD)
    idle_spread = STATED_SPREAD if drop.idle_w is not None else _IDLE_SPREAD
    conversion = 0.02 if drop.efficiency is not None else _EFFICIENCY_SPREAD
    off_w = math.hypot(taken_w * charge, idle_w * idle_spread) * efficiency
    spread = math.sqrt(
        (off_w / mean_w) ** 2
        + conversion**2
        + watched.span(drop.hours) ** 2
        + watched.cut_off(drop.hours) ** 2
    )
    how = message(
        "charge-fell",
        fallen=fallen,
        held_wh=held,
        hours=drop.hours,
        idle_w=idle_w,
        usual_idle=drop.idle_w is None,
        mean_w=mean_w,
    )
    return Estimate(mean_w, min(2.0, spread), "B", (how,))


def from_energy_label(labels: Sequence[Label]) -> Estimate | None:
    """Mean W from an energy label's kWh per year (grade C)."""
    yearly = [label.kwh_per_year for label in labels if label.kwh_per_year]
    if not yearly:
        return None
    kwh = max(yearly)
    mean_w = kwh * 1000 / _HOURS_PER_YEAR
    how = message("energy-label", yearly_kwh=kwh, mean_w=mean_w)
    return Estimate(mean_w, DEFAULT_SPREAD["C"], "C", (how,))


def per_task(tasks: Sequence[Task]) -> tuple[Estimate | None, Estimate | None, Estimate | None]:
    """Wh per task, Wh per piece, and mean W during a task; each None if unknown."""
    if not tasks:
        return None, None, None
    runs = sum(task.runs for task in tasks)
    ordered = sorted(tasks, key=lambda task: (task.wh, task.minutes or 0.0, task.pieces or 0.0))
    accuracy = min(task.context.meter().shared_sd for task in tasks)
    known = partial(_ratio, ordered, runs=runs, accuracy=accuracy)
    return (
        known(lambda task: float(task.runs), code="task-wh"),
        known(lambda task: task.pieces, code="piece-wh"),
        known(lambda task: (task.minutes or 0) / 60, code="task-watts"),
    )


def _ratio(
    tasks: Sequence[Task],
    amount_of: Callable[[Task], float | None],
    runs: int,
    accuracy: float,
    code: str,
) -> Estimate | None:
    """Total Wh over a total amount, of the tasks that have one; None without any."""
    pairs = [(task.wh, amount) for task in tasks if (amount := amount_of(task))]
    if not pairs:
        return None
    spread = repeated_spread([wh / amount for wh, amount in pairs], accuracy, TASK_SPREAD)
    if len(pairs) == 1:
        spread = math.hypot(accuracy, TASK_SPREAD / math.sqrt(runs))
    value = sum(wh for wh, _ in pairs) / sum(amount for _, amount in pairs)
    grade = "A" if runs >= 2 else "B"
    return Estimate(value, spread, grade, (message(code, tasks=runs, value=value),))
