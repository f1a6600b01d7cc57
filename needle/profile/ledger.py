"""The ledger of a profile: each reading and each figure of a load, used or unused.

There are no separate rules, which could differ from the profile: the profile is derived without the
reading, and the figures that then differ are what it is used for.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import fields, replace
from functools import lru_cache
from typing import Any

from needle.document import DocumentError
from needle.estimate import Estimate
from needle.leaves import Path, leaves, moves, others, path_text
from needle.ledger import LedgerEntry, covers
from needle.measure.readings import (
    AssumedDuty,
    ChargeDrop,
    EnergyRun,
    Label,
    Reading,
    Recorded,
    ShortRun,
    Spot,
    Start,
    Tally,
    Task,
)
from needle.profile.course import in_force
from needle.profile.document import parse_load
from needle.profile.energy import without_read_on
from needle.profile.profile import LoadRecord, NoEvidence, Profile, derive
from needle.profile.start import is_slow
from needle.profile.states import in_setting

#: Readings beyond which each is no longer tried by itself.
MOST_TRIED = 120
#: Figures of a profile, and what each is called.
_FIGURES = (
    ("mean_w", "average draw"),
    ("running_w", "running watts"),
    ("resting_w", "resting watts"),
    ("power_factor", "power factor"),
    ("va_spread", "volt-amperes"),
    ("start_va", "start-up surge"),
    ("start_s", "length of the start"),
    ("task_wh", "energy of one use"),
    ("task_min", "length of one use"),
    ("piece_wh", "energy of a piece"),
    ("times_per_day", "uses a day"),
    ("hours_per_day", "hours a day"),
    ("cycle_min", "length of a cycle"),
    ("day_spread", "how days differ"),
    ("states", "states"),
    ("measured_room_c", "its room"),
    ("setting", "its setting"),
    ("watched_h", "how long it was counted"),
    ("wh_per_day", "energy a day"),
    ("course", "its draw over the years"),
    ("meter_spread", "what its meter errs by"),
    ("notices", "what to mind"),
)
#: What a key that changes nothing is there for, or what it would take to count.
_IDLE_KEYS = {
    "hz": "the frequency says nothing of energy",
    "note": "a note: no figure uses it",
    "room_c": "the room only counts with a reading of energy; set a temperature setting too",
    "at": "a date counts where readings of other dates tell of a change",
    "instrument": "how exact the instrument is does not matter beside the rest",
    "meter": "how exact the meter is does not matter beside the rest",
    "volts": "watts or volt-amperes were read: they need no volts",
    "pf": "W and VA were read: they tell the power factor",
    "step_wh": "the last digit is too small to matter here",
    "interval_s": "how often it was recorded does not matter here",
    "edges": "it belongs to no complete cycle",
    "days": "it counts with how its days differed",
    "hertz": "the frequency counts for power-factor correction only",
    "split": "it is known how it is fed, or readings give their own volts",
    "seconds": "the length of a start counts with what was seen of it",
    "times_per_day": "a newer short run says how often",
    "hours_per_day": "somebody counted how much it takes a day",
    "set_c": "counts in plans, once a room was noted beside a reading of energy",
    "legs": "readings give their own volts",
    "never_rarer": "it was watched long enough, or its kind has no rare state",
}


def figures_of(profile: Profile) -> dict[str, Any]:
    """A profile's figures by name, without how they are known."""
    return {name: _plain(getattr(profile, name)) for name, _ in _FIGURES}


def _plain(value: Any) -> Any:
    """A figure without text."""
    if isinstance(value, Estimate):
        return round(value.value, 9), round(value.spread, 9), value.grade
    if isinstance(value, tuple):
        return tuple(map(_plain, value))
    if hasattr(value, "__dataclass_fields__"):
        return tuple(_plain(getattr(value, field.name)) for field in fields(value))
    return value


