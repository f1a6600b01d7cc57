"""A trial followed check-in by check-in: the plan's particles, corrected by what was observed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise
from typing import Any

import numpy as np

from needle.ledger import LedgerEntry
from needle.message import Message, message
from needle.plan.energy.bank import MINUTES_PER_HOUR
from needle.supply.battery import cold_factor
from needle.supply.display import LAST_FIFTH
from needle.trial.expected import Expected, of_plan, with_charging
from needle.trial.finished_run import COUNT_READ, last_count
from needle.trial.ledger import entries_of
from needle.trial.observations import (
    ALIKE,
    behind,
    bend_display,
    observations,
    still_runs,
    stops_at,
)
from needle.trial.particles import LEVEL, OUT_WH, START, Particles
from needle.trial.prediction import Forecast, Leg, Range, weighted_range
from needle.trial.trial import BATTERY, MOST_H, CheckIn, Trial

#: A charge that rises by more than this without a source is asked about, share.
RISE = 0.015
#: Difference between the display and the calculated charge that is pointed out, share.
FAR_BELOW = 0.1
#: W and volts of moments closer together than this tell the same, h.
MOMENTS_H = 0.4
MOMENTS = ("watts", "amps", "watts_in", "volts")
#: Loads that run for no longer than this make no leg of their own, h.
PASSING_H = 0.05
#: Points of a fan, and the longest step between them, min.
FAN_POINTS, FAN_STEP_MIN = 24, 180


class TrialFilter:
    """A trial under way, updated check-in by check-in.

    ``most_h`` is the hour up to which it is followed ahead: what lasts longer ends then.
    """

    def __init__(
        self, trial: Trial, expected: Expected, seed: int = 1, most_h: float = MOST_H
    ) -> None:
        self.trial, self.most_h = trial, most_h
        self._draws, self._seed = expected.draws, seed
        self.particles = Particles(with_charging(expected, trial), seed, trial.places)
        self.displayed = any(check_in.shown is not None for check_in in trial.check_ins)
        if trial.display:
            bend_display(self.particles, trial.display)
        if self.displayed or trial.start_step:
            self.particles.state[START] = behind(self._first_shown(seed), self.particles)
            self.particles.settle()
        self.legs = [(0.0, "start")]
        #: Which loads run in each leg, by its name, and now; None for all of the plan's.
        self._on: dict[str, tuple[str, ...] | None] = {"start": trial.on}
        self.on_now = trial.on
        self.notices: list[Message] = []
        self.ledger: list[LedgerEntry] = []
        self.hour = 0.0
        #: Hour and value of the last figure of each kind.
        self._used: dict[str, tuple[float, float | None]] = {}
        #: Kinds of figure whose last one was believed.
        self._believed: set[str] = set()
        self._last_shown = trial.start_charge
        #: What each counter showed last: one behind the inverter is not one at the battery.
        self._counted_wh: dict[str, float] = {}
        #: Hour of the last charge shown, and the most that it can mean, a step above it.
        self._shown_h, self._most_shown = 0.0, trial.start_charge
        #: Hour of the last look ahead, and what came of it.
        self._ahead: tuple[float, tuple[np.ndarray, Any]] | None = None
        self._begin_leg(0)

    def _first_shown(self, seed: int) -> np.ndarray:
        """Charge shown at the start, (particles,): anywhere within a step of the display."""
        within = np.random.default_rng([seed, 79]).random(len(self.particles)) - 0.5
        return np.clip(self.trial.start_charge + self.trial.start_step * within, 0.0, 1.0)

    def assimilate_check_ins(self, check_ins: Sequence[CheckIn]) -> None:
        """Update the particles with check-ins, in their order."""
        self._ahead = None
        passing = [
            check_in for check_in, later in pairwise(check_ins) if _is_passing(check_in, later)
        ]
        self.ledger += [
            LedgerEntry(f"check_ins[{check_in.number}]", False, message("switched-again"))
            for check_in in passing
        ]
        check_ins = [check_in for check_in in check_ins if check_in not in passing]
        for check_in in check_ins:
            self.advance_to(check_in.h)
            counted = self._counting(check_in)
            news = counted if check_in is check_ins[-1] else self._new_figures(counted)
            self.ledger += entries_of(check_in, counted, news, self.trial, self._is_charged)
            if check_in.leg is None:
                self._observe(news)
            else:
                # What was charged and counted is of the leg that ends, W of the one that begins.
                self._observe(replace(news, watts=None, amps=None))
                self._new_leg(check_in)
                self._observe(_only_watts(counted))
            still_runs(self.stop_charge)(self.particles, False)
            self._use(news)

    def _observe(self, news: CheckIn) -> None:
        """Update the particles with the figures of a check-in."""
        first_of_leg = len(self.legs) > 1 and "watts" not in self._used
        last_shown = self._used.get("charge", (0.0, None))[1]
        for kind, sight in observations(news, last_shown, first_of_leg):
            # The first figure of a kind, and one after another that was doubted, is believed:
            # then it is what was expected that is wrong.
            doubted = sight(self.particles, kind in self._believed)
            self._believed.discard(kind) if doubted else self._believed.add(kind)

    def _new_figures(self, check_in: CheckIn) -> CheckIn:
        """A check-in without figures that repeat the last ones: repetition adds no weight."""
        held_wh = self.trial.battery.nominal_wh
        counted_wh = check_in.counted_wh(self.trial.battery.volts)
        # That a bar is still lit is news each time.
        if self._is_old("charge", check_in.percent, ALIKE / 3):
            check_in = replace(check_in, percent=None)
        if self._is_old(f"counted {check_in.counted}", counted_wh, ALIKE / 2 * held_wh):
            check_in = replace(check_in, wh=None, ah=None)
        moments: dict[str, Any] = {
            name: None
            for name in MOMENTS
            if name in self._used and check_in.h - self._used[name][0] < MOMENTS_H
        }
        return replace(check_in, **moments)

    def _is_old(self, kind: str, value: float | None, step: float) -> bool:
        last = self._used.get(kind, (0.0, None))[1]
        return value is not None and last is not None and abs(value - last) < step

    def _use(self, check_in: CheckIn) -> None:
        """Remember the last value of each kind of figure, and its time."""
        told = {
            "charge": check_in.shown,
            f"counted {check_in.counted}": check_in.counted_wh(self.trial.battery.volts),
            **{name: getattr(check_in, name) for name in MOMENTS},
        }
        self._used |= {
            kind: (check_in.h, value) for kind, value in told.items() if value is not None
        }

    def advance_to(self, hour: float) -> None:
        """Advance the particles to an hour."""
        self.particles.advance(round(hour * MINUTES_PER_HOUR))
        self.hour = max(self.hour, hour)

    def stop_charge(self, particles: Particles) -> np.ndarray:
        """True charge at which each particle stops; by the display if it is read."""
        if self.displayed:
            return behind(self.trial.stop_at, particles)
        return np.full(len(particles), self.trial.stop_at)

    def end(self) -> None:
        """Update the particles with how the trial ended."""
        ended = self.trial.ended
        assert ended is not None
        self.advance_to(ended.h)
        if ended.why == "cutoff":
            stops_at(lambda particles: np.zeros(len(particles)))(self.particles, False)
        elif ended.why == "floor":
            stops_at(self.stop_charge)(self.particles, False)
        elif self.particles.minute:
            still_runs(self.stop_charge)(self.particles, False)

    def _counting(self, check_in: CheckIn) -> CheckIn:
        """A check-in without impossible figures: a charge that rises, a counter that falls."""
        shown, volts = check_in.shown, self.trial.battery.volts
        if shown is not None:
            step = _display_step(check_in)
            if shown - self._last_shown > step + RISE and not self._is_charged:
                self.notices.append(
                    message(
                        "charge-rose-at",
                        hours=check_in.h,
                        before=self._last_shown,
                        after=shown,
                    )
                )
                check_in = replace(check_in, percent=None, bars=None)
            else:
                self._last_shown, self._shown_h = shown, check_in.h
                self._most_shown = shown + step
        if volts is None and check_in.ah is not None:
            check_in = self._with_own_volts(check_in)
        counted_wh = check_in.counted_wh(volts)
        before_wh = self._counted_wh.get(check_in.counted, 0.0)
        if counted_wh is not None and counted_wh < before_wh - 1.0:
            self.notices.append(message("counter-fell-at", hours=check_in.h))
            return replace(check_in, wh=None, ah=None)
        if counted_wh is not None:
            self._counted_wh[check_in.counted] = counted_wh
        return check_in

    def _with_own_volts(self, check_in: CheckIn) -> CheckIn:
        """Ah converted to Wh by the volts read at the same time; without volts they are unused."""
        if check_in.volts is None:
            self.notices.append(message("ah-without-volts-at", hours=check_in.h))
            return replace(check_in, ah=None)
        assert check_in.ah is not None
        wh = check_in.ah * check_in.volts if check_in.wh is None else check_in.wh
        return replace(check_in, ah=None, wh=wh)

    @property
    def _is_charged(self) -> bool:
        """Whether anything charges the battery: by the plan, or as read."""
        demand = self.particles.expected.demand
        return demand.sources_w is not None or demand.other_w is not None

    def _new_leg(self, check_in: CheckIn) -> None:
        """Start a new leg; one with an earlier leg's name continues that leg."""
        assert check_in.leg is not None
        names = [name for _, name in self.legs]
        state = self.particles.state
        level = state[LEVEL].copy()
        on = self._on.get(check_in.leg, self.on_now) if check_in.on is None else check_in.on
        if on != self.on_now and self.trial.plan is not None:
            # What runs is known: at the level that the plan's loads were found to run at.
            plan = self.trial.plan_of(on)
            course = of_plan(plan, self.trial.places, self._draws, self._seed)
            self.particles.switch_to(with_charging(course, self.trial))
        self._on[check_in.leg] = self.on_now = on
        if check_in.leg in names:
            # The present leg has no level kept yet: it goes on as it is.
            back = len(names) - 1 - names[::-1].index(check_in.leg)
            state[LEVEL] = state.get(f"leg level {back}", level).copy()
        elif check_in.on is None:
            self.particles.new_leg()
        state[f"leg level {len(self.legs) - 1}"] = level
        # W of the leg before say nothing of this one.
        for kind in ("watts", "amps"):
            self._used.pop(kind, None)
        if check_in.h > self.legs[-1][0]:
            self._begin_leg(len(self.legs))
            self.legs.append((check_in.h, check_in.leg))
        else:
            self.legs[-1] = (check_in.h, check_in.leg)

    def _begin_leg(self, number: int) -> None:
        state = self.particles.state
        state[f"leg from {number}"] = state[OUT_WH].copy()

    def forecast(self) -> Forecast:
        """The forecast in the present state."""
        trial, particles = self.trial, self.particles
        ended = trial.ended
        weight = particles.weight
        if ended is None:
            stops, fan = self.run_ahead()
            stop_h = weighted_range(stops, weight)
        else:
            stop_h, fan = (ended.h, ended.h, ended.h), []
        # What the battery holds is proved by an end and by what was counted up to it.
        proved = (
            ended is not None and ended.why in ("floor", "cutoff") and last_count(trial) is not None
        )
        drawn_wh = weighted_range(particles.state[OUT_WH], weight)
        used_wh = drawn_wh[1]
        count = last_count(trial)
        if count is not None and count.place == BATTERY and count.h >= COUNT_READ * self.hour > 0:
            # The counted energy is shown, and the legs add up to it.
            used_wh = count.wh * self.hour / count.h
        legs = self._legs(used_wh)
        charge = weighted_range(np.clip(particles.bank.charge, 0.0, 1.0), weight)
        notices = list(self.notices)
        # What was shown before it charged says nothing of now.
        stands = self._shown_h >= self.hour or not self._is_charged
        if ended is None and stands and self._most_shown < charge[0] - FAR_BELOW:
            notices.append(
                message(
                    "charge-far-below",
                    shown=self._last_shown,
                    low=float(charge[0]),
                    high=float(charge[2]),
                )
            )
        if self._last_shown <= LAST_FIFTH + 0.05:
            notices.append(message("last-fifth"))
        return Forecast(
            stop_h=stop_h,
            most_h=self.most_h,
            now_h=self.hour,
            mean_w=self._mean_w(),
            drawn_wh=drawn_wh,
            fall_per_h=self._fall_per_h(),
            level=weighted_range(particles.level, weight),
            used_wh=used_wh,
            charge=charge,
            legs=legs,
            state_of_health=weighted_range(particles.held_wh / self._label_wh(), weight)
            if proved
            else None,
            held_wh=weighted_range(particles.held_wh, weight),
            ended_h=None if ended is None else ended.h,
            display_error_h=_display_error(trial),
            fan=fan,
            notices=notices,
            count=count,
            ledger=tuple(self.ledger),
            sun=self._sun(),
        )

    def _sun(self) -> Range | None:
        """What the sources gave relative to the plan, if W or Wh in were read."""
        read = any(
            check_in.watts_in is not None or check_in.wh_in is not None
            for check_in in self.trial.check_ins
        )
        if not read or self.trial.plan is None or not self.trial.plan.sources:
            return None
        return weighted_range(self.particles.sun, self.particles.weight)

    def _label_wh(self) -> float:
        """Nominal Wh at the trial's room temperature."""
        expected = self.particles.expected
        return self.trial.battery.nominal_wh * cold_factor(self.trial.battery, expected.plan.room_c)

    def run_ahead(self) -> tuple[np.ndarray, list[tuple[float, float, float, float]]]:
        """Advance copies of the particles to their stop, once at each hour.

        Returns the hours of each one's stop since the start, (particles,), and percentiles of the
        charge on the way.
        """
        if self._ahead is None or self._ahead[0] != self.hour:
            self._ahead = self.hour, self._run_ahead()
        return self._ahead[1]

    def _run_ahead(self) -> tuple[np.ndarray, list[tuple[float, float, float, float]]]:
        particles = self.particles.fork()
        weight = particles.weight
        particles.bank.floor = np.minimum(self.stop_charge(particles), particles.bank.charge)
        stops, charges = np.full(len(particles), np.inf), [particles.bank.charge.copy()]
        minutes, step = [particles.minute], self._fan_step()
        going, most_min = np.arange(len(particles)), int(self.most_h * MINUTES_PER_HOUR)
        while going.size and particles.minute < most_min:
            # A draw that goes on long after the others is followed in longer steps.
            step = min(FAN_STEP_MIN, max(step, (particles.minute - minutes[0]) // FAN_POINTS))
            last = min(most_min, particles.minute + step)
            particles.run_on(last)
            stops[going] = particles.bank.stop_min
            charge = charges[-1].copy()
            charge[going] = particles.bank.charge
            charges.append(charge)
            minutes.append(last)
            on = np.flatnonzero(np.isinf(particles.bank.stop_min))
            going = going[on]
            particles.take(on)
        hours = np.minimum(stops / MINUTES_PER_HOUR, self.most_h)
        hours = np.maximum(hours, self.hour)
        high = weighted_range(hours, weight)[2]
        fan = [
            (minute / MINUTES_PER_HOUR, *weighted_range(np.clip(charge, 0.0, 1.0), weight))
            for minute, charge in zip(minutes, charges, strict=True)
            if minute / MINUTES_PER_HOUR < high + step / MINUTES_PER_HOUR
        ]
        return hours, fan

    def _fan_step(self) -> int:
        """Minutes between points of the fan, from the likely hours left."""
        left = self.particles.bank.charge - self.stop_charge(self.particles)
        watts = np.exp(self.particles.state[LEVEL])
        hours = np.maximum(left, 0.0) * self.particles.held_wh / watts
        likely = float(np.quantile(hours, 0.7)) * MINUTES_PER_HOUR / FAN_POINTS
        return int(np.clip(round(likely), 1, FAN_STEP_MIN))

    def _legs(self, used_wh: float) -> list[Leg]:
        """Mean W of each leg; together they add up to the Wh used."""
        weight, state = self.particles.weight, self.particles.state
        marks = [float(weight @ state[f"leg from {number}"]) for number in range(len(self.legs))]
        ends_wh = np.maximum.accumulate([*marks, float(weight @ state[OUT_WH])])
        scale = used_wh / ends_wh[-1] if ends_wh[-1] > 0 else 1.0
        ends_h = [*(hour for hour, _ in self.legs), self.hour]
        means = []
        for number, (begin_h, end_h) in enumerate(pairwise(ends_h)):
            if end_h - begin_h > 1e-6:
                wh = ends_wh[number + 1] - ends_wh[number]
                means.append(float(scale * wh / (end_h - begin_h)))
            else:
                means.append(self._mean_w()[1])
        return [Leg(hour, mean, name) for (hour, name), mean in zip(self.legs, means, strict=True)]

    def _fall_per_h(self) -> Range:
        if self.hour <= 0:
            return 0.0, 0.0, 0.0
        particles = self.particles
        share = particles.state[OUT_WH] / particles.held_wh / self.hour
        return weighted_range(share, particles.weight)

    def _mean_w(self) -> Range:
        """W at the battery in the present leg: as used, or predicted for its first hour."""
        particles, weight = self.particles, self.particles.weight
        begin = self.legs[-1][0]
        if self.hour - begin > 0.25:
            number = len(self.legs) - 1
            used = particles.state[OUT_WH] - particles.state[f"leg from {number}"]
            return weighted_range(np.maximum(used, 0.0) / (self.hour - begin), weight)
        return weighted_range(np.exp(particles.state[LEVEL]), weight)


def _is_passing(check_in: CheckIn, later: CheckIn) -> bool:
    """Whether nothing but what runs was noted, and that changed again at once."""
    bare = replace(check_in, leg=None, on=None)
    switched = check_in.on is not None and later.on is not None
    return switched and not bare.tells and later.h - check_in.h <= PASSING_H


def _only_watts(check_in: CheckIn) -> CheckIn:
    """A check-in with nothing but the power out, as read or as amps times volts."""
    bare = CheckIn(check_in.h, watts_at=check_in.watts_at, number=check_in.number)
    return replace(bare, watts=check_in.drawn_w)


def _display_step(check_in: CheckIn) -> float:
    """Resolution of the displayed charge, share."""
    if check_in.percent is not None or not check_in.of:
        return 0.01
    return 1.0 / check_in.of


def _display_error(trial: Trial) -> float | None:
    """Mean absolute error of the display's promised hours, h."""
    if trial.ended is None:
        return None
    off = [
        abs(check_in.h + check_in.display_h - trial.ended.h)
        for check_in in trial.check_ins
        if check_in.display_h is not None
    ]
    return sum(off) / len(off) if off else None
