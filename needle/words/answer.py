"""The answer of a plan in words: how long it lasts, whether that is enough, and what cannot run."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from needle.decide.starting import RANK
from needle.moments import moment_after
from needle.plan.advice.measurements import Narrowing
from needle.plan.advice.suggestions import Suggestion
from needle.plan.documents.ledger import ledger_of
from needle.plan.documents.report import as_document, verdict_document
from needle.plan.energy.simulate import Outcome
from needle.plan.limits.starts import PlannedStart
from needle.plan.load import AC
from needle.plan.verdict import BlockedLoad, Verdict, verdict_of
from needle.quantity import as_read, chance_text, hours_range_text, hours_text, with_unit
from needle.words.figures import USUAL, Units, moment_text

#: Loads of which it is said why they cannot run, before the rest is only named.
EXPLAINED = 2
#: From this chance on a load that cannot run is said to be one without more words.
NEARLY_ALL = 0.9


def answer_document(
    document: dict[str, Any],
    outcome: Outcome,
    helps: Sequence[Suggestion] | None = None,
    narrowings: Sequence[Narrowing] | None = None,
    only_verdict: bool = False,
) -> dict[str, Any]:
    """Return what ``needle plan`` prints of a plan document's outcome: with ledger and text.

    ``helps`` and ``narrowings`` are computed if not given.
    """
    ledger = ledger_of(document, outcome)
    if only_verdict:
        answer = verdict_document(outcome, ledger)
    else:
        answer = as_document(outcome, helps, narrowings, ledger)
    answer["verdict"]["text"] = answer_text(outcome, verdict_of(outcome))
    return answer


def answer_text(outcome: Outcome, verdict: Verdict, units: Units = USUAL) -> str:
    """The whole answer in sentences: how long, whether that is enough, and what does not run."""
    failures = cannot_run_text(verdict) or doubt_text(outcome, verdict)
    sentences = (f"{lasts_text(outcome)}.", reach_text(outcome, verdict, units), failures)
    return " ".join(filter(None, sentences))


def lasts_text(outcome: Outcome) -> str:
    """How long the supply lasts: ``Lasts 10 to 16 h, most likely 11 h 40 min``."""
    low, mid, high = outcome.runtime
    if _beyond(outcome, low):
        return f"Lasts {hours_text(low)} or more"
    if hours_text(low) == hours_text(high):
        return f"Lasts {hours_text(mid)}"
    likely = "" if _beyond(outcome, mid) else f", most likely {hours_text(mid)}"
    return f"Lasts {span_text(outcome)}{likely}"


def span_text(outcome: Outcome) -> str:
    """The range of a plan's hours."""
    low, _, high = outcome.runtime
    if _beyond(outcome, low):
        return f"{hours_text(low)} or more"
    if _beyond(outcome, high):
        return f"{hours_range_text(low, high)} or more"
    return hours_range_text(low, high)


def short_text(outcome: Outcome, verdict: Verdict) -> str:
    """The answer in one short line: ``10 to 16 h, less than 1 in 10 for 24 h``."""
    blocked = [blocked.load for blocked in verdict.blocked_loads if blocked.wanted]
    if blocked:
        return f"Cannot run {', '.join(blocked)}"
    needed = hours_text(outcome.plan.needed_hours)
    return f"{span_text(outcome)}, {chance_text(verdict.chance)} for {needed}"


def _beyond(outcome: Outcome, hours: float) -> bool:
    """Whether hours are beyond the end of a plan's simulation."""
    return hours >= outcome.plan.hours - 1e-6


def wanted_chance_text(wanted: float) -> str:
    """The chance wanted: ``9 in 10``, ``9.5 in 10``."""
    return f"{10 * wanted:.3g} in 10"


def reach_text(outcome: Outcome, verdict: Verdict, units: Units) -> str:
    """Whether the needed hours are reached, with what chance, and what ends it."""
    return " ".join(filter(None, (_reaches(outcome, verdict), _ends(outcome, verdict, units))))


def _reaches(outcome: Outcome, verdict: Verdict) -> str:
    """The needed hours, and the chance of reaching them."""
    needed, chance = hours_text(outcome.plan.needed_hours), chance_text(verdict.chance)
    if any(blocked.wanted for blocked in verdict.blocked_loads):
        names = " and ".join(blocked.load for blocked in verdict.blocked_loads if blocked.wanted)
        without = chance_text(verdict.chance_without)
        return f"Chance that all the rest runs for the {needed} needed, without {names}: {without}."
    wanted = wanted_chance_text(verdict.wanted)
    if verdict.state == "covers":
        return f"Enough for the {needed} needed (chance {chance})."
    if verdict.state == "likely":
        if chance == wanted:
            chance = f"just under {chance}"  # rounded it would look like what is wanted
        return f"Likely enough for the {needed} needed: chance {chance}, you want {wanted}."
    return f"Not enough for the {needed} needed: chance {chance}."


