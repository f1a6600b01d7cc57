"""When a value of a plan document matters: one rule for each such value.

A cut-off matters if the battery's voltage sags to it, a power factor if a load is on AC.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import fields
from typing import Any

import numpy as np

from needle.leaves import Path
from needle.plan.energy.simulate import Outcome
from needle.plan.load import AC, PlanLoad
from needle.plan.plan import Plan
from needle.plan.run import COUNTED_ONLY
from needle.quantity import MOST_DC_V
from needle.supply.battery import cold_factor
from needle.supply.chemistry import CHEMISTRIES
from needle.supply.supply_tests import CapacityTest

#: A plan and its outcome → code of why a value is not asked for; empty where it is.
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
        return any(
            load.draw.power_factor_known and load.draw.power_factor < 1 for load in self.on_ac
        )


def _unless(asked: Callable[[Situation], bool], code: str) -> Rule:
    """A rule: the value is unused, for this reason, unless it matters."""
    return lambda situation: "" if asked(situation) else code


def _room(situation: Situation) -> bool:
    """Whether any load, or the battery, depends on the room temperature."""
    battery, plan = situation.battery, situation.plan
    cold = plan.room_c is not None and cold_factor(battery, plan.room_c) != 1
    return cold or _boxes(situation) or _frost(situation)


def _boxes(situation: Situation) -> bool:
    boxes = (load.thermal for load in situation.plan.loads)
    return any(box.set_c is not None and box.measured_room_c is not None for box in boxes)


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
    hours = np.arange(len(outcome.likely.sources_w))
    missing = 1 - np.interp(hours, outcome.curve_h, outcome.charge[2])
    takes_w = missing * CHEMISTRIES[battery.chemistry].takes_per_h * battery.nominal_wh
    charged = outcome.likely.sources_w > 0
    return bool(np.any(takes_w[charged] < 3 * outcome.likely.sources_w[charged]))


def _by_mean(situation: Situation) -> bool:
    load: PlanLoad = situation.part
    return not load.use.by_moments


def _cycles(situation: Situation) -> bool:
    return _by_mean(situation) and situation.part.draw.duty < 1


def _on_ac(situation: Situation) -> bool:
    return situation.part.route == AC and situation.inverter is not None


def _limited(situation: Situation) -> bool:
    """Whether what a load's route carries is limited."""
    supply = situation.plan.supply
    outputs = (output.max_w for output in supply.outputs if output.name == situation.part.route)
    limits = (supply.total_max_w, *outputs)
    return _on_ac(situation) or any(math.isfinite(limit) for limit in limits)


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
    return None not in (load.thermal.set_c, load.thermal.measured_room_c, room)


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
        or any(load.use.windows or load.use.moments for load in plan.loads)
    )


_NO_SAG = "no-sag"
_NO_AC = "no-ac-load"
_BY_TASK = "steps-tell-watts"
_NO_PAUSE = "no-pause"
_ON_DC = "on-dc"
_NO_ROOM = "room-incomplete"
_ADVICE = "for-advice"

_TOP_RULES: dict[str, Rule] = {
    "start": _unless(_clocked, "no-clock"),
    "name": lambda _: "name",
    "room_c": _unless(_room, "no-room-effect"),
    "room_swing_c": _unless(
        lambda s: s.plan.room_c is not None and (_boxes(s) or _frost(s)),
        "no-room-course",
    ),
    "room_warmest": _unless(
        lambda s: (
            s.plan.room_c is not None and s.plan.room_swing_c > 0 and (_boxes(s) or _frost(s))
        ),
        "no-room-course",
    ),
}

