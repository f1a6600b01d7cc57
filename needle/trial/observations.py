"""Likelihood of each check-in, for the particles of a trial.

Measured figures correct the particles; figures that are only bounded, or momentary, weight them by
a log-likelihood, (particles,), 0 for an exact prediction.

A charge in percent or bars is the supply's own estimate: non-linear, sticky and with jumps. Wh and
Ah are counted by a meter with a gain error of its own. Volts, resting or under load, follow the
chemistry's table. A momentary W may be from any point of a cycle.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from scipy.special import log_ndtr, ndtr

from needle.percentiles import range_of
from needle.plan.energy.bank import MINUTES_PER_HOUR
from needle.supply.display import KNEE, charge_shown, true_charge
from needle.supply.voltage import open_circuit_v
from needle.trial.particles import (
    BOW,
    GAIN,
    IN_WH,
    KNEE_SCORE,
    LAG,
    SPREADS,
    VOLTS,
    Particles,
    Predicted,
    Spread,
)
from needle.trial.trial import CheckIn

LogLikelihood = Callable[[Particles], np.ndarray]
#: Tells the particles; whether the figure may be plainly wrong, and whether it was taken to be so.
Observation = Callable[[Particles, bool], bool]
Spreads = Callable[[Particles], tuple[Spread, ...]]

#: A display's own noise beside its last digit (share); how often it sticks or jumps, and by what.
DISPLAY_SD, STICKS, STUCK_SD = 0.012, 0.12, 0.045
#: How far a display usually lags behind what is left, since it sticks before it falls (share).
LAG_USUAL = 0.01
#: How often a figure is plainly wrong (misread, another counter), and by how much of the charge.
WRONG, WRONG_SD = 0.0005, 0.25
#: Difference below which two readings of a display share their error, share.
ALIKE, LEAST_WORTH = 0.03, 0.15
#: That a bar is still lit is worth this much of a first look at it.
BAR_WORTH = 0.4
#: Noise of a bar's edge, share, and how often a bar is still lit or already out.
EDGE_SD, BAR_STICKS = 0.012, 0.03
#: What a count strays beside its gain, of itself; and of what the battery holds.
COUNT_SD, COUNT_STEP = 0.004, 0.0008
#: Minutes by which tasks begin earlier or later than planned.
TIMING_MIN = 12
#: Volts of a chemistry's table, of themselves.
VOLTS_SD = 0.012
#: Minutes either side in which W of a moment are looked for; how far they stray at the least; how
#: often they are of a moment that was not predicted.
MOMENT_MIN, MOMENT_SD, ODD_MOMENT = 30, 0.06, 0.15
#: How often W are odd that are read right after something was changed.
ODD_AT_A_CHANGE = 0.02
#: W in of a moment: clouds pass.
SUN_MOMENT_SD = 0.25
#: How sharply a stop is drawn, share.
STOP_SD = 0.008


def knee_of(particles: Particles) -> np.ndarray:
    """True charge at which each particle's display shows a fifth."""
    return _knee(particles.state[KNEE_SCORE])


def _knee(score: np.ndarray) -> np.ndarray:
    least, most = KNEE
    return np.asarray(least + (most - least) * ndtr(score))


def behind(shown: np.ndarray | float, particles: Particles) -> np.ndarray:
    """The true charge behind a displayed one, (particles,); a full or empty one is what it says."""
    shown = np.broadcast_to(shown, (len(particles),))
    straight = np.maximum(0.0, shown - _lag(particles))
    true = true_charge(straight, knee_of(particles), particles.state[BOW])
    return np.where((shown <= 0) | (shown >= 1), shown, true)


#: Displays that are tried against what earlier runs showed; how far they may bow then (share), and
#: how far such a charge, shown or true, may be off (share).
TRIED_DISPLAYS, KNOWN_BOW, KNOWN_SD = 6000, 0.1, 0.025


def bend_display(particles: Particles, known: Sequence[tuple[float, float]]) -> None:
    """Draw the particles' displays from those that fit earlier runs.

    ``known`` are charges shown, each with the true one (shares).
    """
    drawn = _fitting_displays(known, len(particles), particles.rng)
    for name, values in zip((KNEE_SCORE, BOW, LAG), drawn, strict=True):
        particles.state[name] = values


def true_charges(
    known: Sequence[tuple[float, float]], shown: Sequence[float]
) -> list[tuple[float, float, float]]:
    """True charge behind each one shown, by earlier runs: 10th, 50th, 90th percentile (shares)."""
    score, bow, lag = _fitting_displays(known, TRIED_DISPLAYS, np.random.default_rng(1))
    found = []
    for share in shown:
        behind_it = true_charge(np.maximum(0.0, share - _lagging(lag)), _knee(score), bow)
        found.append(range_of(behind_it))
    return found


