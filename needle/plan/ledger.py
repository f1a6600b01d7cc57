"""What a plan's answer rests on: every value of its document, used or left out and why.

A value that does not reach the plan as it was read (a newer test replaces it) is found by reading
the document with another value there. What reaches the plan and is not asked for in it (a cut-off
where no sag is known) is told by the rules below, one for each such value.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import fields, replace
from datetime import UTC, datetime
from typing import Any

import numpy as np

from needle.document import DocumentError
from needle.estimate import Estimate
from needle.leaves import Path, leaves, moves, others, path_text, without
from needle.ledger import LedgerEntry, covers
from needle.moments import Moment, minute_of, occurrences, parse_moment
from needle.plan.document import parse_load, parse_plan
from needle.plan.plan import AC, Plan, PlanLoad
from needle.plan.simulate import Outcome
from needle.plan.sources import parse_sources
from needle.profile.ledger import ledger_of as profile_ledger
from needle.quantity import MOST_DC_V
from needle.supply.battery import cold_factor
from needle.supply.proof import CapacityTest
from needle.supply.supply import parse_supply

#: A plan and its outcome → why a value is not asked for; empty where it is.
Rule = Callable[["Situation"], str]


class Situation:
    """A plan that was run, and the part of it that a rule speaks of."""

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
        """Whether a load's non-active VA are known."""
        return any(load.power_factor_known and load.power_factor < 1 for load in self.on_ac)


def ledger_of(document: Mapping[str, Any], outcome: Outcome) -> list[LedgerEntry]:
    """The ledger of a plan's answer.

    Parameters
    ----------
    document : dict
        The plan as it was given, captures as what they say.
    outcome : Outcome
        What it came to.

    Raises
    ------
    DocumentError
        The document is no plan.
    """
    plan = parse_plan(document)
    situation = Situation(plan, outcome)
    entries = list(_whole_parts(document, plan, outcome))
    told = {entry.where for entry in entries if not entry.used}
    for path, value in leaves(document):
        where = path_text(path)
        if any(where.startswith((f"{out}.", f"{out}[")) or where == out for out in told):
            continue
        if "profile" in path[:3]:
            continue  # told reading by reading
        entry = _of_value(document, path, value, situation)
        if entry is not None:
            entries.append(entry)
    return entries


def _of_value(
    document: Mapping[str, Any], path: Path, value: Any, situation: Situation
) -> LedgerEntry | None:
    """Why a value is not used; None where it is."""
    where = path_text(path)
    key = next((part for part in reversed(path) if isinstance(part, str)), "")
    if key in ("name", "id") and path[0] != "loads":
        return LedgerEntry(where, False, "name", "a name: no figure rests on it")
    by_amps = key == "volts" and _by_amps(document, path)
    why = "" if by_amps else _rule_for(path, situation)
    why = why or _moment_rule(path, value, situation)
    why = why or _supply_rule(document, path, situation)
    if why:
        return LedgerEntry(where, False, key, why)
    if path[0] in _READ and not _reaches(document, path, value):
        return LedgerEntry(where, False, "replaced", _REPLACED.get(str(path[0]), _SAME))
    return None


_SAME = "another figure says the same, and comes before it"
_REPLACED = {
    "supply": "a test, or a newer one, tells it better; or nothing given rests on it",
    "sources": "what was measured comes before it, or nothing given rests on it",
}


def _read_supply(document: Mapping[str, Any]) -> Any:
    """What a supply's figures come to; its tests and the kinds of its outputs are in them."""
    supply = parse_supply(document["supply"])
    outputs = tuple(replace(output, kind="", volts=None, id="") for output in supply.outputs)
    return _figures(replace(supply, tests=(), outputs=outputs, name=""))


def _figures(value: Any) -> Any:
    """Figures without the words of how they are known."""
    if isinstance(value, Estimate):
        return value.value, value.spread, value.most
    if hasattr(value, "__dataclass_fields__"):
        return tuple(_figures(getattr(value, field.name)) for field in fields(value))
    if isinstance(value, tuple):
        return tuple(map(_figures, value))
    return value


def _read_sources(document: Mapping[str, Any]) -> Any:
    supply = parse_supply(document["supply"])
    start = parse_moment(str(document.get("start", "2027-01-01T18:00:00+00:00")), "start", UTC)
    zone = start.tzinfo if isinstance(start, datetime) else UTC
    return parse_sources(document["sources"], zone, supply)


#: Parts of a document that can be read by themselves.
_READ: dict[str, Callable[[Mapping[str, Any]], Any]] = {
    "supply": _read_supply, "sources": _read_sources,
}  # fmt: skip


