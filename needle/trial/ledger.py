"""What a trial's forecast rests on: each figure of each check-in, used or left out and why."""

from __future__ import annotations

from needle.ledger import LedgerEntry
from needle.trial.trial import BATTERY, CheckIn, Trial

#: Figures that tell of charge or energy, and what each is used as.
_TELLING = {
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
_SAID = {
    "charge": "the charge rose though nothing charges it: kept as a note",
    "count": "the counter fell: was it reset?",
    "volts": "the battery's volts are not known: give them, or volts beside the Ah",
    "alike": "it shows what the look before it showed",
}


def entries_of(
    seen: CheckIn, counted: CheckIn, news: CheckIn, trial: Trial, charged: bool
) -> list[LedgerEntry]:
    """Entries of one check-in.

    Parameters
    ----------
    seen, counted, news : CheckIn
        As it was entered, without what cannot be, and without what was told just before.
    trial : Trial
    charged : bool
        Whether anything is known to charge it.
    """
    where = f"check_ins[{seen.number}]"
    entries = [LedgerEntry(where, True, "check-in", _used_as(seen))]
    for key in _TELLING:
        if getattr(seen, key) is None:
            continue
        why = _why_not(key, seen, counted, news, trial, charged)
        if why:
            entries.append(LedgerEntry(f"{where}.{key}", False, *why))
            if key == "bars":
                entries.append(LedgerEntry(f"{where}.of", False, *why))
    if seen.display_h is not None and trial.ended is None:
        words = "once it has ended: how far the display's promises were off"
        entries.append(LedgerEntry(f"{where}.display_h", False, "display_h", words))
    for key, words in (
        ("room_c", "for comparing trials"),
        ("inside_c", "for comparing trials"),
        ("note", "a note: no figure rests on it"),
    ):
        if getattr(seen, key) not in (None, ""):
            entries.append(LedgerEntry(f"{where}.{key}", False, key, words))
    if seen.counted != BATTERY and seen.wh is None and seen.ah is None:
        words = "nothing was counted"
        entries.append(LedgerEntry(f"{where}.counted", False, "counted", words))
    if seen.watts_at != seen.counted and seen.drawn_w is None:
        entries.append(LedgerEntry(f"{where}.watts_at", False, "watts_at", "no W were read"))
    return entries


def _used_as(seen: CheckIn) -> str:
    told = [words for key, words in _TELLING.items() if getattr(seen, key) is not None]
    if seen.leg is not None:
        told.append("a new leg")
    return ", ".join(dict.fromkeys(told)) or "it still ran"


def _why_not(
    key: str, seen: CheckIn, counted: CheckIn, news: CheckIn, trial: Trial, charged: bool
) -> tuple[str, str] | None:
    """Why a figure of a check-in is left out: a code, and in words; None where it is used."""
    if key == "ah" and trial.battery.volts is None and seen.volts is None:
        return "volts", _SAID["volts"]
    if key == "ah" and (seen.wh is not None or counted.wh is not None):
        return None if seen.wh is None else ("wh", "Wh were counted too")
    if getattr(counted, key) is None:
        code = "charge" if key in ("percent", "bars") else "count"
        return code, _SAID[code]
    if key == "bars" and seen.percent is not None:
        return "percent", "the charge was read in percent too"
    if key == "amps" and (seen.watts is not None or seen.volts is None):
        words = "W were read too" if seen.watts is not None else "without volts they are no watts"
        return "amps", words
    if key == "volts" and trial.battery.volts is None:
        if seen.amps is not None or seen.ah is not None:
            return None
        return "volts", "the battery's own volts are not known"
    if key == "watts_in" and not charged and trial.plan is not None:
        return "source", "the plan has no source"
    return None if getattr(news, key) is not None else ("alike", _SAID["alike"])
