"""The ledger of a plan's answer: every value of its document, used or unused, and why.

Whether a value reaches the plan (a newer test may replace it) is found by parsing the document with
another value in its place. Values that reach the plan but do not matter in it (a cut-off without
any sag) are decided by a rule of `needle.plan.documents.rules`.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import fields, replace
from datetime import UTC, datetime
from typing import Any

from needle.document import DocumentError
from needle.estimate import Estimate
from needle.leaves import Path, leaves, moves, others, path_text, without
from needle.ledger import LedgerEntry, covers
from needle.message import message
from needle.moments import Moment, minute_of, occurrences, parse_moment
from needle.plan.documents.load import parse_load
from needle.plan.documents.parse import parse_plan
from needle.plan.documents.rules import Situation, asked_figures, why_unasked
from needle.plan.energy.simulate import Outcome
from needle.plan.load import AC
from needle.plan.plan import Plan, carried_by_mains, feeds
from needle.plan.sources.registry import parse_sources
from needle.profile.ledger import ledger_of as profile_ledger
from needle.supply.supply import parse_supply
from needle.supply.supply_tests import CapacityTest


def ledger_of(document: Mapping[str, Any], outcome: Outcome) -> list[LedgerEntry]:
    """Return the ledger of a plan's answer.

    Parameters
    ----------
    document : dict
        The plan document, with captures replaced by their summaries.
    outcome : Outcome
        The result of the simulation.

    Raises
    ------
    DocumentError
        The document is not a valid plan.
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
            continue  # each reading has an entry of its own
        entry = _of_value(document, path, value, situation)
        if entry is not None:
            entries.append(entry)
    return entries


def _why_unused(document: Mapping[str, Any], path: Path, value: Any, situation: Situation) -> str:
    """Code of why a value does not matter in the plan, by its rules; empty if it does."""
    by_amps = path[-1] == "volts" and _by_amps(document, path)
    return (
        ("" if by_amps else why_unasked(path, situation))
        or _moment_rule(path, value, situation)
        or _supply_rule(document, path, situation)
    )


def _of_value(
    document: Mapping[str, Any], path: Path, value: Any, situation: Situation
) -> LedgerEntry | None:
    """Why a value is not used; None if it is."""
    where = path_text(path)
    key = next((part for part in reversed(path) if isinstance(part, str)), "")
    if key in ("name", "id") and path[0] != "loads":
        return LedgerEntry(where, False, message("name"))
    if why := _why_unused(document, path, value, situation):
        return LedgerEntry(where, False, message(why))
    if path[0] in _READ and not _reaches(document, path, value):
        return LedgerEntry(where, False, message(_REPLACED[str(path[0])]))
    return None


#: What replaces values that do not reach their part of the plan.
_REPLACED = {"supply": "tested", "sources": "measured"}


def _read_supply(document: Mapping[str, Any]) -> Any:
    """A supply's parsed figures, which include its tests and the kinds of its outputs."""
    supply = parse_supply(document["supply"])
    outputs = tuple(replace(output, kind="", volts=None, id="") for output in supply.outputs)
    return _figures(replace(supply, tests=(), outputs=outputs, name=""))


def _figures(value: Any) -> Any:
    """Figures without the text of how they are known."""
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
    "supply": _read_supply,
    "sources": _read_sources,
}


def _reaches(document: Mapping[str, Any], path: Path, value: Any) -> bool:
    """Whether a value changes how its part of the document is parsed."""
    read = _READ[str(path[0])]
    return moves(document, path, value, read, read(document))


