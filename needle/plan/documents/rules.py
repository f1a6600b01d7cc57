"""When a value of a plan document matters: one rule for each such value.

A cut-off matters if the battery's voltage sags to it, a power factor if a load is on AC.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import fields
from typing import Any

import numpy as np

from needle.leaves import Path
from needle.plan.energy.simulate import Outcome
from needle.plan.plan import AC, Plan, PlanLoad
from needle.quantity import MOST_DC_V
from needle.supply.battery import cold_factor
from needle.supply.chemistry import CHEMISTRIES
from needle.supply.supply_tests import CapacityTest

#: A plan and its outcome → why a value is not asked for; empty where it is.
Rule = Callable[["Situation"], str]


class Situation:
    """A simulated plan, and the part of it that a rule applies to."""

    def __init__(self, plan: Plan, outcome: Outcome, part: Any = None) -> None:
        self.plan, self.outcome, self.part = plan, outcome, part
        self.battery = plan.supply.battery
        #: Rules of inverters are asked only where there is one.
        self.inverter: Any = plan.supply.inverter
        self.on_ac = [load for load in plan.loads if load.route == AC]

    @property
    def sags(self) -> bool:
        return None not in (self.battery.internal_ohm, self.battery.volts, self.battery.cutoff_v)

    @property
    def any_factor(self) -> bool:
        """Whether any load's non-active VA are known."""
        return any(load.power_factor_known and load.power_factor < 1 for load in self.on_ac)


def _unless(asked: Callable[[Situation], bool], words: str) -> Rule:
    """A rule: the value is unused, for this reason, unless it matters."""
    return lambda situation: "" if asked(situation) else words


def _room(situation: Situation) -> bool:
    """Whether any load, or the battery, depends on the room temperature."""
    battery, plan = situation.battery, situation.plan
    cold = plan.room_c is not None and cold_factor(battery, plan.room_c) != 1
    return cold or _boxes(situation) or _frost(situation)


def _boxes(situation: Situation) -> bool:
    return any(
        load.set_c is not None and load.measured_room_c is not None for load in situation.plan.loads
    )


def _frost(situation: Situation) -> bool:
    room, swing = situation.plan.room_c, situation.plan.room_swing_c
    return bool(situation.plan.sources) and room is not None and room - swing <= 5


def _cold(situation: Situation) -> bool:
    room = situation.plan.room_c
    return room is not None and cold_factor(situation.battery, room) != 1


def _pulls(situation: Situation) -> bool:
    """Whether the battery is ever discharged above its rated current."""
    battery, outcome = situation.battery, situation.outcome
    fastest = float(np.max(outcome.minute_w, initial=0.0)) + 50.0
    return battery.peukert_n > 1 and fastest * 1.5 > battery.nominal_wh / battery.rated_hours / 2


def _tapers(situation: Situation) -> bool:
    """Whether a charger ever offers, nearly or fully, more than the battery accepts."""
    outcome, battery = situation.outcome, situation.battery
    hours = np.arange(len(outcome.sources_w))
    missing = 1 - np.interp(hours, outcome.curve_h, outcome.charge[2])
    takes_w = missing * CHEMISTRIES[battery.chemistry].takes_per_h * battery.nominal_wh
    charged = outcome.sources_w > 0
    return bool(np.any(takes_w[charged] < 3 * outcome.sources_w[charged]))


def _by_mean(situation: Situation) -> bool:
    load: PlanLoad = situation.part
    return not load.by_moments


def _cycles(situation: Situation) -> bool:
    return _by_mean(situation) and situation.part.duty < 1


def _on_ac(situation: Situation) -> bool:
    return situation.part.route == AC and situation.inverter is not None


def _can_ac(situation: Situation) -> bool:
    return _on_ac(situation) or AC in situation.part.can


def _cuts(situation: Situation) -> bool:
    """Whether voltage sag cuts off anything in any draw."""
    return situation.sags and bool(np.any(situation.outcome.cut_off))


def _near(situation: Situation) -> bool:
    """Whether the inverter's continuous rating is nearly or fully reached."""
    inverter, outcome = situation.inverter, situation.outcome
    assert inverter is not None
    return outcome.peak_w > 0.9 * inverter.continuous_w or any(
        trip.why == "overload" for trip in outcome.trips
    )