def ledger_of(document: Mapping[str, Any]) -> list[LedgerEntry]:
    """Return the ledger of a load document's profile, value by value; empty without evidence.

    Raises
    ------
    DocumentError
    """
    entries = list(readings_ledger(parse_load(document)))
    if not entries:
        return []
    out = [entry for entry in entries if not entry.used]
    before = _answer(document)
    for path, value in leaves(document):
        where, key = path_text(path), _key_of(path)
        if any(covers(entry, where) for entry in out):
            continue
        if key in ("name", "note"):
            entries.append(LedgerEntry(where, False, key, "a name or note: no figure uses it"))
        elif others(path, value) and not moves(document, path, value, _answer, before):
            words = _IDLE_KEYS.get(key, "other figures tell the same")
            entries.append(LedgerEntry(where, False, key, words))
    return entries


def _answer(document: Any) -> dict[str, Any]:
    try:
        return figures_of(derive(parse_load(document)))
    except NoEvidence:
        return {}


def _key_of(path: Path) -> str:
    return next((part for part in reversed(path) if isinstance(part, str)), "")


@lru_cache(maxsize=1024)
def readings_ledger(record: LoadRecord) -> tuple[LedgerEntry, ...]:
    """Return each reading of a load, used or unused as a whole; empty without evidence."""
    try:
        before = derive(record)
    except NoEvidence:
        return ()
    return tuple(_of_readings(record, before))


def used_as(record: LoadRecord, number: int, before: Profile) -> list[str]:
    """Names of the profile's figures that differ without a reading."""
    rest = (*record.readings[:number], *record.readings[number + 1 :])
    return _differ(replace(record, readings=rest), before)


def _of_readings(record: LoadRecord, before: Profile) -> Iterator[LedgerEntry]:
    for number, reading in enumerate(record.readings):
        where = f"readings[{number}]"
        if number >= MOST_TRIED:
            yield LedgerEntry(where, True, "reading", "one of many readings")
            continue
        figures = used_as(record, number, before)
        if not figures:
            yield LedgerEntry(where, False, *_why_not(reading, record, before))
            continue
        yield LedgerEntry(where, True, "reading", ", ".join(figures[:3]))


def _differ(record: LoadRecord, before: Profile) -> list[str]:
    """Figures of a record that differ from a profile's; all if the record has no profile."""
    try:
        after = derive(record)
    except DocumentError:
        return ["all that is known of it"]
    mine, theirs = figures_of(after), figures_of(before)
    return [words for name, words in _FIGURES if mine[name] != theirs[name]]


def _why_not(reading: Reading, record: LoadRecord, profile: Profile) -> tuple[str, str]:
    """Why a reading changes no figure, as a code and in words."""
    mine = record.readings
    if reading not in in_setting(mine, profile.setting):
        counted = f"“{profile.setting}”" if profile.setting else "none"
        return "setting", (
            f"made in the setting “{reading.context.setting}”; the profile speaks of {counted}: "
            "choose the setting in its details"
        )
    if profile.change is not None and reading not in in_force(mine, profile.change):
        return "older", "older than a real change of its draw"
    if isinstance(reading, Spot) and not reading.agreement().usable:
        return "contradicts", "its figures contradict one another: read them again"
    return _by_type(reading, mine, profile)


def _by_type(reading: Reading, mine: Sequence[Reading], profile: Profile) -> tuple[str, str]:
    if isinstance(reading, Label):
        return "label", "a label is only an upper limit, and the load was measured"
    if isinstance(reading, Start):
        if is_slow(reading):
            return "slow", "this meter is blind to short starts, and it lies below the usual one"
        return "start", "a higher start was read"
    if isinstance(reading, AssumedDuty):
        return "assumed", "it was measured how long it runs, or assumed anew since"
    runs = [other for other in mine if isinstance(other, EnergyRun)]
    if isinstance(reading, EnergyRun) and reading not in without_read_on(runs):
        return "read-on", "the same counter was read again later, without a reset"
    if isinstance(reading, EnergyRun | Tally | ChargeDrop | Recorded | Task | ShortRun):
        grade = profile.mean_w.grade
        return "weaker", f"the average is known better (grade {grade}) by other readings"
    return "same", "other readings tell the same"
