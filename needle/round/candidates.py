"""Everything that could be measured in a visit: with what, how long, how well it is then known."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from needle.estimate import Z90
from needle.measure.instruments import Instrument
from needle.plan.plan import AC, Plan, PlanLoad
from needle.plan.simulate import Outcome
from needle.plan.uncertain import (
    CAPACITY,
    INVERTER_EFFICIENCY,
    INVERTER_IDLE,
    LOAD,
    LOAD_DUTY,
    LOAD_START,
    LOAD_TASK,
    LOAD_WATTS,
    InputKey,
)
from needle.profile.energy import Watched, count_error
from needle.profile.kinds import KINDS, Kind
from needle.profile.variation import HOURS_A_DAY, UNSEEN_SPREAD
from needle.round.visit import CarriedMeter, Visit
from needle.supply.battery import usable_wh

COUNTER, SPOT, START, TASK = "counter", "spot", "start", "task"
IDLE, IDLE_DROP, EFFICIENCY, DRAIN = "idle", "idle drop", "efficiency", "drain"
#: Lengths of a counter that are looked at, h; and the whole of what is left of a visit.
_COUNTER_H = (0.25, 0.5, 1.0, 1.5, 2.0, 3.0, 6.0, 12.0, 24.0)
#: One's own minutes: to put a meter in, to read it and take it out, to read a level, for a start.
PUT_IN_MIN, TAKE_OUT_MIN, READ_MIN, START_MIN = 3.0, 2.0, 4.0, 4.0
_IDLE_MIN, _EFFICIENCY_MIN, _DROP_MIN = 10.0, 30.0, 4.0
#: Spreads that remain: a start held by a clamp, one run of a task, idle and efficiency read on both
#: sides, what a drain that is counted leaves of the capacity.
_START_AFTER, _TASK_AFTER, _IDLE_AFTER, _EFFICIENCY_AFTER, _DRAIN_AFTER = (
    0.05, 0.08, 0.03, 0.015, 0.025,
)  # fmt: skip
#: Hours in which a drained battery is full again, with some to spare.
_CHARGED_AGAIN_H = 24.0
#: A level read once on a plug meter may stand at another one at another time.
_REPEAT = 0.01
#: One reading of what modulates is a moment of it, at least ±30 %.
_MODULATING_SPOT = 0.30
#: Least that a display must fall for its drop to say something, share of full.
_LEAST_DROP = 0.015
#: Odds of a start between which it is open.
_OPEN = (0.05, 0.95)
#: A measurement that leaves more than this share of a spread is not worth the way.
_WORTHLESS = 0.93


@dataclass(frozen=True)
class Candidate:
    """One measurement that could be made.

    Attributes
    ----------
    what : str
        One of the names above.
    subject : str
        The load's name; empty for the supply.
    meter_keys : tuple of str
        Classes of meters that can do it.
    also : str
        Class of a second meter that it needs; empty for none.
    meter_min : float
        How long the meter is taken, min, one's own minutes included.
    before_min, after_min : float
        One's own minutes at its beginning and end.
    leaves : dict of InputKey to float
        Share of each spread that remains.
    open_chance : float
        Of a start: the odds of failing, where it is open whether it does.
    switch_on : bool
        Whether somebody must switch it on for it.
    """

    what: str
    subject: str
    meter_keys: tuple[str, ...]
    meter_min: float
    before_min: float
    after_min: float
    leaves: dict[InputKey, float] = field(hash=False)
    also: str = ""
    open_chance: float = 0.0
    switch_on: bool = False

    @property
    def key(self) -> str:
        """What is measured of what, whatever its length."""
        return f"{self.what}: {self.subject}"

    @property
    def excludes(self) -> str:
        """Candidates of the same tag say the same: one of them is enough."""
        mean = self.what in (COUNTER, SPOT, TASK)
        idle = self.what in (IDLE, IDLE_DROP, EFFICIENCY)
        return f"{'mean' if mean else 'idle' if idle else self.what}: {self.subject}"

    @property
    def hands_min(self) -> float:
        """One's own minutes."""
        return self.before_min + self.after_min


@dataclass(frozen=True)
class LeftAlone:
    """A load or part that the round does not touch, and why."""

    subject: str
    why: str


