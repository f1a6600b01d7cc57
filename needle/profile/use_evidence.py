"""What the readings of a load say of its uses."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import replace

from needle.estimate import Z90, Estimate, from_limits, product
from needle.measure.readings import EnergyRun, Tally
from needle.message import message
from needle.profile import energy
from needle.profile.evidence import Evidence
from needle.profile.use_process import (
    DAY_H,
    STATED_TIMES_SPREAD,
    Counted,
    Seen,
    UsePrior,
    UseProcess,
    use_process,
)

#: A capture shorter than this was made of a use on purpose: it says nothing of how often, h.
ON_PURPOSE_H = 6.0
#: How alike the uses of one load are that were measured as tasks (relative sd of one).
TASK_USE_SPREAD = 0.30


def process_of(
    evidence: Evidence,
    prior: UsePrior,
    running: Estimate | None,
    rest_w: float,
    stated_per_day: Estimate | None = None,
    stated_min: float | None = None,
) -> UseProcess | None:
    """Return the process of a load's uses; None if nothing gives the energy of one.

    Parameters
    ----------
    evidence : Evidence
    prior : UsePrior
    running : Estimate or None
        Running W.
    rest_w : float
        W at rest, which are no part of a use.
    stated_per_day : Estimate or None
        Uses a day, as stated with the load.
    stated_min : float or None
        Length of one, min, as stated with the load.
    """
    if stated_min is not None:
        low, high = (stated_min * math.exp(side * Z90 * STATED_TIMES_SPREAD) for side in (-1, 1))
        prior = replace(prior, minutes=(low, stated_min, high))
    use_wh = _use_wh(evidence, prior, running, rest_w)
    if use_wh is None:
        return None
    times = energy.times_per_day(evidence.short_runs)
    if stated_per_day is None and times is not None:
        stated_per_day = Estimate(times, STATED_TIMES_SPREAD, "C")
    stated = [energy.from_energy_label(evidence.labels), _assumed(evidence, running, rest_w)]
    return use_process(
        prior,
        use_wh,
        [*_counted(evidence, rest_w)],
        [*_seen(evidence, running, rest_w)],
        stated_per_day,
        [mean.scaled(DAY_H) for mean in stated if mean is not None],
    )


def _assumed(evidence: Evidence, running: Estimate | None, rest_w: float) -> Estimate | None:
    """Mean W above rest at an assumed share of the time."""
    share = evidence.assumed
    if share is None or running is None or running.value <= rest_w:
        return None
    duty = from_limits(share.low, math.sqrt(share.low * share.high), share.high)
    return product(running.scaled(1 - rest_w / running.value), duty)


def _use_wh(
    evidence: Evidence, prior: UsePrior, running: Estimate | None, rest_w: float
) -> Estimate | None:
    """Energy of one use before any was seen: of tasks, or of its power and usual length."""
    task_wh = energy.per_task(evidence.tasks)[0]
    if task_wh is not None:
        runs = sum(task.runs for task in evidence.tasks)
        spread = math.hypot(task_wh.spread, TASK_USE_SPREAD / math.sqrt(runs))
        return Estimate(task_wh.value, spread, task_wh.grade, task_wh.how)
    if running is None or running.value <= rest_w:
        return None
    low, typical, high = prior.minutes
    sigma = math.hypot(math.log(high / low) / (2 * Z90), running.sigma_log)
    value = (running.value - rest_w) * typical / 60
    return Estimate(value, math.sqrt(math.expm1(sigma**2)), "D", running.how)


def _counted(evidence: Evidence, rest_w: float) -> Iterator[Counted]:
    """Counters, and falls of a charge."""
    for run in evidence.runs:
        yield _counter(run, rest_w)
    for drop in evidence.drops:
        implied = energy.from_charge_drop(drop, evidence.watched)
        if implied is not None:
            wh = max(0.0, implied.value - rest_w) * drop.hours
            yield Counted(0.97 * wh, 1.03 * wh, drop.hours, implied.spread)


def _counter(run: EnergyRun, rest_w: float) -> Counted:
    meter, rests_wh = run.context.meter(), rest_w * run.hours
    if run.wh <= 0:
        return Counted(0.0, max(run.step_wh, energy.LEAST_STEP_WH), run.hours, meter.shared_sd)
    half = max(run.step_wh / 2, 0.01 * run.wh)
    spread = math.hypot(meter.shared_sd, energy.clock_spread(run.hours))
    low, high = (max(0.0, run.wh + side * half - rests_wh) for side in (-1, 1))
    return Counted(low, max(high, run.step_wh / 2), run.hours, spread)


def _seen(evidence: Evidence, running: Estimate | None, rest_w: float) -> Iterator[Seen]:
    """Uses in captures, and by ear."""
    for capture in evidence.captures:
        if capture.covered_h < ON_PURPOSE_H:
            continue
        uses = capture.uses if capture.uses is not None else max(1, capture.whole_cycles)
        if capture.wh <= 0 or uses < 1:
            yield Seen(0, capture.covered_h)
        else:
            above_wh = capture.wh - (capture.idle_w or 0.0) * capture.covered_h
            yield Seen(uses, capture.covered_h, max(above_wh, 1e-3) / uses)
    for tally in evidence.of(Tally):
        on_s, all_s, count = energy.tallied(tally)
        if count:
            watts = None if running is None else max(0.0, running.value - rest_w)
            use_wh = None if watts is None else watts * on_s / count / 3600
            yield Seen(count, all_s / 3600, use_wh)


def mean_of(process: UseProcess, rest_w: float) -> Estimate:
    """Mean W over the day from a load's uses, with its grade."""
    value = rest_w + process.day_wh.value / DAY_H
    share = (process.day_wh.value / DAY_H) / value
    how = message(
        "uses-seen",
        uses=process.seen,
        hours=process.hours_seen,
        per_day=_ends(process.per_day),
        use_wh=process.use_wh.value,
        mean_w=value,
    )
    return Estimate(value, process.day_wh.spread * share, grade_of(process), (how,))


def _ends(estimate: Estimate) -> tuple[float, float, float]:
    return estimate.value, estimate.low, estimate.high


#: Uses and hours from which a process is known by a record (A), or by some of it (B).
_MANY_USES, _MANY_H, _SOME_USES = 30, 72.0, 3


def grade_of(process: UseProcess) -> str:
    """Grade of what is known of a load's uses."""
    if process.seen >= _MANY_USES and process.hours_seen >= _MANY_H:
        return "A"
    if process.seen >= _SOME_USES:
        return "B"
    return "C" if process.hours_seen > 0 else "D"