def _reaches(document: Mapping[str, Any], path: Path, value: Any) -> bool:
    """Whether a value makes a difference to what is read of its part."""
    read = _READ[str(path[0])]
    return moves(document, path, value, read, read(document))


def _whole_parts(
    document: Mapping[str, Any], plan: Plan, outcome: Outcome
) -> Iterator[LedgerEntry]:
    """Loads with their evidence, tests, outputs, inputs, sources and runs, each as a whole."""
    situation = Situation(plan, outcome)
    for number, load in enumerate(document.get("loads") or ()):
        where = f"loads[{number}]"
        if outcome.wanted_wh.get(plan.loads[number].name, 0.0) <= 0:
            yield LedgerEntry(where, False, "idle", "it is not in use within the plan's hours")
        else:
            yield from _of_load(load, where, Situation(plan, outcome, plan.loads[number]))
    for entry in tests_ledger(document["supply"], [load.name for load in plan.loads]):
        yield entry.under("supply")
    for number, output in enumerate(plan.supply.outputs):
        if output.off_unused and not any(load.route == output.name for load in plan.loads):
            where = f"supply.outputs[{number}]"
            yield LedgerEntry(where, False, "unused", "off: no load of the plan is on it")
    inverter = situation.inverter
    if inverter is not None and inverter.off_unused and not situation.on_ac:
        words = "off: no load of the plan is on AC"
        yield LedgerEntry("supply.inverter", False, "unused", words)
    yield from _of_inputs(document, plan)
    for number, source in enumerate(plan.sources):
        used = outcome.by_source_wh.get(source.name, 0.0) > 0
        words = "what charges" if used else "it gives nothing in these hours"
        yield LedgerEntry(f"sources[{number}]", used, "source" if used else "idle", words)
    for number, _ in enumerate(document.get("runs") or ()):
        misfit = number in outcome.misfits
        words = "it fits nothing that is known: check its hours, charges and loads"
        yield LedgerEntry(
            f"runs[{number}]", not misfit, "misfit" if misfit else "run",
            words if misfit else "a run that was really made",
        )  # fmt: skip


def _of_load(load: Any, where: str, situation: Situation) -> Iterator[LedgerEntry]:
    """A load, and its evidence as far as the plan rests on it."""
    yield LedgerEntry(where, True, "load", "what runs")
    if not isinstance(load, Mapping) or not isinstance(load.get("profile"), Mapping):
        return
    profile = load["profile"]
    told = [entry for entry in profile_ledger(profile) if entry.where != "set_c"]
    out = [entry for entry in told if not entry.used]

    def asked_for(document: Any) -> Any:
        return _asked_of(document, situation)

    before = asked_for(load)
    for entry in told:
        number = re.fullmatch(r"readings\[(\d+)\]", entry.where)
        if entry.used and number and _same_without(load, int(number[1]), asked_for, before):
            entry = replace(entry, used=False, code="other", text=_OTHER_FIGURES)
            out.append(entry)
        yield entry.under(f"{where}.profile")
    for path, value in leaves(profile):
        place = path_text(path)
        if any(covers(entry, place) for entry in out):
            continue
        if not moves(load, ("profile", *path), value, asked_for, before) and others(path, value):
            yield LedgerEntry(f"{where}.profile.{place}", False, "other", _OTHER_FIGURES)


_OTHER_FIGURES = "it tells a figure that this plan does not ask for"


def _same_without(
    load: Mapping[str, Any], number: int, answer: Callable[[Any], Any], before: Any
) -> bool:
    """Whether what a plan asks of a load stays without one of its readings."""
    try:
        return bool(answer(without(load, ("profile", "readings", number))) == before)
    except DocumentError:
        return False


def _asked_of(load: Any, situation: Situation) -> Any:
    """What a plan asks of a load by its evidence: without what its rules leave out."""
    plan = situation.plan
    routes = [load_.route for load_ in plan.loads] + [AC, *(o.name for o in plan.supply.outputs)]
    read = parse_load(load, "loads", plan.start, list(dict.fromkeys(routes)))
    own = Situation(plan, situation.outcome, read)
    return {
        field.name: getattr(read, field.name)
        for field in fields(read)
        if not ((rule := _LOAD_RULES.get(field.name)) and rule(own))
    }


def tests_ledger(supply: Mapping[str, Any], names: Sequence[str]) -> list[LedgerEntry]:
    """Each test of a supply document, used or left out in plans with loads of such names.

    Raises
    ------
    DocumentError
    """
    before = _read_supply({"supply": supply})
    return [
        _of_test(supply, number, test, names, before)
        for number, test in enumerate(supply.get("tests") or ())
    ]


