"""The power of each load in every draw, block of minutes by block.

Arrays are (draws, minutes of the block), single precision.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from needle.decide.starting import carried_va, start_as_tried
from needle.moments import DAY_MIN, in_windows, occurrences
from needle.plan.draws.inputs import (
    DAYS,
    GREY,
    LOAD,
    LOAD_DUTY,
    LOAD_FACTOR,
    LOAD_START,
    LOAD_TASK,
    LOAD_VA,
    LOAD_WATTS,
    PHASES,
    REPAID,
    SWINGS,
    WANDERS,
    Inputs,
)
from needle.plan.draws.uses import STRETCH, daily_uses, used_by_stretch
from needle.plan.load import AC, Charge, PlanLoad
from needle.plan.plan import Plan, in_use, room_by_minute
from needle.profile.temperature import scale_mean
from needle.profile.variation import wander_spread

#: Charging goes at full W up to this share of a pack, then falls straight to a tenth (general).
_PACK_KNEE, _PACK_LEAST = 0.85, 0.10
#: The least share of what it missed that a load works off after a rest.
REPAID_LEAST = 0.8
#: The least power factor that is drawn.
LEAST_FACTOR = 0.05


@dataclass(frozen=True)
class Pattern:
    """One load (one of its count) in all draws.

    Attributes
    ----------
    load : PlanLoad
    shape : ndarray, (minutes,)
        For a load with hours of use: 1 in minutes of use, else 0. For tasks and charges: W.
    rest_w, extra_w : ndarray, (draws,)
        W at rest while in use, and additional W while on. For tasks and charges: 0, and a factor
        on ``shape``.
    uses : ndarray of int, (uses, 2)
        First minute, and the minute after the last, of each use.
    duty, phase : ndarray, (draws,), or None
        Duty and phase of a load that cycles.
    duty_scale : ndarray, (minutes,), or None
        Factor on the duty from the room temperature through the day.
    full : list of (minute, ndarray)
        Times at which it runs without cycling off, each with its end in every draw: while warm
        contents are cooled at the start, and after the inverter was off.
    peak_w : ndarray, (minutes,), or None
        Power of tasks that limits are checked against, W.
    peak_factor, start_va : ndarray, (draws,)
        Factor on ``peak_w``; start-up VA.
    nonactive : ndarray, (draws,), or None
        Non-active VA per W; None if the power factor is unknown.
    stretch : ndarray, (draws, stretches), or None
        Factor from the day and the time of day, for each stretch of :data:`STRETCH` minutes.
    """

    load: PlanLoad
    shape: np.ndarray
    rest_w: np.ndarray
    extra_w: np.ndarray
    uses: np.ndarray
    duty: np.ndarray | None = None
    phase: np.ndarray | None = None
    duty_scale: np.ndarray | None = None
    full: Sequence[tuple[int, np.ndarray]] = ()
    peak_w: np.ndarray | None = None
    peak_factor: np.ndarray | None = None
    start_va: np.ndarray | None = None
    stretch: np.ndarray | None = None
    nonactive: np.ndarray | None = None

    def power(self, first: int, last: int) -> np.ndarray:
        """Power in the minutes from ``first`` to before ``last``, W, (draws, minutes)."""
        shape = self.shape[first:last]
        if self.duty is None or self.phase is None:
            watts = self.rest_w + self.extra_w
            if self.stretch is None:
                return np.outer(watts, shape)
            return np.asarray(self._by_stretch(first, last) * watts[:, None] * shape)
        on = self._on_share(first, last)
        on *= self.extra_w[:, None]
        on += self.rest_w[:, None]
        on *= shape
        return on

    def used_before(self, minute: int) -> np.ndarray:
        """Draws in which somebody or something uses the load before a minute, (draws,)."""
        assert self.stretch is not None
        begins = range(0, minute, STRETCH)
        in_use = [bool(self.shape[at : min(minute, at + STRETCH)].any()) for at in begins]
        return np.asarray((self.stretch[:, : len(in_use)] > 0)[:, in_use].any(axis=1))

    def _by_stretch(self, first: int, last: int) -> np.ndarray:
        """Factors of day and time of day, (draws, 1) within one stretch, else (draws, minutes)."""
        assert self.stretch is not None
        numbers = np.arange(first, last) // STRETCH
        if numbers[0] == numbers[-1]:
            return self.stretch[:, numbers[0], None]
        return self.stretch[:, numbers]

    def _on_share(self, first: int, last: int) -> np.ndarray:
        """Exact share of each minute that a cycling load is on.

        The on-time up to place x (in cycles) is floor(x)·duty + min(x - floor(x), duty); sampling
        on/off by the minute instead would round every cycle of a draw the same way.
        """
        assert self.duty is not None and self.phase is not None
        period = np.float32(self.load.draw.cycle_min)
        place = np.arange(first, last + 1, dtype=np.float32) / period + self.phase[:, None]
        duty = self.duty[:, None]
        if self.stretch is not None:
            duty = np.minimum(1.0, duty * self._by_stretch(first, last))
        if self.duty_scale is not None:
            duty = np.minimum(1.0, duty * self.duty_scale[first:last])
        if duty.shape[1] == 1:
            on = np.diff(_on_time(place, duty), axis=1)
        else:
            on = _on_time(place[:, 1:], duty) - _on_time(place[:, :-1], duty)
        on *= period
        np.clip(on, 0.0, 1.0, out=on)
        minute = np.arange(first, last, dtype=np.float32)
        for begin, until in self.full:
            if begin < last and first < float(until.max()):
                without_pause = np.clip(until[:, None] - minute, 0.0, 1.0) * (minute >= begin)
                np.maximum(on, without_pause, out=on)
        return on

    def use_at(self, minute: np.ndarray) -> np.ndarray:
        """Index of the use that minutes fall into (any shape)."""
        return np.searchsorted(self.uses[:, 0], minute, side="right") - 1

    def as_mean(self) -> Pattern:
        """The same load as a single draw at its mean, without cycling."""
        if self.duty is None:
            plain = np.array([self.load.draw.running_w if not self.load.use.by_moments else 1.0])
            return replace(self, rest_w=np.zeros(1), extra_w=plain, stretch=None)
        span = self.load.draw.running_w - self.load.draw.resting_w
        scale = np.ones(len(self.shape)) if self.duty_scale is None else self.duty_scale
        duty = np.minimum(1.0, self.load.draw.duty * scale)
        minute = np.arange(len(duty))
        for begin, until in self.full:
            duty = np.maximum(duty, np.clip(until[0] - minute, 0.0, 1.0) * (minute >= begin))
        watts = self.shape * (self.load.draw.resting_w + span * duty)
        return replace(
            self,
            shape=watts,
            rest_w=np.zeros(1),
            extra_w=np.ones(1),
            duty=None,
            phase=None,
            duty_scale=None,
            full=(),
            stretch=None,
        )


def _on_time(place: np.ndarray, duty: np.ndarray) -> np.ndarray:
    """Accumulated on-time up to a position, both in cycles."""
    whole = np.floor(place)
    part = np.minimum(place - whole, duty)
    whole *= duty
    part += whole
    return np.asarray(part)


def patterns_of(load: PlanLoad, plan: Plan, minutes: int, inputs: Inputs) -> list[Pattern]:
    """Return the patterns of a load, one for each of its count."""
    draws = inputs.draws
    start_va = _start_va(load, plan, inputs)
    watts = inputs.factor(LOAD_WATTS, load.name)
    if load.use.by_moments:
        nonactive = _nonactive(load, inputs, watts)
        task = _by_moment(load, plan, minutes, inputs.factor(LOAD_TASK, load.name))
        task = replace(
            task,
            peak_factor=watts,
            start_va=start_va,
            nonactive=nonactive,
            stretch=daily_uses(load, minutes, inputs),
        )
        return [task] * load.count
    mask = in_use(load, plan.start, minutes)
    uses, shape = runs(mask), mask.astype(np.float32)
    stretches = [_stretches(load, plan, minutes, inputs, number) for number in range(load.count)]
    running, duty = _running_and_duty(load, inputs, watts)
    nonactive = _nonactive(load, inputs, running / max(load.draw.running_w, 1e-9))
    start_va = np.maximum(start_va, running)
    if load.draw.duty >= 1.0:
        steady = Pattern(
            load,
            shape,
            np.zeros(draws, np.float32),
            running.astype(np.float32),
            uses,
            start_va=start_va,
            nonactive=nonactive,
        )
        return [replace(steady, stretch=stretch) for stretch in stretches]
    full = _without_pause(load, plan, minutes, duty, inputs)
    places = (np.arange(draws) + 0.5) / draws
    stream = inputs.stream(PHASES, load.name)
    return [
        Pattern(
            load,
            shape,
            np.full(draws, load.draw.resting_w, np.float32),
            (running - load.draw.resting_w).astype(np.float32),
            uses,
            duty=duty.astype(np.float32),
            phase=stream.permutation(places).astype(np.float32),
            duty_scale=_through_the_day(load, plan, minutes),
            full=full,
            start_va=start_va,
            stretch=stretch,
            nonactive=nonactive,
        )
        for stretch in stretches
    ]


def _start_va(load: PlanLoad, plan: Plan, inputs: Inputs) -> np.ndarray:
    """Start-up VA of a load in each draw, adjusted by its start test on the plan's inverter."""
    start_va = load.draw.start_va * inputs.factor(LOAD_START, load.name)
    inverter = plan.supply.inverter
    if load.tried is None or inverter is None or load.route != AC:
        return start_va
    grey = inputs.uniform(GREY, load.name)
    return start_as_tried(
        start_va, carried_va(inverter, start_va, load.draw.start_s, grey), load.tried
    )