def _follows_room(situation: Situation) -> bool:
    """Whether a load's power is adjusted to the plan's room temperature."""
    load, room = situation.part, situation.plan.room_c
    return None not in (load.set_c, load.measured_room_c, room)


def _rests(situation: Situation) -> bool:
    """Whether the inverter is ever off while the load is in use."""
    inverter = situation.inverter
    return inverter is not None and bool(inverter.off) and situation.part.route == AC


def _clocked(situation: Situation) -> bool:
    """Whether anything in the plan depends on the clock or the calendar."""
    plan = situation.plan
    off = plan.supply.inverter.off if plan.supply.inverter else ()
    return bool(
        off
        or plan.sources
        or plan.runs
        or plan.supply.tests
        or plan.room_swing_c
        or any(load.windows or load.moments for load in plan.loads)
    )


_NO_SAG = "its volts do not fall to the cut-off in this plan"
_NO_AC = "no load is on AC"
_BY_TASK = "it runs by tasks: their steps tell its watts"
_NO_PAUSE = "it runs without a pause while in use"
_ON_DC = "it is on a DC output: no start or power factor is asked for there"
_NO_ROOM = "the plan's room, its temperature setting and the room it was measured in go together"
_ADVICE = "only for advice"

_TOP_RULES: dict[str, Rule] = {
    "start": _unless(_clocked, "nothing in the plan goes by the clock"),
    "name": lambda _: "a name: no figure uses it",
    "room_c": _unless(_room, "no load has a temperature setting and a measured room; no cold"),
    "room_swing_c": _unless(
        lambda s: s.plan.room_c is not None and (_boxes(s) or _frost(s)),
        "no load follows the room's course",
    ),
    "room_warmest": _unless(
        lambda s: (
            s.plan.room_c is not None and s.plan.room_swing_c > 0 and (_boxes(s) or _frost(s))
        ),
        "no load follows the room's course",
    ),
}

_RULES: dict[str, dict[str, Rule]] = {
    "supply.name": {"name": lambda _: "a name: no figure uses it"},
    "supply.battery": {
        "volts": _unless(
            lambda s: (
                _cuts(s)
                or any(output.kind == "terminals" for output in s.plan.supply.outputs)
                or (
                    bool(s.plan.sources)
                    and any(np.isfinite(entry.controller_a) for entry in s.plan.supply.inputs)
                )
            ),
            "asked for with a cut-off or resistance, a charge controller, or bare terminals",
        ),
        "charge_efficiency": _unless(
            lambda s: s.outcome.energy_wh["battery_in"] > 0, "nothing is charged in this plan"
        ),
        "taper_spread": _unless(_tapers, "no charger comes near what it takes when nearly full"),
        "floor": _unless(
            lambda s: bool(np.any(s.outcome.stops_by)), "it never falls to it in the plan's hours"
        ),
        "nominal_wh": _unless(
            lambda s: not any(isinstance(test, CapacityTest) for test in s.plan.supply.tests),
            "a capacity test tells what it holds",
        ),
        "peukert_n": _unless(_pulls, "it is never drawn faster than at its rated rate"),
        "peukert_spread": _unless(_pulls, "it is never drawn faster than at its rated rate"),
        "rated_hours": _unless(_pulls, "it is never drawn faster than at its rated rate"),
        "measured_c": _unless(lambda s: s.plan.room_c is not None, "the plan's room is not known"),
        "cold_spread": _unless(_cold, "cold takes nothing in this plan's room"),
        "ohm_spread": _unless(_cuts, _NO_SAG),
        "internal_ohm": _unless(_cuts, _NO_SAG),
        "cutoff_v": _unless(_cuts, _NO_SAG),
    },
    "supply.inverter": {
        "volts": _unless(
            lambda s: any(load.volts is not None for load in s.on_ac), "no load's volts are known"
        ),
        "continuous_va": _unless(
            lambda s: s.any_factor or any(load.start_s > s.inverter.surge_s for load in s.on_ac),
            "no load's power factor is known",
        ),
        "off_unused": _unless(lambda s: not s.on_ac, "something is on AC"),
        "overload": _unless(_near, "its continuous rating is never exceeded for long"),
        "continuous_w": _unless(lambda s: bool(s.on_ac), _NO_AC),
        "surge_va": _unless(lambda s: bool(s.on_ac), _NO_AC),
        "surge_s": _unless(
            lambda s: bool(s.on_ac) and s.inverter.surge_known, "its surge rating is not known"
        ),
        "efficiency": _unless(lambda s: bool(s.on_ac), _NO_AC),
        "efficiency_spread": _unless(lambda s: bool(s.on_ac), _NO_AC),
        "square_per_w": _unless(lambda s: bool(s.on_ac), _NO_AC),
        "square_spread": _unless(lambda s: bool(s.on_ac), _NO_AC),
        "waveform": _unless(
            lambda s: any(load.kind for load in s.on_ac), "the kinds of the loads are not known"
        ),
    },
    "supply.outputs": {
        "volts": _unless(
            lambda s: (
                s.part.kind not in ("usb", "terminals")
                and any(
                    load.volts is not None and load.volts <= MOST_DC_V and load.route == s.part.name
                    for load in s.plan.loads
                )
            ),
            "no amps are stated, and no DC load's volts are known",
        ),
        "max_w": _unless(
            lambda s: any(load.route == s.part.name for load in s.plan.loads), "nothing is on it"
        ),
        "max_a": _unless(
            lambda s: any(load.route == s.part.name for load in s.plan.loads), "nothing is on it"
        ),
        "efficiency": _unless(
            lambda s: any(load.route == s.part.name for load in s.plan.loads), "nothing is on it"
        ),
        "efficiency_spread": _unless(
            lambda s: any(load.route == s.part.name for load in s.plan.loads), "nothing is on it"
        ),
        "off_unused": _unless(
            lambda s: not any(load.route == s.part.name for load in s.plan.loads),
            "a load is on it",
        ),
        "off_when_idle": _unless(
            lambda s: any(
                load.route == s.part.name and (load.windows or load.by_moments or load.duty < 1)
                for load in s.plan.loads
            ),
            "something draws there all the time",
        ),
    },
}