def _of_test(
    supply: Mapping[str, Any], number: int, test: Mapping[str, Any], names: Sequence[str],
    before: Any,
) -> LedgerEntry:  # fmt: skip
    where, kind = f"tests[{number}]", test.get("type")
    try:
        told = _read_supply({"supply": without(supply, ("tests", number))}) != before
    except DocumentError:
        told = True
    if told:
        return LedgerEntry(where, True, "test", f"{kind} test")
    if kind == "together" and set(map(str, test.get("loads", ()))) <= set(names):
        return LedgerEntry(where, True, "test", "what its loads draw together")
    if kind == "together":
        return LedgerEntry(where, False, "others", "it had loads that this plan has not")
    if kind == "route":
        words = "the load's Wh on DC were not read: read them to know what the output passes on"
        return LedgerEntry(where, False, "route", words)
    return LedgerEntry(where, False, "older", "a newer test of the kind replaces it")


def _of_inputs(document: Mapping[str, Any], plan: Plan) -> Iterator[LedgerEntry]:
    """Inputs that limit a source of the plan, and those that none goes through."""
    items = document["supply"].get("inputs") or ()
    if not items:
        return
    if not plan.sources:
        for number in range(len(items)):
            words = "nothing charges through it in this plan"
            yield LedgerEntry(f"supply.inputs[{number}]", False, "unused", words)
        return
    before = _read_sources(document)
    for number in range(len(items)):
        fewer = without(document, ("supply", "inputs", number))
        try:
            used = _read_sources(fewer) != before
        except DocumentError:
            used = True
        words = "what it lets in" if used else "nothing charges through it in this plan"
        code = "input" if used else "unused"
        yield LedgerEntry(f"supply.inputs[{number}]", used, code, words)


def _rule_for(path: Path, situation: Situation) -> str:
    """Why a value is not asked for in this plan, by its rule; empty where it is."""
    keys = [part for part in path if isinstance(part, str)]
    if path[0] == "loads":
        assert isinstance(path[1], int)
        load = situation.plan.loads[path[1]]
        rule = _LOAD_RULES.get(keys[1])
        return rule(Situation(situation.plan, situation.outcome, load)) if rule else ""
    if path[0] == "sources":
        assert isinstance(path[1], int)
        part: Any = situation.plan.sources[path[1]]
        rule = _SOURCE_RULES.get(keys[1])
        return rule(Situation(situation.plan, situation.outcome, part)) if rule else ""
    if path[0] == "runs":
        assert isinstance(path[1], int)
        part = situation.plan.runs[path[1]]
        rule = _RUN_RULES.get(keys[1])
        return rule(Situation(situation.plan, situation.outcome, part)) if rule else ""
    table = _RULES.get(".".join(keys[:2]) if keys[0] == "supply" else "", {})
    if keys[0] == "supply" and keys[1] == "outputs":
        assert isinstance(path[2], int)
        part = situation.plan.supply.outputs[path[2]]
        situation = Situation(situation.plan, situation.outcome, part)
    rule = table.get(keys[-1]) if keys[0] == "supply" else _TOP_RULES.get(keys[0])
    return rule(situation) if rule else ""


#: Keys under which moments stand; of a pair the first begins something, the second ends it.
_MOMENTS = ("between", "tasks", "charges", "off", "connected", "shade")


def _moment_rule(path: Path, value: Any, situation: Situation) -> str:
    """Why a moment says nothing of this plan; empty where it comes within its hours."""
    keys = [part for part in path if isinstance(part, str)]
    if keys[-1] not in _MOMENTS or not isinstance(value, str):
        return ""
    plan, outcome = situation.plan, situation.outcome
    minutes = round(plan.hours * 60)
    moment: Moment = parse_moment(value, "", plan.start.tzinfo)
    if isinstance(moment, datetime):
        inside = 0 < minute_of(moment, plan.start) < minutes
    else:
        inside = any(0 < at < minutes for at in occurrences([moment], plan.start, minutes))
    if not inside:
        return "it does not come within the plan's hours"
    if keys[-1] in ("connected", "shade"):
        return "" if outcome.by_source_wh else "the sun gives nothing then"
    return ""


def _supply_rule(document: Mapping[str, Any], path: Path, situation: Situation) -> str:
    """Why a value of a test or an output is not asked for; empty where it is."""
    if path[:2] == ("supply", "tests") and path[-1] == "on":
        assert isinstance(path[2], int)
        test = situation.plan.supply.tests[path[2]]
        dated = isinstance(test, CapacityTest) and _read_supply(document) is not None
        aged = dated and parse_supply(document["supply"]).battery != situation.battery
        return "" if aged else "a date counts where a capacity test is older than three months"
    if path[:2] != ("supply", "outputs"):
        return ""
    assert isinstance(path[2], int)
    output = document["supply"]["outputs"][path[2]]
    if path[-1] == "kind" and "idle_w" in output and "efficiency" in output:
        return "its idle draw and efficiency are stated"
    return ""