def _ends(outcome: Outcome, verdict: Verdict, units: Units) -> str:
    """The most likely end, if it is due to the battery."""
    failure = verdict.first_failure
    if outcome.capped or failure is None or not outcome.stops_by.any():
        return ""
    sags = int(outcome.cut_off.sum()) * 2 > int(outcome.stops_by.sum())
    why = "the battery's volts fall under its cut-off" if sags else "battery empty"
    moment = moment_after(outcome.plan.start, outcome.runtime[1], 10)
    return f"Most likely end: {why}, {moment_text(moment, outcome.plan.start, units)}."


def cannot_run_text(verdict: Verdict) -> str:
    """What the supply cannot run and why, those that must run first; "" if it runs all."""
    blocked_loads = sorted(verdict.blocked_loads, key=lambda blocked: not blocked.wanted)
    sentences = [blocked_text(blocked) for blocked in blocked_loads[:EXPLAINED]]
    others = ", ".join(blocked.load for blocked in blocked_loads[EXPLAINED:])
    return " ".join([*sentences, f"Nor can {others}."] if others else sentences)


_GIVER = {AC: "the inverter"}


def blocked_text(blocked: BlockedLoad) -> str:
    """Which load is too large, by what: ``Kettle needs 2.2 kW; the inverter gives 1 kW.``"""
    giver = _GIVER.get(blocked.route, blocked.route)
    if blocked.why == "rest":
        return f"{blocked.load} has no power while the inverter rests."
    if blocked.why == "no-ac":
        return f"{blocked.load} runs on AC; this supply has no inverter."
    needs, limit = (
        with_unit(blocked.needs, blocked.unit, 2),
        as_read(blocked.limit, blocked.unit),
    )
    if needs == limit:
        needs = f"a little more than {needs}"
    subject, what = f"{blocked.load} needs", needs
    if blocked.why == "start":
        what = f"{needs} to start"
    if not blocked.alone:
        subject = f"{blocked.load} and what runs with it need"
    # Where some runs go well, that is said; nearly all is said as it is.
    likely = f" (fails in {chance_text(blocked.chance)})" if blocked.chance < NEARLY_ALL else ""
    return f"{subject} {what}; {giver} gives {limit}{likely}."


def larger_text(blocked: BlockedLoad) -> str:
    """What a load that must run, and cannot here, needs."""
    giver = "an inverter" if blocked.route == AC else f"an output other than {blocked.route}"
    if blocked.why == "volts":
        return f"{blocked.load} needs {giver} with other volts."
    if blocked.why == "no-ac":
        return f"{blocked.load} needs an inverter, or a DC output that can feed it."
    if blocked.why == "rest":
        return f"Let the inverter run while {blocked.load} needs it."
    # Its middle would be too little in half of all cases.
    most = with_unit(blocked.needs_high, blocked.unit, 2)
    times = " for its start" if blocked.why == "start" else ""
    return f"{blocked.load} needs {giver} that gives at least {most}{times}; or leave it off."


#: How a load may fail, with the chance of it.
_MAY = {
    "overload": "{load} and what runs with it may overload the inverter",
    "start": "{load}: its start may trip the inverter",
    "output": "{load} may ask for more than its output gives",
}


def doubt_text(outcome: Outcome, verdict: Verdict) -> str:
    """What fails in some runs, but not in most; "" if nothing."""
    failure = verdict.first_failure
    if failure is not None and failure.why in _MAY:
        return (
            f"{_MAY[failure.why].format(load=failure.load)} (chance {chance_text(failure.chance)})."
        )
    worst = max(outcome.starts, key=_doubt, default=None)
    if worst is None or worst.verdict.verdict == "holds":
        return ""
    chance = worst.verdict.chance
    likely = "" if chance is None else f" (chance that it does: {chance_text(chance)})"
    return f"{worst.load} may not start{likely}: test it."


def _doubt(start: PlannedStart) -> tuple[int, float]:
    """Sort key for how uncertain a start is: its verdict, then its chance."""
    chance = 1.0 if start.verdict.chance is None else start.verdict.chance
    return RANK[start.verdict.verdict], -chance
