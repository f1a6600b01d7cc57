"""Mean and running power of a load, and its duty, from the evidence of one setting."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from needle.estimate import Estimate, disagree, from_limits, pool, product, worst
from needle.measure.readings import AssumedDuty
from needle.message import Message, message
from needle.profile import energy, recorded, states
from needle.profile.evidence import Evidence
from needle.profile.kinds import Kind
from needle.profile.record import LoadRecord, NoEvidence
from needle.profile.runs_by import use_prior
from needle.profile.use_evidence import mean_of, process_of
from needle.profile.use_process import UsePrior, UseProcess
from needle.profile.variation import HOURS_A_DAY, with_unseen

_FULL = (1.0, 1.0, 1.0)


@dataclass(frozen=True)
class Power:
    """Mean and running W and the duty, with notices; and the uses that it runs by."""

    mean: Estimate
    running: Estimate
    duty: Estimate
    notices: list[Message]
    prior: UsePrior | None = None
    uses: UseProcess | None = None


def power_of(
    record: LoadRecord,
    evidence: Evidence,
    running_state: states.State | None,
    resting_state: states.State | None,
    task_w: Estimate | None,
) -> Power:
    """Return the power of a load in one setting; by its uses, if it runs by them."""
    measured = running_state.watts if running_state else None
    running = measured or states.running_from_label(evidence.labels, evidence.kind, record.mains_v)
    rest_w = resting_state.watts.value if resting_state else 0.0
    by_uses = _power_of_uses(record, evidence, running, rest_w)
    if by_uses is not None and not evidence.by_task:
        return by_uses
    by_states = _power_of_states(evidence, running, measured is not None, rest_w, task_w)
    if by_uses is None:
        return by_states
    return replace(by_states, prior=by_uses.prior, uses=by_uses.uses)


def _power_of_states(
    evidence: Evidence,
    known: Estimate | None,
    measured: bool,
    rest_w: float,
    task_w: Estimate | None,
) -> Power:
    """The mean of the best grade, and running W that agree with it.

    ``known`` are running W from readings (``measured``) or a label.
    """
    means, notices = _mean_candidates(evidence, known, rest_w, task_w, measured=measured)
    # A bound limits the mean over the day, and not the power while it runs.
    bound = _bound(evidence, known)
    running = known if measured else None
    running = running or _running_without_spot(evidence.kind, known, means, bound)
    if bound is not None:
        means = [*means, bound]
    mean, checks = _settle_mean(means, evidence, running, rest_w)
    running, doubts = _not_below(running, mean)
    duty, clipped = _duty(mean, running, rest_w)
    return Power(mean, running, duty, [*notices, *checks, *doubts, *clipped])


def _power_of_uses(
    record: LoadRecord, evidence: Evidence, known: Estimate | None, rest_w: float
) -> Power | None:
    """Power of a load that runs by uses, over the whole day; None for another."""
    if in_set_hours(record):
        return None
    cycle_min = evidence.cycles.period_min if evidence.cycles else None
    prior = use_prior(evidence.kind, record.runs_by, known, cycle_min)
    if prior is None:
        return None
    running = known or _usual_running(evidence.kind)
    uses = process_of(evidence, prior, running, rest_w, record.uses_per_day, record.use_min)
    if uses is None:
        return None
    mean = mean_of(uses, rest_w)
    running, doubts = _not_below(running, mean)
    duty, clipped = _duty(mean, running, rest_w)
    notices = _counted_means(evidence)[1]
    return Power(mean, running, duty, [*notices, *doubts, *clipped], prior, uses)


def in_set_hours(record: LoadRecord) -> bool:
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
