"""A plan's outcome as the document that ``needle plan`` prints."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from needle.ledger import LedgerEntry
from needle.message import AsText, Message, message
from needle.moments import moment_after
from needle.plan.advice.measurements import Narrowing, measure_next
from needle.plan.advice.sizing import shortage
from needle.plan.advice.suggestions import Suggestion, suggestions
from needle.plan.energy.bank import MINUTES_PER_HOUR
from needle.plan.energy.simulate import Outcome
from needle.plan.limits.starts import PlannedStart
from needle.plan.limits.trips import Trip
from needle.plan.plan import Plan
from needle.plan.verdict import Verdict, verdict_of


def _why(outcome: Outcome) -> str:
    """The most common reason for the stop."""
    stopped = int(outcome.stops_by.sum())
    return "cutoff" if int(outcome.cut_off.sum()) * 2 > stopped else "floor"


def _verdict(outcome: Outcome, judged: Verdict, sized: bool = True) -> dict[str, Any]:
    """The verdict; what the battery lacks needs further simulation, and only if ``sized``."""
    low, mid, high = judged.lasts_h
    failure, lacks = judged.first_failure, shortage(outcome) if sized else None
    return {
        "state": judged.state,
        "chance": judged.chance,
        "wanted": judged.wanted,
        "lasts_h": {"value": mid, "low": low, "high": high},
        "trouble": None
        if failure is None
        else {
            "why": failure.why,
            "load": failure.load,
            "at": moment_after(outcome.plan.start, failure.minute / MINUTES_PER_HOUR).isoformat(),
            "chance": failure.chance,
        },
        "chance_without": judged.chance_without,
        "cannot_run": [
            {
                "load": blocked.load,
                "why": blocked.why,
                "needs": blocked.needs,
                "needs_high": blocked.needs_high,
                "chance": blocked.chance,
                "limit": blocked.limit,
                "unit": blocked.unit,
                "alone": blocked.alone,
                "route": blocked.route,
                "wanted": blocked.wanted,
            }
            for blocked in judged.blocked_loads
        ],
        "needed_wh": sum(outcome.likely.wanted_wh.values()),
        "short_wh": lacks.wh if lacks else None,
        "why_not": lacks.why_not if lacks else "",
    }


def _trip(trip: Trip, plan: Plan) -> dict[str, Any]:
    return {
        "at": moment_after(plan.start, trip.minute / MINUTES_PER_HOUR).isoformat(),
        "why": trip.why,
        "watts": trip.watts,
        "limit_w": trip.limit_w,
        "unit": trip.unit,
        "loads": [trip.load],
        "chance": trip.chance,
    }


def _start(start: PlannedStart) -> dict[str, Any]:
    return {
        "load": start.load,
        "start_va": start.start_va,
        "others_w": start.others_w,
        "limit_va": start.verdict.limit_va,
        "verdict": start.verdict.verdict,
        "reason": start.verdict.reason,
        "chance": start.verdict.chance,
        "asked_va": dict(zip(("low", "value", "high"), start.required_va, strict=True)),
    }


def _hourly(outcome: Outcome) -> list[dict[str, Any]]:
    """The curve at whole hours, with mean powers of the hour that begins."""
    whole = [index for index, hour in enumerate(outcome.curve_h) if abs(hour - round(hour)) < 1e-9]
    means = dict(enumerate(zip(outcome.likely.drawn_w, outcome.likely.sources_w, strict=True)))
    rows = []
    for number, index in enumerate(whole):
        drawn_w, sources_w = means.get(number, (0.0, 0.0))
        rows.append(
            {
                "hour": round(outcome.curve_h[index]),
                "charge": float(outcome.charge[1, index]),
                "charge_low": float(outcome.charge[0, index]),
                "charge_high": float(outcome.charge[2, index]),
                "drawn_w": float(drawn_w),
                "sources_w": float(sources_w),
            }
        )
    return rows


def _help(suggestion: Suggestion) -> dict[str, Any]:
    return {
        "what": AsText(suggestion.what),
        "said": suggestion.what,
        "hours_won": suggestion.as_range(),
        "at_least": suggestion.at_least,
        "load": suggestion.load,
        "kind": suggestion.change.kind,
        "mind": AsText(suggestion.change.caveat),
        "odds": {"before": suggestion.chance_before, "after": suggestion.chance_after},
    }


def _on_surge(plan: Plan) -> list[Message]:
    inverter = plan.supply.inverter
    if inverter is None or inverter.surge_known:
        return []
    return [message("surge-rating-unknown")]


def verdict_document(outcome: Outcome, ledger: Sequence[LedgerEntry] = ()) -> dict[str, Any]:
    """Return what ``needle plan --only verdict`` prints: nothing that simulates further."""
    low, mid, high = outcome.runtime
    return {
        "runtime_h": {"value": mid, "low": low, "high": high},
        "chance": outcome.chance,
        "verdict": _verdict(outcome, verdict_of(outcome), sized=False),
        "trips": [_trip(trip, outcome.plan) for trip in outcome.trips],
        "ledger": list(ledger),
    }


def as_document(
    outcome: Outcome,
    helps: Sequence[Suggestion] | None = None,
    narrowings: Sequence[Narrowing] | None = None,
    ledger: Sequence[LedgerEntry] = (),
) -> dict[str, Any]:
    """Return the outcome as ``needle plan`` prints it.

    ``helps`` and ``narrowings`` are computed if not given; ``ledger`` lists what was used and
    unused.
    """
    helps = suggestions(outcome) if helps is None else helps
    narrowings = measure_next(outcome) if narrowings is None else narrowings
    plan = outcome.plan
    low, mid, high = outcome.runtime
    judged = verdict_of(outcome)
    return {
        "runtime_h": {"value": mid, "low": low, "high": high},
        "capped": outcome.capped,
        "never_cycles_off_h": outcome.likely.never_off_h,
        "covers": judged.state == "covers",
        "chance": outcome.chance,
        "stop": None
        if outcome.capped
        else {"at": moment_after(plan.start, mid).isoformat(), "why": _why(outcome)},
        "verdict": _verdict(outcome, judged),
        "until_h": outcome.likely.until_h,
        "energy_wh": outcome.likely.energy_wh,
        "unserved_wh": outcome.likely.unserved_wh,
        "sources_wh": outcome.likely.by_source_wh,
        "fuel_l": outcome.likely.fuel_l,
        "peak_w": outcome.peak_w,
        "trips": [_trip(trip, plan) for trip in outcome.trips],
        "starts": [_start(start) for start in outcome.starts],
        "hourly": _hourly(outcome),
        "helps": [_help(suggestion) for suggestion in helps],
        "measure_next": [
            {
                "what": narrowing.what,
                "share_of_range": narrowing.share,
                "range_h": narrowing.range_h,
                "range_h_after": narrowing.range_h_after,
                "settles": narrowing.settles,
            }
            for narrowing in narrowings
        ],
        "ledger": list(ledger),
        "notices": [*outcome.notices, *_on_surge(plan)],
    }
