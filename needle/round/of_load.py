"""Measurements of a load that are possible in a visit: start, power, mean, and a task."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from needle.electrical import MAINS_V
from needle.estimate import Z90
from needle.measure.cycles import CYCLE_SPREAD
from needle.measure.instruments import Instrument
from needle.plan.draws.inputs import (
    LOAD,
    LOAD_DUTY,
    LOAD_START,
    LOAD_TASK,
    LOAD_WATTS,
    InputKey,
)
from needle.plan.energy.simulate import Outcome
from needle.plan.load import AC, PlanLoad
from needle.profile.energy import Watched, count_error
from needle.profile.kinds import Kind
from needle.profile.use_process import DISPERSION
from needle.profile.variation import HOURS_A_DAY, UNSEEN_SPREAD
from needle.round.candidate import (
    COUNTER,
    SPOT,
    START,
    TALLY,
    TASK,
    Candidate,
    log_sd,
    rest_of,
)
from needle.round.visit import WATCH, CarriedMeter, Visit

#: Lengths of a counter that are looked at, h; and the whole of what is left of a visit.
_COUNTER_H = (0.25, 0.5, 1.0, 1.5, 2.0, 3.0, 6.0, 12.0, 24.0)
#: Cycles that are tallied: fewer say little, more is more than a person sits through.
_TALLIED_CYCLES = (3, 5)
#: Longest that a person goes on listening, h.
_LONGEST_TALLY_H = 4.0
#: Relative spread of the running watts up to which cycles tell the mean.
_LEVEL_KNOWN = 0.10
#: One's own minutes: to put a meter in, to read it and take it out, to read a level, for a start.
PUT_IN_MIN, TAKE_OUT_MIN, READ_MIN, START_MIN = 3.0, 2.0, 4.0, 4.0
#: Spreads that remain: a start held by a clamp, one run of a task.
_START_AFTER, _TASK_AFTER = 0.05, 0.08
#: A level read once on a plug meter may stand at another one at another time.
_REPEAT = 0.01
#: One reading of what modulates is a moment of it, at least ±30 %.
_MODULATING_SPOT = 0.30
#: Odds of a start between which it is open.
_OPEN = (0.05, 0.95)


def of_load(load: PlanLoad, outcome: Outcome, visit: Visit, unplugs: bool) -> Iterator[Candidate]:
    """Return all useful measurements; ``unplugs``: whether a meter may be plugged in before it."""
    if unplugs:
        yield from _start(load, outcome, visit)
    if load.use.by_moments:
        if unplugs:
            for socket in Socket.each_of(load, outcome, visit):
                yield from socket.task()
        return
    yield from _tally(load, outcome)
    if unplugs:
        for socket in Socket.each_of(load, outcome, visit):
            yield socket.spot()
            for hours in sorted({*_COUNTER_H, _rest_of_visit_h(visit)}):
                if hours >= _COUNTER_H[0]:
                    yield socket.counter(hours)


@dataclass(frozen=True)
class Socket:
    """A load that a meter can be plugged in before, and what the meter would find."""

    load: PlanLoad
    watched: Watched
    meter: Instrument
    spreads: Mapping[InputKey, float]

    @classmethod
    def each_of(cls, load: PlanLoad, outcome: Outcome, visit: Visit) -> Iterator[Socket]:
        """Return one for each class of meter at hand that can read the load."""
        if load.read_in_panel:
            classes: tuple[str, ...] = ("logger",)
        else:
            classes = ("plug", "logger") if load.route == AC else ("usb", "shunt")
        fitting: dict[str, Instrument] = {}
        for meter in visit.meters:
            if _fits(meter, load, classes):
                fitting.setdefault(meter.instrument.key, meter.instrument)
        for instrument in fitting.values():
            yield cls(load, load.watched, instrument, outcome.inputs.spreads)

    @property
    def kind(self) -> Kind:
        return self.watched.kind

    @property
    def used_now_and_then(self) -> bool:
        """Whether somebody must switch it on to measure it."""
        return bool(self.load.use.windows or self.load.use.moments)

    def spot(self) -> Candidate:
        """A spot reading of its power while it runs."""
        if self.load.use.uses_per_day is not None:
            # What it draws while it runs says nothing of how often it runs.
            return self._made(SPOT, READ_MIN, READ_MIN, 0.0, {})
        if self.kind.modulates or self.kind.wander > 0:
            mean = math.hypot(_MODULATING_SPOT, self.meter.shared_sd)
        elif self.kind.cycles and self.kind.duty is not None:
            low, _, high = self.kind.duty
            mean = math.hypot(math.log(high / low) / (2 * Z90), self.meter.shared_sd)
        else:
            mean = math.hypot(self.watched.span(0.0), self.meter.shared_sd)
        return self._made(
            SPOT,
            READ_MIN,
            READ_MIN,
            0.0,
            _mean_left(self.load, self.spreads, mean, self.watched.span(0.0)),
        )

    def counter(self, hours: float) -> Candidate:
        """An energy run of a number of hours."""
        minutes = hours * 60 + PUT_IN_MIN + TAKE_OUT_MIN
        shared = 0.0 if self.load.use.uses_per_day is not None else self.watched.span(hours)
        leaves = _mean_left(self.load, self.spreads, self._counted(hours), shared)
        return self._made(COUNTER, minutes, PUT_IN_MIN, TAKE_OUT_MIN, leaves)

    def task(self) -> Iterator[Candidate]:
        """One task or charge, counted from start to end."""
        load = self.load
        wh, minutes = load.use.task_wh, load.use.task_min
        if load.use.charge is not None:
            wh = load.use.charge.wall_wh
            minutes = 60 * wh / load.use.charge.watts
        if minutes <= 0:
            return
        digits = count_error(max(1e-6, wh), self.meter.steps.get("wh", 10.0))
        key = InputKey(LOAD_TASK, load.name)
        measured = math.hypot(_TASK_AFTER, min(1.0, digits), self.meter.shared_sd)
        leaves = {key: rest_of(self.spreads, key, measured)}
        minutes += PUT_IN_MIN + TAKE_OUT_MIN
        yield self._made(TASK, minutes, PUT_IN_MIN, TAKE_OUT_MIN, leaves)

    def _made(
        self, what: str, minutes: float, before: float, after: float, leaves: dict[InputKey, float]
    ) -> Candidate:
        key = InputKey(LOAD_WATTS, self.load.name)
        level = math.hypot(self.meter.relative_sd("watts", self.load.draw.running_w), _REPEAT)
        leaves = {key: rest_of(self.spreads, key, level), **leaves}
        return Candidate(
            what,
            self.load.name,
            self.meter.key,
            minutes,
            before,
            after,
            leaves,
            switch_on=self.used_now_and_then,
        )

    def _counted(self, hours: float) -> float:
        """Relative spread of a mean that is counted over a number of hours."""
        rate = self.load.use.uses_per_day
        if rate is not None:
            days = hours / HOURS_A_DAY
            few = math.sqrt(DISPERSION / max(0.3, rate * days))
            return math.hypot(few, self.load.spreads.day / math.sqrt(max(1.0, days)))
        wh = max(1e-6, self.load.mean_w * hours)
        digits = min(1.0, count_error(wh, self.meter.steps.get("wh", 10.0)))
        return math.sqrt(
            self.watched.span(hours) ** 2
            + self.watched.cut_off(hours) ** 2
            + (2 / 3) * digits**2
            + self.meter.shared_sd**2
            + self.watched.unseen(hours) ** 2
        )


def _mean_left(
    load: PlanLoad, spreads: Mapping[InputKey, float], measured: float, shared: float
) -> dict[InputKey, float]:
    """Remaining spreads of the inputs that the plan's mean is drawn from, after measuring the mean.

    ``shared`` is the part of the spread from day-to-day and time-of-day variation that earlier
    measurements share, and that another measurement does not remove.
    """
    left = {}
    for key in (InputKey(LOAD, load.name), InputKey(LOAD_DUTY, load.name)):
        before = spreads.get(key, 0.0)
        if before <= shared:
            continue
        own = math.sqrt(max(1e-8, measured**2 - shared**2))
        apart = math.sqrt(before**2 - shared**2)
        after = math.hypot(shared, own * apart / math.hypot(own, apart))
        left[key] = min(1.0, log_sd(after) / log_sd(before))
    return left


def _tally(load: PlanLoad, outcome: Outcome) -> Iterator[Candidate]:
    """A tally of its cycles by ear and watch, if its running watts are known; needs no meter."""
    kind, spreads = load.watched.kind, outcome.inputs.spreads
    level = spreads.get(InputKey(LOAD_WATTS, load.name), 0.0)
    if (
        load.use.uses_per_day is not None
        or not kind.cycles
        or load.use.windows
        or not 0 < load.draw.duty < 1
        or level > _LEVEL_KNOWN
    ):
        return
    for cycles in _TALLIED_CYCLES:
        hours = (cycles + 1) * load.draw.cycle_min / 60
        if hours > _LONGEST_TALLY_H:
            continue
        shared = load.watched.span(hours)
        unseen = UNSEEN_SPREAD if kind.rarer else 0.0
        measured = math.hypot(level, CYCLE_SPREAD / math.sqrt(cycles), shared, unseen)
        yield Candidate(
            TALLY,
            load.name,
            WATCH,
            hours * 60,
            READ_MIN,
            2.0 * cycles,
            _mean_left(load, spreads, measured, shared),
        )


def _rest_of_visit_h(visit: Visit) -> float:
    """Whole quarter hours that a counter can run in the visit, h."""
    return math.floor((visit.minutes - PUT_IN_MIN - TAKE_OUT_MIN) / 15) / 4


def _fits(meter: CarriedMeter, load: PlanLoad, classes: tuple[str, ...]) -> bool:
    """Whether a meter can read a load: its class, its limit, and its resolution."""
    instrument = meter.instrument
    if instrument.key not in classes:
        return False
    volts = load.draw.volts or MAINS_V
    amps = load.draw.running_w / max(1e-6, volts * load.draw.power_factor)
    carries = instrument.most_a is None or amps <= instrument.most_a
    return carries and load.draw.running_w >= instrument.least_w


def _start(load: PlanLoad, outcome: Outcome, visit: Visit) -> Iterator[Candidate]:
    """A start by clamp, if it is uncertain whether the load starts."""
    if load.route != AC:
        return
    clamps = [
        meter
        for meter in visit.meters
        if meter.instrument.fast_inrush and meter.instrument.key != "shunt"
    ]
    verdict = next((start.verdict for start in outcome.starts if start.load == load.name), None)
    if not clamps or load.tried is not None or verdict is None or verdict.chance is None:
        return
    chance = 1 - verdict.chance
    key = InputKey(LOAD_START, load.name)
    if not _OPEN[0] < chance < _OPEN[1] or outcome.inputs.spreads.get(key, 0.0) <= _START_AFTER:
        return
    leaves = {key: rest_of(outcome.inputs.spreads, key, _START_AFTER)}
    for meter_key in dict.fromkeys(meter.instrument.key for meter in clamps):
        yield Candidate(
            START,
            load.name,
            meter_key,
            START_MIN,
            START_MIN,
            0.0,
            leaves,
            open_chance=chance,
            switch_on=True,
        )