_LOAD_RULES: dict[str, Rule] = {
    "priority": _unless(
        lambda s: _rests(s) and not s.part.protected, "the inverter never rests: for advice only"
    ),
    "cares": _unless(
        lambda s: _rests(s) and s.part.priority != "must",
        "the inverter never rests: for advice only",
    ),
    "purpose": lambda _: "for advice only",
    "settings": lambda _: "for advice only",
    "can": lambda _: "for advice only, and for each load alone",
    "watts_spread": _unless(
        lambda s: s.part.by_moments or s.part.duty < 1 or s.part.duty_spread is not None,
        "it runs without a pause: the spread of its mean is that of its watts",
    ),
    "running_w": _unless(lambda s: _by_mean(s) or _on_ac(s), _BY_TASK),
    "resting_w": _unless(_cycles, _NO_PAUSE),
    "duty": _unless(_by_mean, "it runs by tasks: their steps tell how much of them it is on"),
    "cycle_min": _unless(_cycles, _NO_PAUSE),
    "spread": _unless(
        lambda s: _by_mean(s) and s.part.duty_spread is None,
        "its task's energy, or its watts and duty, have spreads of their own",
    ),
    "duty_spread": _unless(_by_mean, _BY_TASK),
    "task_spread": _unless(lambda s: s.part.by_moments, "it does not run by tasks"),
    "day_spread": _unless(_by_mean, "a task's spread tells how its uses differ"),
    "day_swing": _unless(
        lambda s: _by_mean(s) and s.plan.room_swing_c <= 0,
        "the room's own course, or its tasks' hours, tell it",
    ),
    "power_factor": _unless(_can_ac, _ON_DC),
    "power_factor_spread": _unless(
        lambda s: _can_ac(s) and s.part.power_factor < 1 and s.part.va_spread is None,
        "its volt-amperes were read, or it is on DC, or has none",
    ),
    "va_spread": _unless(lambda s: _can_ac(s) and s.part.power_factor < 1, _ON_DC),
    "start_va": _unless(_can_ac, _ON_DC),
    "start_spread": _unless(_can_ac, _ON_DC),
    "start_s": _unless(
        lambda s: _can_ac(s) and s.inverter.surge_known and s.part.tried is None,
        "no surge rating is known, or the start was tested, or it is on DC",
    ),
    "steps": _unless(lambda s: s.part.by_moments, "it does not run by tasks"),
    "start_tested": _unless(_can_ac, _ON_DC),
    "start_beside_w": _unless(
        lambda s: _can_ac(s) and s.part.tried is not None, "no start was tested"
    ),
    "start_times": _unless(
        lambda s: _can_ac(s) and s.part.tried is not None, "no start was tested"
    ),
    "start_ran_s": _unless(
        lambda s: (
            _can_ac(s)
            and s.part.tried is not None
            and s.part.running_w + s.part.tried.beside_w > 0.8 * s.inverter.continuous_w
        ),
        "what ran then is within what the inverter carries without end",
    ),
    "volts": _unless(
        lambda s: (
            (s.part.route == AC and s.inverter is not None and s.inverter.volts is not None)
            or s.part.route != AC
        ),
        "the inverter's volts are not known",
    ),
    "adapter": _unless(
        lambda s: s.part.route != AC, "on AC its adapter's loss is in what was read"
    ),
    "adapter_spread": _unless(
        lambda s: s.part.adapter < 1 and s.part.route != AC,
        "on AC its adapter's loss is in what was read",
    ),
    "set_c": _unless(_follows_room, _NO_ROOM),
    "measured_room_c": _unless(_follows_room, _NO_ROOM),
    "measured_set_c": _unless(_follows_room, _NO_ROOM),
    "pull_down_wh": _unless(_cycles, _NO_PAUSE),
    "pull_down_h": _unless(_cycles, _NO_PAUSE),
    "alone": lambda _: _ADVICE,
    "flexible": lambda _: _ADVICE,
    "meter": _unless(lambda s: s.part.meter_spread > 0, "what its meter errs by is not known"),
    "meter_spread": _unless(lambda s: bool(s.part.meter), "its meter has no name"),
    "notices": lambda _: "said with the answer",
    "spread_after": lambda _: "only for what a measurement would win",
    "kind": lambda _: "only for warnings, and for what a measurement would win",
    "id": lambda _: "an identifier: no figure uses it",
}

