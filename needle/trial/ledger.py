"""The ledger of a trial's forecast: each figure of each check-in, used or unused, and why."""

from __future__ import annotations

from needle.ledger import LedgerEntry
from needle.trial.trial import BATTERY, CheckIn, Trial

#: Figures that tell of charge or energy, and what each is used as.
_USED_AS = {
    "percent": "the charge shown",
    "bars": "the charge shown",
    "wh": "Wh counted",
    "ah": "Ah counted",
    "wh_in": "Wh charged",
    "volts": "volts",
    "watts": "W just then",
    "amps": "A just then",
    "watts_in": "W from sources just then",
}
_REASONS = {
    "charge": "the charge rose though nothing charges it: kept as a note",
    "count": "the counter fell: was it reset?",
    "volts": "the battery's volts are not known: give them, or volts beside the Ah",
    "alike": "it shows what the look before it showed",
}


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
    entries = [LedgerEntry(where, True, "check-in", _used_for(entered))]
    for key in _USED_AS:
        if getattr(entered, key) is None:
            continue
        why = _reason_unused(key, entered, plausible, new, trial, charged)
        if why:
            entries.append(LedgerEntry(f"{where}.{key}", False, *why))
            if key == "bars":
                entries.append(LedgerEntry(f"{where}.of", False, *why))
    if entered.display_h is not None and trial.ended is None:
        words = "once it has ended: how far the display's promises were off"
        entries.append(LedgerEntry(f"{where}.display_h", False, "display_h", words))
    for key, words in (
        ("room_c", "for comparing trials"),
        ("inside_c", "for comparing trials"),
        ("note", "a note: no figure uses it"),
    ):
        if getattr(entered, key) not in (None, ""):
            entries.append(LedgerEntry(f"{where}.{key}", False, key, words))
    if entered.counted != BATTERY and entered.wh is None and entered.ah is None:
        words = "nothing was counted"
        entries.append(LedgerEntry(f"{where}.counted", False, "counted", words))
    if entered.watts_at != entered.counted and entered.drawn_w is None:
        entries.append(LedgerEntry(f"{where}.watts_at", False, "watts_at", "no W were read"))
    return entries


def _used_for(entered: CheckIn) -> str:
    used = [words for key, words in _USED_AS.items() if getattr(entered, key) is not None]
    if entered.leg is not None:
        used.append("a new leg")
    return ", ".join(dict.fromkeys(used)) or "it still ran"


def _reason_unused(
    key: str, entered: CheckIn, plausible: CheckIn, new: CheckIn, trial: Trial, charged: bool
) -> tuple[str, str] | None:
    """Why a figure of a check-in is unused, as a code and in words; None if it is used."""
    if key == "ah" and trial.battery.volts is None and entered.volts is None:
        return "volts", _REASONS["volts"]
    if key == "ah" and (entered.wh is not None or plausible.wh is not None):
        return None if entered.wh is None else ("wh", "Wh were counted too")
    if getattr(plausible, key) is None:
        code = "charge" if key in ("percent", "bars") else "count"
        return code, _REASONS[code]
    if key == "bars" and entered.percent is not None:
        return "percent", "the charge was read in percent too"
    if key == "amps" and (entered.watts is not None or entered.volts is None):
        words = (
            "W were read too" if entered.watts is not None else "without volts they are no watts"
        )
        return "amps", words
    if key == "volts" and trial.battery.volts is None:
        if entered.amps is not None or entered.ah is not None:
            return None
        return "volts", "the battery's own volts are not known"
    if key == "watts_in" and not charged and trial.plan is not None:
        return "source", "the plan has no source"
    return None if getattr(new, key) is not None else ("alike", _REASONS["alike"])