_RULES: dict[str, dict[str, Rule]] = {
    "supply.name": {"name": lambda _: "name"},
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
            "volts-unasked",
        ),
        "charge_efficiency": _unless(
            lambda s: s.outcome.likely.energy_wh["battery_in"] > 0, "nothing-charged"
        ),
        "taper_spread": _unless(_tapers, "no-taper"),
        "floor": _unless(lambda s: bool(np.any(s.outcome.stops_by)), "floor-not-reached"),
        "nominal_wh": _unless(
            lambda s: not any(isinstance(test, CapacityTest) for test in s.plan.supply.tests),
            "capacity-tested",
        ),
        "peukert_n": _unless(_pulls, "slow-discharge"),
        "peukert_spread": _unless(_pulls, "slow-discharge"),
        "rated_hours": _unless(_pulls, "slow-discharge"),
        "measured_c": _unless(lambda s: s.plan.room_c is not None, "room-unknown"),
        "cold_spread": _unless(_cold, "no-cold"),
        "ohm_spread": _unless(_cuts, _NO_SAG),
        "internal_ohm": _unless(_cuts, _NO_SAG),
        "cutoff_v": _unless(_cuts, _NO_SAG),
    },
    "supply.inverter": {
        "volts": _unless(
            lambda s: any((load.draw.volts or 0.0) > MOST_DC_V for load in s.on_ac),
            "load-volts-unknown",
        ),
        "continuous_va": _unless(
            lambda s: (
                s.any_factor or any(load.draw.start_s > s.inverter.surge_s for load in s.on_ac)
            ),
            "power-factor-unknown",
        ),
        "off_unused": _unless(lambda s: not s.on_ac, "ac-used"),
        "overload": _unless(_near, "no-overload"),
        "continuous_w": _unless(lambda s: bool(s.on_ac), _NO_AC),
        "surge_va": _unless(lambda s: bool(s.on_ac), _NO_AC),
        "surge_s": _unless(lambda s: bool(s.on_ac) and s.inverter.surge_known, "surge-unknown"),
        "efficiency": _unless(lambda s: bool(s.on_ac), _NO_AC),
        "efficiency_spread": _unless(lambda s: bool(s.on_ac), _NO_AC),
        "square_per_w": _unless(lambda s: bool(s.on_ac), _NO_AC),
        "square_spread": _unless(lambda s: bool(s.on_ac), _NO_AC),
        "waveform": _unless(lambda s: any(load.kind for load in s.on_ac), "kinds-unknown"),
    },
    "supply.outputs": {
        "volts": _unless(
            lambda s: (
                s.part.kind not in ("usb", "terminals")
                and any(
                    load.draw.volts is not None
                    and load.draw.volts <= MOST_DC_V
                    and load.route == s.part.name
                    for load in s.plan.loads
                )
            ),
            "output-volts-unasked",
        ),
        "max_w": _unless(
            lambda s: any(load.route == s.part.name for load in s.plan.loads), "output-empty"
        ),
        "max_a": _unless(
            lambda s: any(load.route == s.part.name for load in s.plan.loads), "output-empty"
        ),
        "efficiency": _unless(
            lambda s: any(load.route == s.part.name for load in s.plan.loads), "output-empty"
        ),
        "efficiency_spread": _unless(
            lambda s: any(load.route == s.part.name for load in s.plan.loads), "output-empty"
        ),
        "off_unused": _unless(
            lambda s: not any(load.route == s.part.name for load in s.plan.loads),
            "output-used",
        ),
        "off_when_idle": _unless(
            lambda s: any(
                load.route == s.part.name
                and (load.use.windows or load.use.by_moments or load.draw.duty < 1)
                for load in s.plan.loads
            ),
            "output-always-drawn",
        ),
    },
}


def _volts_unused(situation: Situation) -> str:
    """Why a load's volts do not count; empty if they do."""
    load, inverter = situation.part, situation.inverter
    if load.route != AC:
        return ""
    if inverter is None or inverter.volts is None:
        return "inverter-volts-unknown"
    return "volts-behind-adapter" if (load.draw.volts or 0.0) <= MOST_DC_V else ""