def _fitting_displays(
    known: Sequence[tuple[float, float]], count: int, rng: np.random.Generator
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Scores of the knee, bows and lags that fit charges shown with the true ones, (count,)."""
    score, bow, lag = rng.standard_normal((3, TRIED_DISPLAYS))
    bow, lag = KNOWN_BOW * bow, SPREADS[LAG] * lag
    shown, true = (np.array(values)[:, None] for values in zip(*known, strict=True))
    predicted = np.minimum(1.0, charge_shown(true, _knee(score), bow) + _lagging(lag))
    log_weight = -0.5 * (((predicted - shown) / KNOWN_SD) ** 2).sum(axis=0)
    weight = np.exp(log_weight - log_weight.max())
    picked = rng.choice(TRIED_DISPLAYS, count, p=weight / weight.sum())
    return score[picked], bow[picked], lag[picked]


def _lag(particles: Particles) -> np.ndarray:
    return _lagging(particles.state[LAG])


def _lagging(lag: np.ndarray) -> np.ndarray:
    return np.asarray(LAG_USUAL * np.exp(np.minimum(lag, 3.0)))


def observations(
    check_in: CheckIn, last_shown: float | None = None, first_of_leg: bool = False
) -> list[tuple[str, Observation]]:
    """Return a check-in's observations: one per figure, with its kind.

    A display that has hardly changed since the last check-in (``last_shown``, share) adds little
    information: its error is the same. The first W in a new leg (``first_of_leg``) are read for
    what runs in it, and rarely of an odd moment.
    """
    found: list[tuple[str, Observation]] = []
    if check_in.shown is not None:
        moved = 1.0 if last_shown is None else abs(check_in.shown - last_shown)
        least = LEAST_WORTH if check_in.percent is not None else BAR_WORTH
        worth = float(np.clip(moved / ALIKE, least, 1.0))
        found.append(("charge", _shown(check_in, worth)))
    if check_in.wh is not None:
        found.append(("wh", _counted(check_in.wh, check_in.counted)))
    if check_in.ah is not None:
        found.append(("ah", _amp_hours(check_in.ah, check_in.counted)))
    if check_in.wh_in is not None:
        found.append(("wh_in", _charged(check_in.wh_in)))
    if check_in.volts is not None:
        found.append(("volts", as_observation(_volts(check_in.volts))))
    if check_in.drawn_w:
        odd = ODD_AT_A_CHANGE if first_of_leg else ODD_MOMENT
        found.append(("watts", as_observation(_watts(check_in.drawn_w, check_in.watts_at, odd))))
    if check_in.watts_in:
        found.append(("watts_in", as_observation(_watts_in(check_in.watts_in))))
    return found


def as_observation(log_likelihood: LogLikelihood) -> Observation:
    """Wrap a log-likelihood as an observation."""

    def sight(particles: Particles, may_be_wrong: bool) -> bool:
        particles.observe(log_likelihood)
        return False

    return sight


def _measuring(predicted: Predicted, measured: float, spreads: Spreads) -> Observation:
    """An observation that corrects the particles; the last spread is that of a wrong figure."""

    def sight(particles: Particles, may_be_wrong: bool) -> bool:
        every = spreads(particles)
        which = particles.assimilate(predicted, measured, every if may_be_wrong else every[:-1])
        return which == len(every) - 1

    return sight


def _shown(check_in: CheckIn, worth: float) -> Observation:
    if check_in.percent is not None:
        return _percent(check_in.percent, worth)
    assert check_in.bars is not None and check_in.of
    log_likelihood = _bars(check_in.bars, check_in.of)
    return as_observation(lambda particles: worth * log_likelihood(particles))


def _normal(off: np.ndarray, sd: np.ndarray | float) -> np.ndarray:
    """Log-likelihood of a deviation, normal with standard deviation ``sd``; 0 at no deviation."""
    return np.asarray(-0.5 * (off / sd) ** 2 - np.log(sd / np.mean(sd)))


def _mixed(
    off: np.ndarray, sd: np.ndarray | float, *wider: tuple[float, np.ndarray | float]
) -> np.ndarray:
    """Log-likelihood of a mixture: normal, with shares of wider spreads."""
    log_likelihood = _normal(off, sd) + np.log(1 - sum(share for share, _ in wider))
    for share, wide in wider:
        both = np.hypot(sd, wide)
        log_likelihood = np.logaddexp(
            log_likelihood, np.log(share) + _normal(off, both) - np.log(both / sd)
        )
    return np.asarray(log_likelihood)


def _percent(shown: float, worth: float) -> Observation:
    def predicted(particles: Particles) -> np.ndarray:
        display = charge_shown(particles.bank.charge, knee_of(particles), particles.state[BOW])
        return np.asarray(np.minimum(display + _lag(particles), 1.0))

    own = float(np.hypot(0.01 / np.sqrt(12), DISPLAY_SD) / np.sqrt(worth))

    def spreads(particles: Particles) -> tuple[Spread, ...]:
        held_wh = float(np.median(particles.held_wh))
        sd = float(np.hypot(own, _timing_wh(particles) / held_wh))
        return (
            Spread(sd, 1 - STICKS - WRONG),
            Spread(float(np.hypot(sd, STUCK_SD)), STICKS),
            Spread(WRONG_SD, WRONG),
        )

    return _measuring(predicted, shown, spreads)


def _timing_wh(particles: Particles) -> float:
    """Wh by which energy differs if a task begins a little earlier or later than planned.

    Half of the deviation of the neighbouring minutes from their mean.
    """
    first, last = max(0, particles.minute - TIMING_MIN), particles.minute + TIMING_MIN
    about = particles.expected.drawn_wh.between(particles.rows, first, last)
    usual = np.exp(particles.expected.log_level[particles.rows]) * (last - first) / MINUTES_PER_HOUR
    return float(np.median(np.abs(about - usual) * particles.level)) / 2


def _bars(lit: int, of: int) -> LogLikelihood:
    def log_likelihood(particles: Particles) -> np.ndarray:
        edges = particles.bar_edges(of)
        upper = edges[:, lit] if lit < of else np.full(len(particles), 2.0)
        lower = edges[:, lit - 1] if lit > 0 else np.full(len(particles), -2.0)
        charge = particles.bank.charge
        lit_share = ndtr((charge - lower) / EDGE_SD) * ndtr((upper - charge) / EDGE_SD)
        # A bar that sticks: it may be the neighbour's turn.
        off = np.maximum(np.maximum(lower - charge, charge - upper), 0.0)
        stuck = np.exp(-0.5 * (off / STUCK_SD) ** 2)
        return np.asarray(np.log((1 - BAR_STICKS) * lit_share + BAR_STICKS * stuck + 1e-12))

    return log_likelihood


def _counted(wh: float, place: str) -> Observation:
    def predicted(particles: Particles) -> np.ndarray:
        return particles.counted(place) * np.exp(particles.state[GAIN])

    return _measuring(predicted, wh, lambda particles: _count_spreads(wh, particles))


def _amp_hours(ah: float, place: str) -> Observation:
    """Observation of Ah, by the battery's nominal volts."""

    def predicted(particles: Particles) -> np.ndarray:
        volts = particles.expected.plan.supply.battery.volts or 1.0
        off = np.exp(particles.state[GAIN] + particles.state[VOLTS])
        return np.asarray(particles.counted(place) * off / volts)

    def spreads(particles: Particles) -> tuple[Spread, ...]:
        volts = particles.expected.plan.supply.battery.volts or 1.0
        in_wh = _count_spreads(ah * volts, particles)
        return tuple(Spread(spread.sd / volts, spread.share) for spread in in_wh)

    return _measuring(predicted, ah, spreads)


def _charged(wh: float) -> Observation:
    return _measuring(
        lambda particles: particles.state[IN_WH],
        wh,
        lambda particles: _count_spreads(wh, particles),
    )


def _count_spreads(wh: float, particles: Particles) -> tuple[Spread, ...]:
    held_wh = float(np.median(particles.held_wh))
    sd = float(np.hypot(np.hypot(COUNT_SD * wh, COUNT_STEP * held_wh), _timing_wh(particles))) + 0.3
    return Spread(sd, 1 - WRONG), Spread(WRONG_SD * held_wh, WRONG)


def _volts(volts: float) -> LogLikelihood:
    """Observation of volts, between loaded and fully rested."""

    def log_likelihood(particles: Particles) -> np.ndarray:
        battery = particles.expected.plan.supply.battery
        if battery.volts is None:
            return np.zeros(len(particles))
        charge = np.clip(particles.bank.charge, 0.0, 1.0)
        rested = open_circuit_v(battery.chemistry, battery.volts, charge)
        return _normal(rested - volts, VOLTS_SD * battery.volts)

    return log_likelihood


def _watts(watts: float, place: str, odd: float) -> LogLikelihood:
    def log_likelihood(particles: Particles) -> np.ndarray:
        first = max(0, particles.minute - MOMENT_MIN)
        block = particles.demand(first, particles.minute + MOMENT_MIN)
        by_minute = block.routes_w.get(place, block.drawn_w)
        mean = by_minute.mean(axis=1)
        sd = np.hypot(by_minute.std(axis=1), MOMENT_SD * mean) + 0.5
        return _mixed(mean - watts, sd, (odd, max(watts, 1.0)))

    return log_likelihood


def _watts_in(watts: float) -> LogLikelihood:
    def log_likelihood(particles: Particles) -> np.ndarray:
        first = max(0, particles.minute - MOMENT_MIN)
        sources_w = particles.demand(first, particles.minute + MOMENT_MIN).sources_w
        if sources_w is None:
            return np.zeros(len(particles))
        mean = sources_w.mean(axis=1)
        sd = np.hypot(sources_w.std(axis=1), SUN_MOMENT_SD * mean) + 5.0
        return _mixed(mean - watts, sd, (ODD_MOMENT, max(watts, 10.0)))

    return log_likelihood


def still_runs(stop: Predicted) -> Observation:
    """Observation that the trial has not stopped at a charge (share)."""
    return as_observation(
        lambda particles: log_ndtr((particles.bank.charge - stop(particles)) / STOP_SD)
    )


def stops_at(stop: Predicted) -> Observation:
    """Observation that the trial stopped at a charge (share) just now."""
    return _measuring(
        lambda particles: particles.bank.charge - stop(particles),
        0.0,
        lambda particles: (Spread(STOP_SD), Spread(WRONG_SD)),
    )
