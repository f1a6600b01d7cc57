"""The watch as ``needle watch`` prints it."""

from __future__ import annotations

from typing import Any

from needle.moments import moment_after
from needle.trial.prediction import Range
from needle.watch.card import Card, card_of
from needle.watch.doings import Doing, doings
from needle.watch.summary import LOOK_H, watched
from needle.watch.watch import MaySwitchOn, Watch, WatchHelp


def watch_document(document: dict[str, Any], hour: float, needed_h: float) -> dict[str, Any]:
    """Return what :func:`as_document` does of a trial document at an hour.

    Raises
    ------
    DocumentError
    """
    return as_document(watched(document, hour, needed_h))


def as_document(watch: Watch) -> dict[str, Any]:
    """Return ``now``, ``next``, ``helps``, ``may_start`` (loads that are off), and ``card``."""
    plan, look_h = watch.plan, watch.hour + LOOK_H
    off, on = watch.switches(look_h)
    stay = watch.announced(off)
    return {
        "now": {
            "h": watch.hour,
            "at": moment_after(plan.start, watch.hour).isoformat(),
            "charge": _span(watch.forecast.charge),
            "stop_h": _span(watch.forecast.stop_h),
            "remaining_h": _span(watch.forecast.remaining_h),
            "needed_h": watch.needed_h,
            "chance": watch.chance,
            "chance_musts": watch.chance_musts,
            "look_h": look_h,
            "go_off": off,
            "may_come_on": on,
            "on": [{"load": name, "watts": _span(watch.watts(name))} for name in watch.on],
            "notices": watch.notices,
        },
        "next": [
            _doing(doing, watch) for doing in doings(plan, watch.hour, watch.needed_h, stay, look_h)
        ],
        "helps": [_help(each) for each in watch.helps()],
        "may_start": [
            _may(watch.may(load.name)) for load in plan.loads if load.name not in watch.on
        ],
        "card": card_document(card_of(plan)),
    }


def card_document(card: Card) -> dict[str, Any]:
    """Return a card as JSON has it."""
    return {
        "rows": [
            {"h": row.hour, "all_from": row.all_from, "shoulds_from": row.shoulds_from}
            for row in card.rows
        ],
        "nice": list(card.nice),
        "shoulds": list(card.shoulds),
        "musts": list(card.musts),
        "cannot_run": dict(card.cannot_run),
        "carries": card.carries,
        "carries_all_on": card.carries_all_on,
        "served": card.served,
        "served_all_on": card.served_all_on,
    }


def _span(values: Range) -> dict[str, float]:
    low, mid, high = values
    return {"value": mid, "low": low, "high": high}


def _doing(doing: Doing, watch: Watch) -> dict[str, Any]:
    return {
        "h": doing.hour,
        "at": moment_after(watch.plan.start, doing.hour).isoformat(),
        "late": doing.late(watch.hour),
        "said": doing.said,
        "caution": doing.caution,
    }


def _help(each: WatchHelp) -> dict[str, Any]:
    return {
        "kind": each.kind,
        "name": each.name,
        "gained_h": _span(each.gained_h),
        "chance": each.chance,
        "chance_musts": each.chance_musts,
        "said": each.said,
        "caution": each.caution,
    }


def _may(may: MaySwitchOn) -> dict[str, Any]:
    start = may.start.start
    return {
        "load": may.load,
        "minutes": may.minutes,
        "chance_it_runs": may.start.chance,
        "verdict": None if start is None else start.verdict.verdict,
        "required_va": None if start is None else _span(start.required_va),
        "cost_h": _span(may.cost_h),
        "chance": may.chance,
        "chance_after": may.chance_after,
        "chance_musts_after": may.chance_musts_after,
        "takes_from_musts": may.takes_from_musts,
        "free_at_h": may.free_at_h,
    }
