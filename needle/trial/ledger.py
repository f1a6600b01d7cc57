"""The ledger of a trial's forecast: each figure of each check-in, used or unused, and why."""

from __future__ import annotations

from needle.ledger import LedgerEntry
from needle.message import Message, message
from needle.trial.trial import BATTERY, CheckIn, Trial

#: Figures that tell of charge or energy.
_FIGURES = ("percent", "bars", "wh", "ah", "wh_in", "volts", "watts", "amps", "watts_in")


def entries_of(
    entered: CheckIn, plausible: CheckIn, new: CheckIn, trial: Trial, charged: bool
) -> list[LedgerEntry]:
    """Return the ledger entries of one check-in.

    Parameters
    ----------
    entered, plausible, new : CheckIn
        As entered; without impossible figures; without figures that repeat the last ones.
    trial : Trial
    charged : bool
        Whether anything is known to charge it.
    """
    where = f"check_ins[{entered.number}]"
    entries = [LedgerEntry(where, True, _used_for(entered))]
    for key in _FIGURES:
        if getattr(entered, key) is None:
            continue
        why = _reason_unused(key, entered, plausible, new, trial, charged)
        if why:
            entries.append(LedgerEntry(f"{where}.{key}", False, message(why)))
            if key == "bars":
                entries.append(LedgerEntry(f"{where}.of", False, message(why)))
    if entered.display_h is not None and trial.ended is None:
        entries.append(LedgerEntry(f"{where}.display_h", False, message("display-promise")))
    for key, code in (("room_c", "for-comparing"), ("inside_c", "for-comparing"), ("note", "note")):
        if getattr(entered, key) not in (None, ""):
            entries.append(LedgerEntry(f"{where}.{key}", False, message(code)))
    if entered.counted != BATTERY and entered.wh is None and entered.ah is None:
        entries.append(LedgerEntry(f"{where}.counted", False, message("nothing-counted")))
    if entered.watts_at != entered.counted and entered.drawn_w is None:
        entries.append(LedgerEntry(f"{where}.watts_at", False, message("no-watts-read")))
    return entries


def _used_for(entered: CheckIn) -> Message:
    used = [f"seen-{key}" for key in _FIGURES if getattr(entered, key) is not None]
    if entered.leg is not None:
        used.append("seen-leg")
    if not used:
        return message("still-ran")
    return message("used-for", what=tuple(map(message, used)))


def _reason_unused(
    key: str, entered: CheckIn, plausible: CheckIn, new: CheckIn, trial: Trial, charged: bool
) -> str:
    """Code of why a figure of a check-in is unused; empty if it is used."""
    if key == "ah" and trial.battery.volts is None and entered.volts is None:
        return "volts-unknown"
    if key == "ah" and (entered.wh is not None or plausible.wh is not None):
        return "" if entered.wh is None else "wh-too"
    if getattr(plausible, key) is None:
        return "charge-rose" if key in ("percent", "bars") else "counter-fell"
    if key == "bars" and entered.percent is not None:
        return "percent-too"
    if key == "amps" and (entered.watts is not None or entered.volts is None):
        return "watts-too" if entered.watts is not None else "amps-without-volts"
    if key == "volts" and trial.battery.volts is None:
        if entered.amps is not None or entered.ah is not None:
            return ""
        return "battery-volts-unknown"
    if key == "watts_in" and not charged and trial.plan is not None:
        return "no-source"
    return "" if getattr(new, key) is not None else "as-before"
