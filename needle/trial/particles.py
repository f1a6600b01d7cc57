"""Particle filter of a trial: the plan's draws, each with parameters of this particular run.

Every particle is one draw of the plan (its loads, starts, sky, battery) with its own factor on the
power, a random walk about that, a factor on its sun, a capacity, and a display curve. They are
weighted by each check-in and resampled if few of them carry the weight (N. Gordon, D. Salmond and
A. Smith 1993, IEE Proc. F 140, 107); resampled ones are perturbed slightly, keeping their spread
(J. Liu and M. West 2001, "Sequential Monte Carlo Methods in Practice", ch. 10).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from copy import copy
from dataclasses import dataclass, field

import numpy as np

from needle.plan.energy.bank import BLOCK, MINUTES_PER_HOUR
from needle.plan.energy.demand import Block
from needle.trial.expected import Expected
from needle.trial.trial import BATTERY

#: Minutes times particles of one forecast, and bounds of the number of particles.
CELLS, LEAST, MOST = 5e6, 700, 1200
#: Share of particles that carry the weight (effective number) under which they are resampled, and
#: under which a check-in is taken in step by step.
RESAMPLE, STEPWISE, MOST_STEPS = 0.5, 0.2, 25
#: How far resampled particles are moved, as a share of the spread of all.
MOVE = 0.2
#: The same if few particles predicted the observation.
FAR_MOVE = 1.0
#: Log-likelihood of the nearest particle below which none predicted it: three sd.
FAR = -4.5
#: Most steps in which a measured figure corrects the particles (A. Emerick and A. Reynolds 2013,
#: Computers and Geosciences 55, 3), and sd by which two figures seem to hang together by chance.
CORRECTIONS, BY_CHANCE = 6, 2.5
#: Ratio of predicted to measured spread beyond which a linear update is not valid.
BENT = 0.15
#: The same for demand with a wide spread (logarithm), such as in a new leg.
WIDE = 0.3

#: What each particle has of its own, besides its draw and its charge. Logarithms: of its mean W, of
#: a factor that wanders about it, of the mean W of its sources, of the Wh that its battery holds,
#: of factors on counts. The normal score of the display's knee, its bow, and the logarithm of how
#: far it lags behind.
LEVEL, WANDER, SUN, HELD, GAIN, VOLTS = "level", "wander", "sun", "held", "gain", "volts"
KNEE_SCORE, BOW, LAG = "knee", "bow", "lag"
#: Cumulative Wh: out of and into the battery's terminals, and the energy drawn as its charge
#: falls by it, Peukert's law included; with the true charge at the start they make the charge.
OUT_WH, IN_WH, COST_WH = "out", "in", "cost"
START = "start"
#: Spread (logarithm) of each at the start: what a plan does not know of a run, a counter's gain,
#: Ah turned to Wh by nominal volts; a display's bow, share.
SPREADS = {
    LEVEL: 0.02,
    SUN: 0.05,
    HELD: 0.0,
    GAIN: 0.01,
    VOLTS: 0.012,
    KNEE_SCORE: 1.0,
    BOW: 0.02,
    LAG: 0.9,
}
#: The sun's where only W in of some moments are known.
MEASURED_SUN = 0.15
#: How far a particle's watts, sun or battery may lie from what is believed (logarithm): 150 times.
FARTHEST = 5.0
#: How far the battery lies below its belief where that is far off (logarithm): batteries are worn
#: more often than they are better than they say.
WORN = -0.1


@dataclass(frozen=True)
class Part:
    """A group of particles that starts with some parameters far from expectation.

    Attributes
    ----------
    prior : float
        Weight at the start.
    share : float
        Share of the particles.
    spreads : dict of str to float
        Spreads that replace those of :data:`SPREADS`.
    """

    prior: float
    share: float
    spreads: Mapping[str, float] = field(default_factory=dict)

    @property
    def leg_spread(self) -> float:
        return FAR_OFF_LEG if LEVEL in self.spreads else LEG_SPREAD


_WATTS_OFF, _BATTERY_OFF = {LEVEL: 0.4, SUN: 0.6}, {HELD: 0.22}
#: Hypotheses: all as believed; demand and sources far off; the battery; both. Separate, so that
#: clouds are no evidence on the battery.
PARTS = (
    Part(0.86, 0.45),
    Part(0.08, 0.2, _WATTS_OFF),
    Part(0.05, 0.2, _BATTERY_OFF),
    Part(0.01, 0.15, {**_WATTS_OFF, **_BATTERY_OFF}),
)
#: Wander: its spread with a plan and without one, and hours over which it forgets.
WANDER_SPREAD, BLIND_WANDER, FORGETS_H = 0.05, 0.15, 7.0
#: How far a new leg's level may differ from the last one's (logarithm), usually and far off.
LEG_SPREAD, FAR_OFF_LEG = 0.4, 1.0
#: The same where it is known which loads run now, if all of the power changed (logarithm): at the
#: least, and as a share of how far off the level was.
SWITCH_SPREAD, OFF_OF_CHANGED = 0.04, 1.0
#: A draw of a thousand times what the plan says, or a thousandth, is none that a house makes: what
#: contradictory check-ins would drive beyond stays there (logarithm).
MOST_OFF = 7.0
#: Logarithm of a bar's length over another's, one sd; of the last one, its middle.
BAR_SPREAD, LAST_BAR = 0.4, -0.25


Predicted = Callable[["Particles"], np.ndarray]


@dataclass(frozen=True)
class Spread:
    """Standard deviation of a measured figure, and the share of cases in which it applies."""

    sd: float
    share: float = 1.0


class Particles:
    """The particles of a trial at a minute.

    Attributes
    ----------
    rows : ndarray of int
        Index of each particle's draw of the plan.
    state : dict of str to ndarray, (particles,) each
    bank : Bank
        Their battery; it does not stop, as the trial is known to run.
    log_weight : ndarray
    minute : int
    """

    def __init__(self, expected: Expected, seed: int, places: frozenset[str] = frozenset()) -> None:
        self.expected = expected
        self.rng = np.random.default_rng([seed, 41])
        count = int(np.clip(CELLS / expected.minutes, LEAST, MOST))
        self.rows = np.arange(count) % expected.draws
        self._unlike_draws: list[int] | None = None
        self.bank = expected.bank(self.rows)
        self.bank.floor = np.full(count, -9.0)
        self.state = {
            name: spread * self.rng.standard_normal(count) for name, spread in SPREADS.items()
        }
        if not expected.plan.sources:
            self.state[SUN] *= MEASURED_SUN / SPREADS[SUN]
        #: Number of the part that each belongs to.
        shares = np.cumsum([part.share for part in PARTS])
        self.part = self.rng.permutation(np.searchsorted(shares, np.arange(count) / count, "right"))
        self.part = np.minimum(self.part, len(PARTS) - 1)
        self.log_weight = np.zeros(count)
        for part, rows in zip(PARTS, self.parts, strict=True):
            for name, spread in part.spreads.items():
                middle = WORN if name == HELD else 0.0
                self.state[name][rows] = middle + spread * self.rng.standard_normal(len(rows))
            self.log_weight[rows] = np.log(part.prior / len(rows))
        self.state[LEVEL] = self.state[LEVEL] + expected.log_level[self.rows]
        self.state[SUN] = self.state[SUN] + expected.log_sun[self.rows]
        self.state[HELD] = self.state[HELD] + np.log(expected.battery.capacity_wh[self.rows])
        self.wander_spread = WANDER_SPREAD if expected.plan.loads else BLIND_WANDER
        self.state[WANDER] = self.wander_spread * self.rng.standard_normal(count)
        self.state[START] = self.bank.charge.copy()
        for name in (OUT_WH, IN_WH, COST_WH, *(_counted(place) for place in sorted(places))):
            self.state[name] = np.zeros(count)
        self.places = places
        self.minute = 0
        self._update_battery()

    def __len__(self) -> int:
        return len(self.rows)

    @property
    def weight(self) -> np.ndarray:
        """Normalised weight of each particle."""
        weight = np.exp(self.log_weight - self.log_weight.max())
        return np.asarray(weight / weight.sum())

    @property
    def held_wh(self) -> np.ndarray:
        """Real capacity, Wh."""
        return self.bank.capacity_wh

    @property
    def level(self) -> np.ndarray:
        """Present power relative to each particle's draw of the plan."""
        off = self.state[LEVEL] - self.expected.log_level[self.rows] + self.state[WANDER]
        return np.asarray(np.exp(np.clip(off, -MOST_OFF, MOST_OFF)))

    @property
    def sun(self) -> np.ndarray:
        """Source power relative to each particle's draw of the plan."""
        off = self.state[SUN] - self.expected.log_sun[self.rows]
        return np.asarray(np.exp(np.clip(off, -MOST_OFF, MOST_OFF)))

    def counted(self, place: str) -> np.ndarray:
        """Energy counted so far at a place (the battery, AC or an output), Wh."""
        return self.state[OUT_WH if place == BATTERY else _counted(place)]

    def fork(self) -> Particles:
        """An independent copy."""
        other = copy(self)
        other.state = dict(self.state)
        other.bank = self.bank.take(np.arange(len(self)))
        other._update_battery()
        other.rng = np.random.default_rng([self.minute, 43])
        return other

    def take(self, numbers: np.ndarray) -> None:
        """Keep some of the particles, by index."""
        self.rows = self.rows[numbers]
        self._unlike_draws = None
        self.state = {name: values[numbers] for name, values in self.state.items()}
        self.bank = self.bank.take(numbers)
        self.log_weight = self.log_weight[numbers]
        self.part = self.part[numbers]

    def advance(self, minute: int) -> None:
        """Advance to a minute."""
        while self.minute < minute:
            last = min(minute, (self.minute // BLOCK + 1) * BLOCK)
            self.step(last)

    def step(self, last: int) -> None:
        """Advance to a minute at a constant level, without stopping."""
        if self.expected.is_fed(self.minute, last):
            self.bank.ohm = None
            block = self.demand(self.minute, last)
            flow = block.apply_to(self.bank)
            sums = {OUT_WH: flow.out_w, IN_WH: flow.into_w}
            sums |= {_counted(route): watts for route, watts in block.routes_w.items()}
            self._add({name: watts.sum(axis=1) / MINUTES_PER_HOUR for name, watts in sums.items()})
            cost = self.state[START] - self.bank.charge
            self.state[COST_WH] = cost * self.held_wh + self._stored_wh
        else:
            falls = self._falls(last)
            self.bank.charge = self.bank.charge - falls
            self._add({COST_WH: falls * self.held_wh, **self._drawn_wh(last)})
        self._wander((last - self.minute) / MINUTES_PER_HOUR)
        self.minute = last

    def run_on(self, last: int) -> None:
        """Advance to a minute; particles that stop stay stopped."""
        if self.expected.is_fed(self.minute, last):
            self.demand(self.minute, last).apply_to(self.bank)
        else:
            falls = self._falls(last)
            near = np.flatnonzero(self._may_stop(falls, last))
            before = self.bank.charge
            self.bank.charge = before - falls
            if near.size:
                part = self.bank.take(near)
                part.charge = before[near]
                self.demand(self.minute, last, near).apply_to(part)
                self.bank.put(near, part)
        self._wander((last - self.minute) / MINUTES_PER_HOUR)
        self.minute = last

    def _falls(self, last: int) -> np.ndarray:
        """Fall of the charge up to a minute in which no source gives power."""
        level, given = self.level, self.expected.battery
        wh = self.expected.costs_wh.between(self.rows, self.minute, last) * level
        more = level * given.capacity_wh[self.rows] / self.bank.capacity_wh
        return np.asarray(wh * more ** (self.bank.peukert_n - 1) / self.bank.capacity_wh)

    def _drawn_wh(self, last: int) -> dict[str, np.ndarray]:
        """Energy drawn and counted up to a minute, Wh."""
        sums = {OUT_WH: self.expected.drawn_wh}
        sums |= {_counted(route): run for route, run in self.expected.counted_wh.items()}
        level = self.level
        return {
            name: run.between(self.rows, self.minute, last) * level for name, run in sums.items()
        }

    def _add(self, sums: dict[str, np.ndarray]) -> None:
        for name, wh in sums.items():
            self.state[name] = self.state[name] + wh

    def _may_stop(self, falls: np.ndarray, last: int) -> np.ndarray:
        """Particles that may reach their floor or cut-off before a minute."""
        left = self.bank.charge - falls
        near = left < self.bank.floor
        if self.bank.ohm is not None:
            hours = slice(self.minute // MINUTES_PER_HOUR, -(-last // MINUTES_PER_HOUR))
            peaks = self.expected.peak_w[self.rows]
            most = peaks[:, hours].max(axis=1, initial=0.0)
            if last > self.expected.minutes:
                most = peaks.max(axis=1)
            near = near | (most * self.level > self.bank.limit_w(left))
        return np.asarray(near)

    def demand(self, first: int, last: int, of: np.ndarray | slice = slice(None)) -> Block:
        """Demand and source power of some of the particles in some minutes."""
        block = self.expected.block(first, last, self.rows[of])
        level = self.level[of, None].astype(np.float32)
        sources = block.sources_w
        if sources is not None:
            sources = sources * self.sun[of, None]
        return Block(
            first=first,
            routes_w={
                route: watts * level
                for route, watts in block.routes_w.items()
                if route in self.places
            },
            drawn_w=block.drawn_w * level,
            starts_w=block.starts_w,
            sources_w=sources,
            other_w=block.other_w,
        )

    def _wander(self, hours: float) -> None:
        keeps = np.exp(-hours / FORGETS_H)
        fresh = self.wander_spread * np.sqrt(1 - keeps**2)
        self.state[WANDER] = keeps * self.state[WANDER] + fresh * self.rng.standard_normal(
            len(self)
        )

    def observe(self, likelihood: Callable[[Particles], np.ndarray]) -> None:
        """Weight the particles by a log-likelihood, in steps with resampling if few fit it."""
        left = 1.0
        for _ in range(MOST_STEPS):
            log_likelihood = likelihood(self)
            power = self._power(log_likelihood, left)
            self.log_weight = self.log_weight + power * log_likelihood
            left -= power
            if left <= 1e-9:
                break
            self.resample(widen=float(log_likelihood.max()) < FAR)
        if any(_effective(self.log_weight[part]) < RESAMPLE * len(part) for part in self.parts):
            self.resample()

    @property
    def parts(self) -> list[np.ndarray]:
        """Indices of the particles of each of :data:`PARTS`."""
        return [np.flatnonzero(self.part == number) for number in range(len(PARTS))]

    def _power(self, log_likelihood: np.ndarray, most: float) -> float:
        """Largest exponent of the likelihood that leaves each part enough effective particles."""

        def leaves_enough(power: float) -> bool:
            for part in self.parts:
                before = _effective(self.log_weight[part])
                least = min(STEPWISE * len(part), 0.6 * before)
                if _effective(self.log_weight[part] + power * log_likelihood[part]) < least:
                    return False
            return True

        if leaves_enough(most):
            return most
        low, high = 0.0, most
        for _ in range(14):
            middle = (low + high) / 2
            low, high = (middle, high) if leaves_enough(middle) else (low, middle)
        return max(low, 1e-6)

    def assimilate(self, predicted: Predicted, measured: float, spreads: Sequence[Spread]) -> int:
        """Correct every particle by a measured figure; return the index of the spread that it had.

        As in the ensemble Kalman filter (G. Evensen 1994, J. Geophys. Res. 99, 10143): each
        particle is moved by the covariance of its parameters with its prediction. If the
        predictions differ too widely for a linear relation, the particles are first weighted by a
        part of the likelihood.

        Parameters
        ----------
        predicted : callable
            Each particle's prediction of the figure, (particles,).
        measured : float
        spreads : sequence of Spread
            Possible spreads of the figure, with their shares of all cases.

        Returns
        -------
        int
        """
        which = self._which(predicted(self), measured, spreads)
        spread = spreads[which].sd
        off = predicted(self) - measured
        log_likelihood = -0.5 * (off / spread) ** 2
        near = float(log_likelihood.max()) > FAR
        bent = float(np.std(off)) > BENT * abs(measured) or np.std(self.state[LEVEL]) > WIDE
        left = 1.0
        if near and bent and (power := self._power(log_likelihood, 1.0)) < 1:
            left -= power
            self.log_weight = self.log_weight + power * log_likelihood
            self.resample()
        if left > 0:
            self._weigh_parts(predicted(self), measured, spread / np.sqrt(left))
            # The sharper the figure, the more steps; one that tells little is no matter of steps.
            steps = int(np.clip(np.std(off) / spread, 1, CORRECTIONS))
            for _ in range(steps):
                self._correct(predicted(self), measured, spread * np.sqrt(steps / left))
        return which

    def _weigh_parts(self, predicted: np.ndarray, measured: float, spread: float) -> None:
        """Weight each part of the particles as a whole by its prediction of a figure.

        A mixture of ensembles (T. Bengtsson, C. Snyder and D. Nychka 2003, J. Geophys. Res. 108,
        8775).
        """
        weight = self.weight
        for part in self.parts:
            share = weight[part] / max(float(weight[part].sum()), 1e-300)
            middle = share @ predicted[part]
            variance = float(share @ (predicted[part] - middle) ** 2) + spread**2
            self.log_weight[part] += -0.5 * ((measured - middle) ** 2 / variance + np.log(variance))

    def _which(self, predicted: np.ndarray, measured: float, spreads: Sequence[Spread]) -> int:
        """The most likely of several spreads of a figure, given all predictions."""
        weight = self.weight
        middle = weight @ predicted
        variance = weight @ (predicted - middle) ** 2
        likelihoods = np.array(
            [
                spread.share
                * np.exp(-0.5 * (measured - middle) ** 2 / (variance + spread.sd**2))
                / np.sqrt(variance + spread.sd**2)
                for spread in spreads
            ]
        )
        if not likelihoods.sum():
            return len(spreads) - 1
        return int(self.rng.choice(len(spreads), p=likelihoods / likelihoods.sum()))

    def _correct(self, predicted: np.ndarray, measured: float, spread: float) -> None:
        """Move each part's particles by the covariance of parameters and predictions."""
        weight, values = self.weight, self._values()
        noise = spread * self.rng.standard_normal(len(self))
        for number, part in enumerate(self.parts):
            share = weight[part] / max(float(weight[part].sum()), 1e-300)
            off = predicted[part] - share @ predicted[part]
            variance = float(share @ off**2)
            if variance <= 0:
                continue
            apart = values[part] - share @ values[part]
            shared = (share * off) @ apart
            own = np.sqrt(share @ apart**2 * variance)
            # Equal draws correlate by chance.
            shared[np.abs(shared) < BY_CHANCE * own / np.sqrt(self._unlike(number))] = 0.0
            moved = (measured + noise[part] - predicted[part])[:, None]
            values[part] += moved * (shared / (variance + spread**2))
        self._set_values(values)

    def _unlike(self, number: int) -> int:
        """Number of different draws of the plan in a part."""
        if self._unlike_draws is None:
            self._unlike_draws = [len(np.unique(self.rows[part])) for part in self.parts]
        return self._unlike_draws[number]

    def _values(self) -> np.ndarray:
        """The whole state as columns, (particles, figures)."""
        return np.column_stack(list(self.state.values()))

    def _set_values(self, values: np.ndarray) -> None:
        """Set the state from columns; the charge follows from it."""
        self.state = dict(zip(self.state, values.T, strict=True))
        believed = {
            LEVEL: self.expected.log_level[self.rows],
            SUN: self.expected.log_sun[self.rows],
            HELD: np.log(self.expected.battery.capacity_wh[self.rows]),
        }
        for name, middle in believed.items():
            # Figures that contradict one another must not push a particle out of all bounds.
            self.state[name] = np.clip(self.state[name], middle - FARTHEST, middle + FARTHEST)
        self._update_battery()
        self.settle()

    def settle(self) -> None:
        """Set the charge from the state."""
        used_wh = self.state[COST_WH] - self._stored_wh
        self.bank.charge = np.minimum(1.0, self.state[START] - used_wh / self.held_wh)

    @property
    def _stored_wh(self) -> np.ndarray:
        """Stored part of the energy that went in, Wh."""
        return self.state[IN_WH] * self.bank.battery.charge_efficiency

    def resample(self, widen: bool = False) -> None:
        """Resample each part by weight, perturbed slightly; a part keeps its weight.

        The spread is kept, or widened if the particles must reach values that none of them had.
        """
        weight = self.weight
        numbers, log_weight = np.arange(len(self)), np.empty(len(self))
        for part in self.parts:
            total = max(float(weight[part].sum()), 1e-300)
            places = (np.arange(len(part)) + self.rng.random()) / len(part)
            picked = np.searchsorted(np.cumsum(weight[part]) / total, places)
            numbers[part] = part[np.minimum(picked, len(part) - 1)]
            log_weight[part] = np.log(total / len(part))
        self.take(numbers)
        self.log_weight = log_weight
        values = self._values()
        for part in self.parts:
            values[part] = self._moved(values[part], widen)
        self._set_values(values)

    def _moved(self, values: np.ndarray, widen: bool) -> np.ndarray:
        """Figures (particles, figures) perturbed along their covariance."""
        middle, spread = values.mean(axis=0), values.std(axis=0)
        off = (values - middle) / np.where(spread > 0, spread, 1.0)
        size, axes = np.linalg.eigh(off.T @ off / len(values))
        move = self.rng.standard_normal(off.shape) * np.sqrt(np.maximum(size, 0.0)) @ axes.T
        off = off + FAR_MOVE * move if widen else np.sqrt(1 - MOVE**2) * off + MOVE * move
        return np.asarray(middle + off * spread)

    def _update_battery(self) -> None:
        """Set the battery's capacity from the state."""
        times = np.exp(self.state[HELD]) / self.expected.battery.capacity_wh[self.rows]
        self.bank.set_parameters(self.expected.battery.take(self.rows, times))

    def bar_edges(self, bars: int) -> np.ndarray:
        """True charge at which each bar goes out, lowest first, then 1: (particles, bars + 1).

        Bars are rarely equal; each particle has its own.
        """
        names = [f"bar {number} of {bars}" for number in range(bars)]
        for number, name in enumerate(names):
            if name not in self.state:
                middle = LAST_BAR if number == 0 else 0.0
                own = middle + BAR_SPREAD * self.rng.standard_normal(len(self))
                self.state[name] = own
        edges = np.cumsum(np.exp(np.column_stack([self.state[name] for name in names])), axis=1)
        return np.column_stack([np.zeros(len(self)), edges / edges[:, -1:]])

    def new_leg(self) -> None:
        """Widen the power's spread, as conditions have changed."""
        spread = np.array([part.leg_spread for part in PARTS])[self.part]
        fresh = spread * self.rng.standard_normal(len(self))
        self.state[LEVEL] = self.state[LEVEL] + fresh

    def switch_to(self, expected: Expected) -> None:
        """Go on with another course of the same draws, as far off it as off the one before.

        What made the one before run differently may lie in loads that are off now: the more of
        the power changes, the less is known of how far off the rest is.
        """
        before, after = (each.log_level[self.rows] for each in (self.expected, expected))
        off = self.state[LEVEL] - before
        changed = 1 - np.exp(-np.abs(after - before))
        spread = changed * np.hypot(SWITCH_SPREAD, OFF_OF_CHANGED * off)
        self.expected = expected
        fresh = spread * self.rng.standard_normal(len(self))
        self.state[LEVEL] = after + off + fresh


def _counted(place: str) -> str:
    return f"counted {place}"


def _effective(log_weight: np.ndarray) -> float:
    """Effective number of particles: 1 over the sum of squared weights (A. Kong 1992)."""
    weight = np.exp(log_weight - log_weight.max())
    return float(weight.sum() ** 2 / (weight**2).sum())
