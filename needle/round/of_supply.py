"""Measurements of the supply that are possible in a visit: idle draw, efficiency and capacity."""

from __future__ import annotations

import math
from collections.abc import Iterator

from needle.plan.draws.inputs import CAPACITY, INVERTER_EFFICIENCY, INVERTER_IDLE, InputKey
from needle.plan.energy.simulate import Outcome
from needle.round.candidate import DRAIN, EFFICIENCY, IDLE, IDLE_DROP, Candidate, rest_of
from needle.round.visit import Visit
from needle.supply.battery import usable_wh
from needle.supply.inverter import Inverter

_IDLE_MIN, _EFFICIENCY_MIN, _DROP_MIN = 10.0, 30.0, 4.0
#: Spreads that remain: idle and efficiency read on both sides, what a drain that is counted leaves
#: of the capacity.
_IDLE_AFTER, _EFFICIENCY_AFTER, _DRAIN_AFTER = 0.03, 0.015, 0.025
#: Least that a display must fall for its drop to say something, share of full.
_LEAST_DROP = 0.015
#: Last digit of a display's charge, share of full.
_DISPLAY_STEP = 0.01


def of_supply(outcome: Outcome, visit: Visit) -> Iterator[Candidate]:
    """Return measurements of idle draw, efficiency and capacity, as far as they are uncertain."""
    spreads = outcome.inputs.spreads
    have = {meter.instrument.key for meter in visit.meters}
    idle, efficiency = InputKey(INVERTER_IDLE), InputKey(INVERTER_EFFICIENCY)
    inverter = outcome.plan.supply.inverter
    if inverter is None:
        return
    if "shunt" in have:
        idle_left = rest_of(spreads, idle, _IDLE_AFTER)
        yield Candidate(IDLE, "", "shunt", _IDLE_MIN, _IDLE_MIN, 0.0, {idle: idle_left})
        if "plug" in have:
            efficiency_left = rest_of(spreads, efficiency, _EFFICIENCY_AFTER)
            yield Candidate(
                EFFICIENCY,
                "",
                "shunt",
                _EFFICIENCY_MIN,
                _EFFICIENCY_MIN,
                0.0,
                {efficiency: efficiency_left, idle: idle_left},
                also="plug",
            )
        yield from _drain(outcome, inverter, visit)
    elif "display" in have:
        # A shunt reads it better, in minutes, and leaves the battery free for a drain.
        yield from _idle_drop(outcome, inverter, visit)


def _idle_drop(outcome: Outcome, inverter: Inverter, visit: Visit) -> Iterator[Candidate]:
    """The fall of the display over the visit, with the inverter on and nothing plugged in."""
    spreads, key = outcome.inputs.spreads, InputKey(INVERTER_IDLE)
    minutes = visit.slots * visit.slot_min
    battery = outcome.plan.supply.battery
    held = battery.nominal_wh * battery.state_of_health.value
    drop = inverter.idle_w.value * (minutes - 2 * _DROP_MIN) / 60 / held
    if drop >= _LEAST_DROP:
        measured = math.hypot(
            _DISPLAY_STEP / math.sqrt(6) / drop, spreads.get(InputKey(CAPACITY), 0.0)
        )
        left = {key: rest_of(spreads, key, measured)}
        yield Candidate(IDLE_DROP, "", "display", minutes, _DROP_MIN, _DROP_MIN, left)


def _drain(outcome: Outcome, inverter: Inverter, visit: Visit) -> Iterator[Candidate]:
    """A complete discharge at a moderate inverter load, counted at the battery.

    Never while the plan runs, or if it may begin before the battery is full again.
    """
    plan, key = outcome.plan, InputKey(CAPACITY)
    if not visit.leaves_battery(plan):
        return
    hours = usable_wh(plan.supply.battery).value / (0.3 * inverter.continuous_w)
    minutes = max(2.0, hours) * 60 + 15
    left = {key: rest_of(outcome.inputs.spreads, key, _DRAIN_AFTER)}
    yield Candidate(DRAIN, "", "shunt", minutes, 10.0, 5.0, left)