def _whole_parts(
    document: Mapping[str, Any], plan: Plan, outcome: Outcome
) -> Iterator[LedgerEntry]:
    """Entries for loads with their evidence, tests, outputs, inputs, sources and runs."""
    for number, load in enumerate(document.get("loads") or ()):
        where = f"loads[{number}]"
        if outcome.likely.wanted_wh.get(plan.loads[number].name, 0.0) <= 0:
            yield LedgerEntry(where, False, message("not-in-use"))
        elif plan.loads[number].route == AC and not _has_ac(plan):
            yield LedgerEntry(where, False, message("without-ac"))
        else:
            yield from _of_load(load, where, Situation(plan, outcome, plan.loads[number]))
    for entry in tests_ledger(document["supply"], [load.name for load in plan.loads]):
        yield entry.under("supply")
    yield from _of_unused_routes(plan)
    yield from _of_inputs(document, plan)
    for number, source in enumerate(plan.sources):
        used = outcome.likely.by_source_wh.get(source.name, 0.0) > 0
        said = message("charges" if used else "gives-nothing")
        yield LedgerEntry(f"sources[{number}]", used, said)
    for number, _ in enumerate(document.get("runs") or ()):
        where = f"runs[{number}]"
        if number in outcome.inconsistent_runs:
            yield LedgerEntry(where, False, message("run-inconsistent"))
        else:
            yield LedgerEntry(where, True, message("run-made"))


def _has_ac(plan: Plan) -> bool:
    """Whether loads on AC ever have any: from an inverter, or from mains while they are on."""
    minutes = round(plan.hours * 60)
    return plan.supply.inverter is not None or bool(carried_by_mains(plan, minutes).any())


def _of_unused_routes(plan: Plan) -> Iterator[LedgerEntry]:
    """Entries for outputs and an inverter that are off, since no load uses them."""
    for number, output in enumerate(plan.supply.outputs):
        if output.off_unused and not feeds(plan, output.name):
            yield LedgerEntry(f"supply.outputs[{number}]", False, message("output-off"))
    inverter = plan.supply.inverter
    if inverter is not None and inverter.off_unused and not feeds(plan, AC):
        yield LedgerEntry("supply.inverter", False, message("inverter-off"))


def _of_load(load: Any, where: str, situation: Situation) -> Iterator[LedgerEntry]:
    """Entries for a load, and for its evidence as far as the plan depends on it."""
    yield LedgerEntry(where, True, message("load-runs"))
    if not isinstance(load, Mapping) or not isinstance(load.get("profile"), Mapping):
        return
    profile = load["profile"]
    told = [entry for entry in profile_ledger(profile) if entry.where != "set_c"]
    out = [entry for entry in told if not entry.used]

    def asked_for(document: Any) -> Any:
        return _asked_of(document, situation)

    before = asked_for(load)
    for each in told:
        entry = each
        number = re.fullmatch(r"readings\[(\d+)\]", entry.where)
        if entry.used and number and _same_without(load, int(number[1]), asked_for, before):
            entry = replace(entry, used=False, said=_UNASKED)
            out.append(entry)
        yield entry.under(f"{where}.profile")
    for path, value in leaves(profile):
        place = path_text(path)
        if any(covers(entry, place) for entry in out):
            continue
        if not moves(load, ("profile", *path), value, asked_for, before) and others(path, value):
            yield LedgerEntry(f"{where}.profile.{place}", False, _UNASKED)


_UNASKED = message("figure-unasked")


def _same_without(
    load: Mapping[str, Any], number: int, answer: Callable[[Any], Any], before: Any
) -> bool:
    """Whether a load's figures in the plan stay the same without one of its readings."""
    try:
        return bool(answer(without(load, ("profile", "readings", number))) == before)
    except DocumentError:
        return False


def _asked_of(load: Any, situation: Situation) -> Any:
    """A load's figures that matter in the plan, by its evidence and the rules."""
    plan = situation.plan
    routes = [load_.route for load_ in plan.loads] + [AC, *(o.name for o in plan.supply.outputs)]
    read = parse_load(load, "loads", plan.start, list(dict.fromkeys(routes)))
    return asked_figures(read, situation)