_LOAD_RULES: dict[str, Rule] = {
    "priority": _unless(lambda s: _rests(s) and not s.part.protected, "inverter-never-rests"),
    "cares": _unless(
        lambda s: _rests(s) and s.part.priority != "must",
        "inverter-never-rests",
    ),
    "purpose": lambda _: "for-advice",
    "wired": lambda _: "for-advice",
    "legs": lambda _: "for-advice",
    "settings": lambda _: "for-advice",
    "can": lambda _: "for-advice-and-alone",
    "watts_spread": _unless(
        lambda s: (
            (s.part.use.by_moments and _limited(s))
            or s.part.draw.duty < 1
            or s.part.spreads.duty is not None
        ),
        "watts-spread-is-mean-spread",
    ),
    "running_w": _unless(lambda s: _by_mean(s) or _on_ac(s), _BY_TASK),
    "resting_w": _unless(_cycles, _NO_PAUSE),
    "duty": _unless(_by_mean, "steps-tell-duty"),
    "cycle_min": _unless(_cycles, _NO_PAUSE),
    "spread": _unless(
        lambda s: _by_mean(s) and s.part.spreads.duty is None,
        "own-spreads",
    ),
    "duty_spread": _unless(_by_mean, _BY_TASK),
    "task_spread": _unless(lambda s: s.part.use.by_moments, "no-tasks"),
    "day_spread": _unless(_by_mean, "task-spread-tells-days"),
    "day_swing": _unless(
        lambda s: _by_mean(s) and s.plan.room_swing_c <= 0,
        "course-told",
    ),
    "power_factor": _unless(_can_ac, _ON_DC),
    "power_factor_spread": _unless(
        lambda s: _can_ac(s) and s.part.draw.power_factor < 1 and s.part.spreads.va is None,
        "va-read",
    ),
    "va_spread": _unless(lambda s: _can_ac(s) and s.part.draw.power_factor < 1, _ON_DC),
    "start_va": _unless(_can_ac, _ON_DC),
    "start_spread": _unless(_can_ac, _ON_DC),
    "start_s": _unless(
        lambda s: _can_ac(s) and s.inverter.surge_known and s.part.tried is None,
        "start-length-unasked",
    ),
    "steps": _unless(lambda s: s.part.use.by_moments, "no-tasks"),
    "start_tested": _unless(_can_ac, _ON_DC),
    "start_beside_w": _unless(lambda s: _can_ac(s) and s.part.tried is not None, "no-start-test"),
    "start_times": _unless(lambda s: _can_ac(s) and s.part.tried is not None, "no-start-test"),
    "start_ran_s": _unless(
        lambda s: (
            _can_ac(s)
            and s.part.tried is not None
            and s.part.draw.running_w + s.part.tried.beside_w > 0.8 * s.inverter.continuous_w
        ),
        "start-run-carried",
    ),
    "volts": _volts_unused,
    "adapter": _unless(lambda s: s.part.route != AC, "adapter-in-reading"),
    "adapter_spread": _unless(
        lambda s: s.part.draw.adapter < 1 and s.part.route != AC,
        "adapter-in-reading",
    ),
    "set_c": _unless(_follows_room, _NO_ROOM),
    "measured_room_c": _unless(_follows_room, _NO_ROOM),
    "measured_set_c": _unless(_follows_room, _NO_ROOM),
    "pull_down_wh": _unless(_cycles, _NO_PAUSE),
    "pull_down_h": _unless(_cycles, _NO_PAUSE),
    "alone": lambda _: _ADVICE,
    "flexible": lambda _: _ADVICE,
    "meter": _unless(lambda s: s.part.spreads.meter > 0, "meter-spread-unknown"),
    "meter_spread": _unless(lambda s: bool(s.part.meter), "meter-unnamed"),
    "notices": lambda _: "said-with-answer",
    "spread_after": lambda _: "for-measurement-tips",
    "kind": lambda _: "for-cautions-and-tips",
    "id": lambda _: "identifier",
}

_SOURCE_RULES: dict[str, Rule] = {
    "name": lambda _: "name",
    "id": lambda _: "identifier",
}


def _looked_within(situation: Situation) -> bool:
    """Whether a run has a charge, shown between its start and its end, that is below its first."""
    run = situation.part
    return run.why != COUNTED_ONLY and any(
        0 < look.h < run.hours and look.shown < run.start for look in run.looks
    )


_RUN_RULES: dict[str, Rule] = {
    "counted": _unless(lambda s: s.part.wh is not None, "run-not-counted"),
    "room_c": _unless(lambda s: _cold(s) or s.plan.room_c is not None, "room-unknown"),
    "from": _unless(lambda s: s.part.why != "counted", "run-only-counted"),
    "to": _unless(lambda s: s.part.why != "counted", "run-only-counted"),
    "wh_in": _unless(lambda s: s.part.why != "counted", "run-only-counted"),
    "check_ins": _unless(_looked_within, "no-look-within"),
    "loads": _unless(lambda s: not s.part.legs, "run-has-legs"),
    "begins": _unless(lambda s: not s.part.pull_down_wh, "pull-down-known"),
}


_PART_RULES = {"loads": _LOAD_RULES, "sources": _SOURCE_RULES, "runs": _RUN_RULES}


def asked_figures(load: PlanLoad, situation: Situation) -> dict[str, Any]:
    """A load's figures that matter in the plan."""
    own = Situation(situation.plan, situation.outcome, load)
    return {
        key: value
        for key, value in _by_key(load).items()
        if not ((rule := _LOAD_RULES.get(key)) and rule(own))
    }


#: Spreads whose keys in the document are not their names with ``_spread``.
_SPREAD_KEYS = {"mean": "spread", "after": "spread_after"}


def _by_key(load: PlanLoad) -> dict[str, Any]:
    """A load's figures by their keys in the document."""
    figures = {field.name: getattr(load, field.name) for field in fields(load)}
    for group in ("draw", "use", "thermal"):
        part = figures.pop(group)
        figures |= {field.name: getattr(part, field.name) for field in fields(part)}
    spreads = figures.pop("spreads")
    for field in fields(spreads):
        key = _SPREAD_KEYS.get(field.name, f"{field.name}_spread")
        figures[key] = getattr(spreads, field.name)
    return figures


def why_unasked(path: Path, situation: Situation) -> str:
    """Code of why a value does not matter in this plan; empty if it does."""
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