def candidates(outcome: Outcome, visit: Visit) -> tuple[list[Candidate], list[LeftAlone]]:
    """What can be measured in the visit, and what cannot, with the reason."""
    offered, alone = [], []
    for load in outcome.plan.loads:
        why = _hands_off(load, visit)
        if why:
            alone.append(LeftAlone(load.name, why))
        mine = list(_of_load(load, outcome, visit, unplugs=not why))
        offered += mine
    offered += _of_supply(outcome, visit)
    return [
        candidate
        for candidate in offered
        if candidate.meter_min <= visit.minutes and candidate.key not in visit.impossible
    ], alone


def _hands_off(load: PlanLoad, visit: Visit) -> str:
    """Why a load's plug is not pulled; empty where it may be."""
    if load.safety_class == "hard-wired":
        return "" if visit.qualified else "hard-wired: a licensed electrician clamps it"
    if load.name in visit.keep_plugged:
        return "its plug stays in"
    return ""


def _of_load(load: PlanLoad, outcome: Outcome, visit: Visit, unplugs: bool) -> Iterator[Candidate]:
    yield from _start_of(load, outcome, visit)
    socket = _Socket.of(load, outcome, visit) if unplugs else None
    if socket is None:
        return
    if load.by_moments:
        yield from socket.task()
        return
    yield socket.spot()
    for hours in sorted({*_COUNTER_H, _rest_of(visit)}):
        if hours >= _COUNTER_H[0] and hours * 60 + PUT_IN_MIN + TAKE_OUT_MIN <= visit.minutes:
            yield socket.counter(hours)


@dataclass(frozen=True)
class _Socket:
    """A load that a meter can be put before: what the meter would find, and how well."""

    load: PlanLoad
    kind: Kind
    watched: Watched
    meter: Instrument
    meter_keys: tuple[str, ...]
    spreads: Mapping[InputKey, float]

    @classmethod
    def of(cls, load: PlanLoad, outcome: Outcome, visit: Visit) -> _Socket | None:
        """None where no meter at hand can read it."""
        if load.safety_class == "hard-wired":
            classes: tuple[str, ...] = ("logger",)
        else:
            classes = ("plug", "logger") if load.route == AC else ("usb", "shunt")
        fitting = [meter.instrument for meter in visit.meters if _fits(meter, load, classes)]
        if not fitting:
            return None
        kind = _kind(load)
        watched = Watched(kind, load.day_spread, load.cycle_min, load.duty)
        keys = tuple(dict.fromkeys(instrument.key for instrument in fitting))
        return cls(load, kind, watched, fitting[0], keys, outcome.inputs.spreads)

    @property
    def used_now_and_then(self) -> bool:
        """Whether somebody must switch it on to measure it."""
        return bool(self.load.windows or self.load.moments)

    def spot(self) -> Candidate:
        """One reading of its level, while it runs."""
        if self.kind.modulates:
            mean = math.hypot(_MODULATING_SPOT, self.meter.shared_sd)
        elif self.kind.cycles and self.kind.duty is not None:
            low, _, high = self.kind.duty
            mean = math.hypot(math.log(high / low) / (2 * Z90), self.meter.shared_sd)
        else:
            mean = math.hypot(self.watched.span(0.0), self.meter.shared_sd)
        return self._made(
            SPOT, READ_MIN, READ_MIN, 0.0, self._mean_left(mean, self.watched.span(0.0))
        )

    def counter(self, hours: float) -> Candidate:
        """A counter that is left in for so many hours."""
        minutes = hours * 60 + PUT_IN_MIN + TAKE_OUT_MIN
        leaves = self._mean_left(self._counted(hours), self.watched.span(hours))
        return self._made(COUNTER, minutes, PUT_IN_MIN, TAKE_OUT_MIN, leaves)

    def task(self) -> Iterator[Candidate]:
        """One task or charge, counted from its begin to its end."""
        load = self.load
        wh, minutes = load.task_wh, load.task_min
        if load.charge is not None:
            wh = load.charge.wall_wh
            minutes = 60 * wh / load.charge.watts
        if minutes <= 0:
            return
        digits = count_error(max(1e-6, wh), self.meter.steps.get("wh", 10.0))
        key = InputKey(LOAD_TASK, load.name)
        measured = math.hypot(_TASK_AFTER, min(1.0, digits), self.meter.shared_sd)
        leaves = {key: _rest(self.spreads, key, measured)}
        minutes += PUT_IN_MIN + TAKE_OUT_MIN
        yield self._made(TASK, minutes, PUT_IN_MIN, TAKE_OUT_MIN, leaves)

    def _made(
        self, what: str, minutes: float, before: float, after: float, leaves: dict[InputKey, float]
    ) -> Candidate:
        key = InputKey(LOAD_WATTS, self.load.name)
        level = math.hypot(self.meter.relative_sd("watts", self.load.running_w), _REPEAT)
        leaves = {key: _rest(self.spreads, key, level), **leaves}
        return _kept(Candidate(what, self.load.name, self.meter_keys, minutes, before, after,
                               leaves, switch_on=self.used_now_and_then))  # fmt: skip

    def _counted(self, hours: float) -> float:
        """Relative spread of a mean that is counted over so many hours."""
        wh = max(1e-6, self.load.mean_w * hours)
        digits = min(1.0, count_error(wh, self.meter.steps.get("wh", 10.0)))
        unseen = UNSEEN_SPREAD if self.kind.rarer and hours < HOURS_A_DAY else 0.0
        return math.sqrt(
            self.watched.span(hours) ** 2
            + self.watched.cut_off(hours) ** 2
            + (2 / 3) * digits**2
            + self.meter.shared_sd**2
            + unseen**2
        )

    def _mean_left(self, measured: float, shared: float) -> dict[InputKey, float]:
        """What a measured mean leaves of whatever the plan draws the mean from.

        ``shared`` is the part of its spread that days and the time of day have in whatever was
        measured before as well: measuring again does not take it away.
        """
        left = {}
        for key in (InputKey(LOAD, self.load.name), InputKey(LOAD_DUTY, self.load.name)):
            before = self.spreads.get(key, 0.0)
            if before <= shared:
                continue
            own = math.sqrt(max(1e-8, measured**2 - shared**2))
            apart = math.sqrt(before**2 - shared**2)
            after = math.hypot(shared, own * apart / math.hypot(own, apart))
            left[key] = min(1.0, _log_sd(after) / _log_sd(before))
        return left