def tests_ledger(supply: Mapping[str, Any], names: Sequence[str]) -> list[LedgerEntry]:
    """Return, for each test of a supply, whether plans with loads of these names use it.

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
    supply: Mapping[str, Any],
    number: int,
    test: Mapping[str, Any],
    names: Sequence[str],
    before: Any,
) -> LedgerEntry:
    where, kind = f"tests[{number}]", test.get("type")
    try:
        told = _read_supply({"supply": without(supply, ("tests", number))}) != before
    except DocumentError:
        told = True
    if told:
        return LedgerEntry(where, True, message("test", type=kind))
    if kind == "together" and set(map(str, test.get("loads", ()))) <= set(names):
        return LedgerEntry(where, True, message("loads-together"))
    if kind == "together":
        return LedgerEntry(where, False, message("other-loads"))
    if kind == "route":
        return LedgerEntry(where, False, message("route-wh-missing"))
    return LedgerEntry(where, False, message("newer-test"))


def _of_inputs(document: Mapping[str, Any], plan: Plan) -> Iterator[LedgerEntry]:
    """Entries for inputs that limit a source of the plan, and for those without a source."""
    items = document["supply"].get("inputs") or ()
    if not items:
        return
    if not plan.sources:
        for number in range(len(items)):
            yield LedgerEntry(f"supply.inputs[{number}]", False, message("input-unused"))
        return
    before = _read_sources(document)
    for number in range(len(items)):
        fewer = without(document, ("supply", "inputs", number))
        try:
            used = _read_sources(fewer) != before
        except DocumentError:
            used = True
        said = message("input-limit" if used else "input-unused")
        yield LedgerEntry(f"supply.inputs[{number}]", used, said)


#: Keys under which moments stand; of a pair the first begins something, the second ends it.
_MOMENTS = ("between", "tasks", "charges", "off", "connected", "shade")


def _moment_rule(path: Path, value: Any, situation: Situation) -> str:
    """Code of why a moment does not matter in this plan; empty if it falls within its hours."""
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
        return "outside-hours"
    if keys[-1] in ("connected", "shade"):
        return "" if outcome.likely.by_source_wh else "no-sun-then"
    return ""


#: What a chemistry stands for where it is not stated, or always.
_BY_CHEMISTRY = (
    "floor",
    "peukert_n",
    "charge_efficiency",
    "cold_spread",
    "cutoff_v",
    "taper_spread",
)


def _date_rule(document: Mapping[str, Any], number: int, situation: Situation) -> str:
    """Code of why the date of a test does not matter; empty if the battery has aged since."""
    test = situation.plan.supply.tests[number]
    dated = isinstance(test, CapacityTest) and _read_supply(document) is not None
    aged = dated and parse_supply(document["supply"]).battery != situation.battery
    return "" if aged else "date-too-recent"


def _supply_rule(document: Mapping[str, Any], path: Path, situation: Situation) -> str:
    """Code of why a value of a test or an output does not matter; empty if it does."""
    if path[:2] == ("supply", "tests") and path[-1] == "on":
        assert isinstance(path[2], int)
        return _date_rule(document, path[2], situation)
    if path == ("supply", "battery", "chemistry"):
        asked = [key for key in _BY_CHEMISTRY if not why_unasked((*path[:2], key), situation)]
        stated = all(key in document["supply"]["battery"] for key in asked)
        return "chemistry-stated" if stated else ""
    if path[:2] != ("supply", "outputs"):
        return ""
    assert isinstance(path[2], int)
    output = document["supply"]["outputs"][path[2]]
    if path[-1] == "kind" and {"idle_w", "efficiency"} <= output.keys():
        return "output-stated"
    return ""


def _by_amps(document: Mapping[str, Any], path: Path) -> bool:
    """Whether an output's volts turn its amps into a limit in watts."""
    outputs = document["supply"].get("outputs") or ()
    if path[:2] != ("supply", "outputs"):
        return False
    assert isinstance(path[2], int)
    return "max_a" in outputs[path[2]]