_SOURCE_RULES: dict[str, Rule] = {
    "name": lambda _: "a name: no figure uses it",
    "id": lambda _: "an identifier: no figure uses it",
}

_RUN_RULES: dict[str, Rule] = {
    "counted": _unless(lambda s: s.part.wh is not None, "nothing was counted in it"),
    "room_c": _unless(
        lambda s: _cold(s) or s.plan.room_c is not None, "the plan's room is not known"
    ),
    "from": _unless(lambda s: s.part.why != "counted", "only Wh were counted in it"),
    "to": _unless(lambda s: s.part.why != "counted", "only Wh were counted in it"),
}


_PART_RULES = {"loads": _LOAD_RULES, "sources": _SOURCE_RULES, "runs": _RUN_RULES}


def asked_figures(load: PlanLoad, situation: Situation) -> dict[str, Any]:
    """A load's figures that matter in the plan."""
    own = Situation(situation.plan, situation.outcome, load)
    return {
        field.name: getattr(load, field.name)
        for field in fields(load)
        if not ((rule := _LOAD_RULES.get(field.name)) and rule(own))
    }


def why_unasked(path: Path, situation: Situation) -> str:
    """Why a value does not matter in this plan; empty if it does."""
    keys = [part for part in path if isinstance(part, str)]
    rule = _rule_for(keys)
    if rule is None:
        return ""
    part = _part_at(path, situation.plan)
    return rule(situation if part is None else Situation(situation.plan, situation.outcome, part))


def _rule_for(keys: Sequence[str]) -> Rule | None:
    """The rule of a value, by the keys on the way to it."""
    if keys[0] in _PART_RULES:
        return _PART_RULES[keys[0]].get(keys[1])
    if keys[0] == "supply":
        return _RULES.get(".".join(keys[:2]), {}).get(keys[-1])
    return _TOP_RULES.get(keys[0])


def _part_at(path: Path, plan: Plan) -> Any:
    """The load, source, run or output that a path leads to; None for any other part."""
    for start, parts in (
        (("loads",), plan.loads),
        (("sources",), plan.sources),
        (("runs",), plan.runs),
        (("supply", "outputs"), plan.supply.outputs),
    ):
        number = path[len(start)] if path[: len(start)] == start else None
        if isinstance(number, int):
            return parts[number]
    return None