def _nonactive(load: PlanLoad, inputs: Inputs, watts: np.ndarray) -> np.ndarray | None:
    """Non-active VA per W of a load, √(1/PF² - 1), in each draw.

    ``watts`` are the factors on its running W in each draw.
    """
    if not load.draw.power_factor_known or load.draw.power_factor >= 1:
        return None
    if load.spreads.va is None:
        times = inputs.factor(LOAD_FACTOR, load.name)
    else:
        # W and VA were read together: a shared error leaves their ratio unchanged.
        times = watts / inputs.factor(LOAD_VA, load.name)
    factor = np.clip(load.draw.power_factor * times, LEAST_FACTOR, 1.0)
    return np.sqrt(1 / factor**2 - 1).astype(np.float32)


def _running_and_duty(
    load: PlanLoad, inputs: Inputs, watts: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Running W and duty in each draw, consistent with the drawn mean."""
    if load.draw.duty >= 1.0:
        known = load.spreads.duty is not None
        running = load.draw.running_w * (watts if known else inputs.factor(LOAD, load.name))
        return running, np.ones(inputs.draws)
    running = np.maximum(load.draw.resting_w, load.draw.running_w * watts)
    if load.spreads.duty is not None:
        return running, np.minimum(1.0, load.draw.duty * inputs.factor(LOAD_DUTY, load.name))
    mean = load.mean_w * inputs.factor(LOAD, load.name)
    # A mean beyond the running watts lifts them: the energy is what the mean says.
    running = np.maximum(running, mean)
    span = np.maximum(running - load.draw.resting_w, 1e-9)
    return running, np.clip((mean - load.draw.resting_w) / span, 0.0, 1.0)


def mean_w(load: PlanLoad, inputs: Inputs) -> np.ndarray:
    """Mean W of one load while in use, (draws,)."""
    if load.use.by_moments:
        return load.mean_w * inputs.factor(LOAD_TASK, load.name)
    watts = inputs.factor(LOAD_WATTS, load.name)
    running, duty = _running_and_duty(load, inputs, watts)
    if load.draw.duty >= 1.0:
        return running
    return load.draw.resting_w + duty * (running - load.draw.resting_w)


def _stretches(
    load: PlanLoad, plan: Plan, minutes: int, inputs: Inputs, number: int = 0
) -> np.ndarray | None:
    """Factors of days and of the time of day on a load; None if neither is uncertain.

    Days are drawn independently, and separately for each of several identical loads (``number``).
    The daily swing peaks at a random time in each draw, unless the room's own swing is known.
    """
    swings = load.draw.day_swing > 0 and plan.room_swing_c <= 0
    varies = load.spreads.day > 0 or load.draw.wander > 0 or load.use.uses_per_day is not None
    if inputs.draws == 1 or not (varies or swings):
        return None
    count = math.ceil(minutes / STRETCH)
    day = np.arange(count) * STRETCH // DAY_MIN
    stretch = _by_day(load, inputs, number, int(day[-1]) + 1)[:, day]
    if swings:
        top = inputs.stream(SWINGS, load.name).permutation(inputs.draws) / inputs.draws
        place = (np.arange(count) + 0.5) * STRETCH / DAY_MIN
        stretch *= 1 + load.draw.day_swing * np.cos(2 * np.pi * (place - top[:, None]))
    if load.draw.wander > 0:
        sigma = wander_spread(STRETCH / 60, load.draw.wander)
        normal = inputs.stream(WANDERS, load.name, number).standard_normal((count, inputs.draws))
        stretch *= np.exp(sigma * normal.T - sigma**2 / 2)
    if load.use.uses_per_day is not None:
        stretch = used_by_stretch(load, plan, stretch, inputs, number)
    return stretch.astype(np.float32)


def _by_day(load: PlanLoad, inputs: Inputs, number: int, days: int) -> np.ndarray:
    """Factors of days about the long-run mean, (draws, days)."""
    sigma = math.sqrt(math.log1p(load.spreads.day**2))
    # Day by day, so that the first days are the same however far a plan looks.
    normal = inputs.stream(DAYS, load.name, number).standard_normal((days, inputs.draws)).T
    return np.asarray(np.exp(sigma * normal - sigma**2 / 2))


def _by_moment(load: PlanLoad, plan: Plan, minutes: int, factor: np.ndarray) -> Pattern:
    """Pattern of tasks or charges: the same power profile from each start, scaled in each draw."""
    if load.use.charge is not None:
        course = _charge_course(load.use.charge)
        most = course
    else:
        course, most = _task_course(load)
    watts, peaks = np.zeros(minutes), np.zeros(minutes)
    uses = []
    for at in occurrences(load.use.moments, plan.start, minutes):
        last = min(minutes, at + len(course))
        watts[at:last] = np.maximum(watts[at:last], course[: last - at])
        peaks[at:last] = np.maximum(peaks[at:last], most[: last - at])
        uses.append((at, last))
    return Pattern(
        load,
        watts.astype(np.float32),
        np.zeros(len(factor), np.float32),
        factor.astype(np.float32),
        np.array(uses, dtype=int).reshape(-1, 2),
        peak_w=peaks.astype(np.float32),
    )


def _task_course(load: PlanLoad) -> tuple[np.ndarray, np.ndarray]:
    """Power of a task by the minute, exact over parts of minutes, and its peak power."""
    ends = np.cumsum([step.minutes for step in load.use.steps])
    length = max(1, math.ceil(ends[-1] - 1e-9))
    edges = np.unique(np.concatenate([np.arange(length + 1), ends]))
    edges = edges[edges <= ends[-1] + 1e-9]
    step = np.minimum(np.searchsorted(ends, edges[:-1], side="right"), len(load.use.steps) - 1)
    mean = np.array([step.watts * step.duty for step in load.use.steps])[step]
    most = np.array([step.watts for step in load.use.steps])[step]
    course, peak = np.zeros(length), np.zeros(length)
    minute = np.minimum(edges[:-1].astype(int), length - 1)
    np.add.at(course, minute, mean * np.diff(edges))
    np.maximum.at(peak, minute, most)
    return course, np.maximum(peak, course)


def _charge_course(charge: Charge) -> np.ndarray:
    """Power of charging a pack by the minute: constant up to the knee, then falling to a tenth."""
    pack = charge.pack_wh
    watts: list[float] = []
    filled = 1.0 - charge.missing
    while filled < 1.0 - 1e-9 and len(watts) < 60 * 24 * 14:
        past = max(0.0, (filled - _PACK_KNEE) / (1 - _PACK_KNEE))
        now = charge.watts * (1 - (1 - _PACK_LEAST) * past)
        step = min(now, (1.0 - filled) * pack / charge.efficiency * 60)
        watts.append(step)
        filled += step * charge.efficiency / pack / 60
    return np.array(watts or [0.0])


def _without_pause(
    load: PlanLoad, plan: Plan, minutes: int, duty: np.ndarray, inputs: Inputs
) -> list[tuple[int, np.ndarray]]:
    """When a load runs without cycling off: for warm contents, and after the inverter was off.

    A cold box catches up on 80 to 100 % of what it missed (our own general value: its walls and
    contents store some cold).
    """
    full = []
    if load.thermal.pull_down_wh > 0:
        full.append((0, _pull_down_min(load, duty)))
    inverter = plan.supply.inverter
    if inverter is not None and inverter.off and load.route == AC and load.thermostatic:
        share = REPAID_LEAST + (1 - REPAID_LEAST) * inputs.uniform(REPAID, load.name)
        for begin, end in runs(in_windows(inverter.off, plan.start, minutes)):
            missed = (end - begin) * duty
            more = missed * share / np.maximum(0.02, 1 - duty)
            full.append((int(end), (end + more).astype(np.float32)))
    return full


def _pull_down_min(load: PlanLoad, duty: np.ndarray) -> np.ndarray:
    """Minutes without cycling off that take the given extra Wh, for each draw's duty."""
    room_w = (load.draw.running_w - load.draw.resting_w) * np.maximum(0.02, 1 - duty)
    minutes = load.thermal.pull_down_wh / np.maximum(room_w, 1e-9) * 60
    return np.asarray(minutes.astype(np.float32))


def _through_the_day(load: PlanLoad, plan: Plan, minutes: int) -> np.ndarray | None:
    """Factor on the duty from the room's daily swing; None if the room is constant."""
    if plan.room_swing_c <= 0 or load.thermal.set_c is None or load.thermal.measured_room_c is None:
        return None
    rooms = room_by_minute(plan, minutes)
    if rooms is None or plan.room_c is None:
        return None
    heats = load.thermal.set_c > load.thermal.measured_room_c
    try:
        whole = np.unique(np.round(rooms, 1))
        factors = [
            scale_mean(load.thermal.set_c, plan.room_c, float(minute), heats).factor
            for minute in whole
        ]
    except ValueError:
        return None
    return np.asarray(np.interp(rooms, whole, factors).astype(np.float32))


def runs(mask: np.ndarray) -> np.ndarray:
    """Spans of true values as (first, index after the last), shape (spans, 2)."""
    edges = np.flatnonzero(np.diff(np.concatenate(([0], mask.astype(np.int8), [0]))))
    return edges.reshape(-1, 2)


def wanted_wh(patterns: Sequence[Pattern], minutes: int) -> dict[str, float]:
    """Energy that each load needs over a number of minutes, Wh, from mean patterns."""
    wanted: dict[str, float] = {}
    for pattern in patterns:
        watts = float(pattern.power(0, minutes).sum())
        wanted[pattern.load.name] = wanted.get(pattern.load.name, 0.0) + watts / 60
    return wanted