def _by_amps(document: Mapping[str, Any], path: Path) -> bool:
    """Whether an output's volts make its amps a limit in watts."""
    outputs = document["supply"].get("outputs") or ()
    if path[:2] != ("supply", "outputs"):
        return False
    assert isinstance(path[2], int)
    return "max_a" in outputs[path[2]]


def _unless(asked: Callable[[Situation], bool], words: str) -> Rule:
    """A rule: a value is left out, for such a reason, unless it is asked for."""
    return lambda situation: "" if asked(situation) else words


def _room(situation: Situation) -> bool:
    """Whether a load's draw, or the battery, follows the plan's room."""
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
    """Whether the battery is drawn faster than at its rated rate at any time."""
    battery, outcome = situation.battery, situation.outcome
    fastest = float(np.max(outcome.minute_w, initial=0.0)) + 50.0
    return battery.peukert_n > 1 and fastest * 1.5 > battery.nominal_wh / battery.rated_hours / 2


def _chemistry(situation: Situation) -> bool:
    return True


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
    """Whether the sag of the battery's volts cuts anything off, in any draw."""
    return situation.sags and bool(np.any(situation.outcome.cut_off))


def _clocked(situation: Situation) -> bool:
    """Whether anything in the plan goes by the clock or the calendar."""
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
_NO_SOURCE = "nothing charges in this plan"
_BY_TASK = "it runs by tasks: their steps tell its watts"
_NO_PAUSE = "it runs without a pause while in use"
_ON_DC = "it is on a DC output: no start or power factor is asked for there"
_NO_ROOM = "the plan's room, its temperature setting and the room it was measured in go together"
_ADVICE = "only for advice"

_TOP_RULES: dict[str, Rule] = {
    "start": _unless(_clocked, "nothing in the plan goes by the clock"),
    "name": lambda _: "a name: no figure rests on it",
    "room_c": _unless(_room, "no load has a temperature setting and a measured room; no cold"),
    "room_swing_c": _unless(
        lambda s: s.plan.room_c is not None and (_boxes(s) or _frost(s)),
        "no load follows the room's course",
    ),
    "room_warmest": _unless(
        lambda s: s.plan.room_c is not None and s.plan.room_swing_c > 0
        and (_boxes(s) or _frost(s)),
        "no load follows the room's course",
    ),
}  # fmt: skip