def counter_for(load: PlanLoad, outcome: Outcome, visit: Visit, hours: float) -> Candidate | None:
    """A counter of a load over so many hours; None where no meter can read it there."""
    socket = None if _hands_off(load, visit) else _Socket.of(load, outcome, visit)
    if socket is None or load.by_moments:
        return None
    return socket.counter(hours)


def _rest_of(visit: Visit) -> float:
    """Whole quarters of an hour that a counter could run in the visit, h."""
    return math.floor((visit.minutes - PUT_IN_MIN - TAKE_OUT_MIN) / 15) / 4


def _fits(meter: CarriedMeter, load: PlanLoad, classes: tuple[str, ...]) -> bool:
    """Whether a meter can read a load: its class, what it carries, what it can still see."""
    instrument = meter.instrument
    if instrument.key not in classes:
        return False
    volts = load.volts or 230.0
    amps = load.running_w / max(1e-6, volts * load.power_factor)
    carries = instrument.most_a is None or amps <= instrument.most_a
    return carries and load.running_w >= instrument.least_w


def _kind(load: PlanLoad) -> Kind:
    """Of a load that names none: by whether it pauses."""
    return KINDS[load.kind or ("thermostat-heat" if load.duty < 1 else "electronics")]


def _log_sd(spread: float) -> float:
    """Standard deviation of the logarithm of what has this relative spread."""
    return math.sqrt(math.log1p(spread**2))


def _rest(spreads: Mapping[InputKey, float], key: InputKey, measured: float) -> float:
    """Share of a spread that remains where a measurement of its own spread joins what is known."""
    before, after = _log_sd(spreads.get(key, 0.0)), _log_sd(measured)
    if before <= 0:
        return 1.0
    return 1 / math.sqrt(1 + (before / max(after, 1e-6)) ** 2)