_RULES: dict[str, dict[str, Rule]] = {
    "supply.name": {"name": lambda _: "a name: no figure rests on it"},
    "supply.battery": {
        "volts": _unless(
            lambda s: _cuts(s)
            or any(output.kind == "terminals" for output in s.plan.supply.outputs)
            or (
                bool(s.plan.sources)
                and any(np.isfinite(entry.controller_a) for entry in s.plan.supply.inputs)
            ),
            "asked for with a cut-off or resistance, a charge controller, or bare terminals",
        ),
        "charge_efficiency": _unless(
            lambda s: s.outcome.energy_wh["battery_in"] > 0, "nothing is charged in this plan"
        ),
        "taper_spread": _unless(lambda s: bool(s.plan.sources), _NO_SOURCE),
        "nominal_wh": _unless(
            lambda s: not any(isinstance(test, CapacityTest) for test in s.plan.supply.tests),
            "a capacity test tells what it holds",
        ),
        "peukert_n": _unless(_pulls, "it is never drawn faster than at its rated rate"),
        "peukert_spread": _unless(_pulls, "it is never drawn faster than at its rated rate"),
        "rated_hours": _unless(_pulls, "it is never drawn faster than at its rated rate"),
        "measured_c": _unless(
            lambda s: s.plan.room_c is not None, "the plan's room is not known"
        ),
        "cold_spread": _unless(_cold, "cold takes nothing in this plan's room"),
        "ohm_spread": _unless(lambda s: _cuts(s), _NO_SAG),
        "internal_ohm": _unless(lambda s: _cuts(s), _NO_SAG),
        "cutoff_v": _unless(lambda s: _cuts(s), _NO_SAG),
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
        "overload": _unless(
            lambda s: _near(s), "its continuous rating is never exceeded for long"
        ),
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
            lambda s: s.part.kind not in ("usb", "terminals") and any(
                load.volts is not None and load.volts <= MOST_DC_V
                and load.route == s.part.name for load in s.plan.loads
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
}  # fmt: skip


def _near(situation: Situation) -> bool:
    """Whether the inverter's continuous rating is exceeded, or nearly."""
    inverter, outcome = situation.inverter, situation.outcome
    assert inverter is not None
    return outcome.peak_w > 0.9 * inverter.continuous_w or any(
        trip.why == "overload" for trip in outcome.trips
    )


def _follows_room(situation: Situation) -> bool:
    """Whether a load's draw is carried from the room it was measured in to the plan's."""
    load, room = situation.part, situation.plan.room_c
    return None not in (load.set_c, load.measured_room_c, room)


def _dropped(situation: Situation) -> bool:
    """Whether a load fails or is dropped at times, so that its priority counts."""
    load, outcome, inverter = situation.part, situation.outcome, situation.inverter
    rests = inverter is not None and bool(inverter.off) and load.route == AC
    return rests or any(trip.load == load.name for trip in outcome.trips)


_LOAD_RULES: dict[str, Rule] = {
    "priority": _unless(_dropped, "it is never dropped here: for advice only"),
    "cares": _unless(_dropped, "it is never dropped here: for advice only"),
    "settings": lambda _: "for advice only",
    "can": lambda _: "for advice only, and for each load alone",
    "watts_spread": _unless(
        lambda s: s.part.by_moments or s.part.duty < 1 or s.part.duty_spread is not None,
        "it runs without a pause: the spread of its mean is that of its watts",
    ),
    "running_w": _unless(lambda s: _by_mean(s) or _on_ac(s), _BY_TASK),
    "resting_w": _unless(_cycles, _NO_PAUSE),
    "duty": _unless(
        lambda s: _by_mean(s), "it runs by tasks: their steps tell how much of them it is on"
    ),
    "cycle_min": _unless(_cycles, _NO_PAUSE),
    "spread": _unless(
        lambda s: _by_mean(s) and s.part.duty_spread is None,
        "its task's energy, or its watts and duty, have spreads of their own",
    ),
    "duty_spread": _unless(lambda s: _by_mean(s), _BY_TASK),
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
    "start_times": _unless(lambda s: _can_ac(s) and s.part.tried is not None, "no start was tested"),
    "start_ran_s": _unless(
        lambda s: _can_ac(s) and s.part.tried is not None
        and s.part.running_w + s.part.tried.beside_w > 0.8 * s.inverter.continuous_w,
        "what ran then is within what the inverter carries without end",
    ),
    "volts": _unless(
        lambda s: (s.part.route == AC and s.inverter is not None and s.inverter.volts is not None)
        or s.part.route != AC,
        "the inverter's volts are not known",
    ),
    "adapter": _unless(
        lambda s: s.part.route != AC, "on AC its adapter's loss is in what was read"
    ),
    "adapter_spread": _unless(
        lambda s: s.part.adapter < 1 and s.part.route != AC,
        "on AC its adapter's loss is in what was read",
    ),
    "set_c": _unless(lambda s: _follows_room(s), _NO_ROOM),
    "measured_room_c": _unless(lambda s: _follows_room(s), _NO_ROOM),
    "measured_set_c": _unless(lambda s: _follows_room(s), _NO_ROOM),
    "pull_down_wh": _unless(_cycles, _NO_PAUSE),
    "pull_down_h": _unless(_cycles, _NO_PAUSE),
    "alone": lambda _: _ADVICE,
    "flexible": lambda _: _ADVICE,
    "meter": _unless(lambda s: s.part.meter_spread > 0, "what its meter errs by is not known"),
    "meter_spread": _unless(lambda s: bool(s.part.meter), "its meter has no name"),
    "notices": lambda _: "said with the answer",
    "spread_after": lambda _: "only for what a measurement would win",
    "kind": lambda _: "only for warnings, and for what a measurement would win",
    "id": lambda _: "what it is drawn by: no figure rests on it",
}  # fmt: skip

_SOURCE_RULES: dict[str, Rule] = {
    "name": lambda _: "a name: no figure rests on it",
    "id": lambda _: "what it is drawn by: no figure rests on it",
}

_RUN_RULES: dict[str, Rule] = {
    "counted": _unless(lambda s: s.part.wh is not None, "nothing was counted in it"),
    "room_c": _unless(
        lambda s: _cold(s) or s.plan.room_c is not None, "the plan's room is not known"
    ),
    "from": _unless(lambda s: s.part.why != "counted", "only Wh were counted in it"),
    "to": _unless(lambda s: s.part.why != "counted", "only Wh were counted in it"),
}