def _start_of(load: PlanLoad, outcome: Outcome, visit: Visit) -> Iterator[Candidate]:
    """A start by clamp, where it is open whether the load starts."""
    if load.route != AC or (load.safety_class == "hard-wired" and not visit.qualified):
        return
    if load.name in visit.keep_plugged:
        return
    clamps = [meter for meter in visit.meters if meter.instrument.fast_inrush
              and meter.instrument.key != "shunt"]  # fmt: skip
    verdict = next((start.verdict for start in outcome.starts if start.load == load.name), None)
    if not clamps or load.tried is not None or verdict is None or verdict.chance is None:
        return
    chance = 1 - verdict.chance
    key = InputKey(LOAD_START, load.name)
    if not _OPEN[0] < chance < _OPEN[1] or outcome.inputs.spreads.get(key, 0.0) <= _START_AFTER:
        return
    keys = tuple(dict.fromkeys(meter.instrument.key for meter in clamps))
    leaves = {key: _rest(outcome.inputs.spreads, key, _START_AFTER)}
    yield Candidate(START, load.name, keys, START_MIN, START_MIN, 0.0, leaves,
                    open_chance=chance, switch_on=True)  # fmt: skip


def _of_supply(outcome: Outcome, visit: Visit) -> Iterator[Candidate]:
    """Idle, efficiency and capacity of the supply, as far as they are open."""
    plan, spreads = outcome.plan, outcome.inputs.spreads
    have = {meter.instrument.key for meter in visit.meters}
    idle, efficiency = InputKey(INVERTER_IDLE), InputKey(INVERTER_EFFICIENCY)
    inverter = plan.supply.inverter
    if inverter is not None and "shunt" in have:
        yield _kept(Candidate(IDLE, "", ("shunt",), _IDLE_MIN, _IDLE_MIN, 0.0,
                              {idle: _rest(spreads, idle, _IDLE_AFTER)}))  # fmt: skip
        if "plug" in have:
            leaves = {efficiency: _rest(spreads, efficiency, _EFFICIENCY_AFTER),
                      idle: _rest(spreads, idle, _IDLE_AFTER)}  # fmt: skip
            yield _kept(Candidate(EFFICIENCY, "", ("shunt",), _EFFICIENCY_MIN, _EFFICIENCY_MIN,
                                  0.0, leaves, also="plug"))  # fmt: skip
    # A shunt reads it better, in minutes, and leaves the battery free for a drain.
    if inverter is not None and "display" in have and "shunt" not in have:
        battery = plan.supply.battery
        held = battery.nominal_wh * battery.state_of_health.value
        hours = (visit.minutes - 2 * _DROP_MIN) / 60
        drop = inverter.idle_w.value * hours / held
        if drop >= _LEAST_DROP:
            off = math.hypot(0.01 / math.sqrt(6) / drop, spreads.get(InputKey(CAPACITY), 0.0))
            yield _kept(Candidate(IDLE_DROP, "", ("display",), visit.minutes, _DROP_MIN, _DROP_MIN,
                                  {idle: _rest(spreads, idle, off)}))  # fmt: skip
    yield from _drain(outcome, plan, visit, have)


def _drain(outcome: Outcome, plan: Plan, visit: Visit, have: set[str]) -> Iterator[Candidate]:
    """A whole discharge at what the inverter carries well, counted at the battery.

    Never where the plan may begin before the battery is full again.
    """
    inverter, key = plan.supply.inverter, InputKey(CAPACITY)
    begins_after = (plan.start - visit.ends).total_seconds() / 3600
    needed_soon = plan.start >= visit.begins and begins_after < _CHARGED_AGAIN_H
    if inverter is None or "shunt" not in have or needed_soon:
        return
    hours = usable_wh(plan.supply.battery).value / (0.3 * inverter.continuous_w)
    minutes = max(2.0, hours) * 60 + 15
    yield _kept(Candidate(DRAIN, "", ("shunt",), minutes, 10.0, 5.0,
                          {key: _rest(outcome.inputs.spreads, key, _DRAIN_AFTER)}))  # fmt: skip


def _kept(candidate: Candidate) -> Candidate:
    """A candidate without what it hardly narrows."""
    leaves = {key: rest for key, rest in candidate.leaves.items() if rest < _WORTHLESS}
    return Candidate(**{**candidate.__dict__, "leaves": leaves})
