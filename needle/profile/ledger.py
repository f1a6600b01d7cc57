"""The ledger of a profile: each reading and each figure of a load, used or unused.

There are no separate rules, which could differ from the profile: the profile is derived without the
reading, and the figures that then differ are what it is used for.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import fields, replace
from functools import lru_cache, singledispatch
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
from needle.message import Message, message
from needle.profile.course import in_force
from needle.profile.document import parse_load
from needle.profile.energy import without_read_on
from needle.profile.profile import Profile, derive, needs_volts
from needle.profile.record import LoadRecord, NoEvidence
from needle.profile.start import is_slow
from needle.profile.states import in_setting

#: Readings beyond which each is no longer tried by itself.
MOST_TRIED = 120
#: Figures of a profile, in the order in which they are named.
_FIGURES = (
    "mean_w",
    "running_w",
    "resting_w",
    "power_factor",
    "va_spread",
    "start_va",
    "start_s",
    "task_wh",
    "task_min",
    "programme",
    "piece_wh",
    "times_per_day",
    "hours_per_day",
    "uses",
    "wander",
    "cycle_min",
    "day_spread",
    "states",
    "measured_room_c",
    "setting",
    "watched_h",
    "wh_per_day",
    "course",
    "meter_spread",
    "notices",
)
#: Keys of which something is said where they change no figure: what they would take to count.
_IDLE_KEYS = (
    "hz",
    "note",
    "room_c",
    "at",
    "instrument",
    "meter",
    "volts",
    "pf",
    "step_wh",
    "interval_s",
    "edges",
    "days",
    "hertz",
    "split",
    "seconds",
    "times_per_day",
    "hours_per_day",
    "set_c",
    "legs",
    "wired",
    "cares",
    "never_rarer",
    "runs_by",
    "uses_per_day",
)


def figures_of(profile: Profile) -> dict[str, Any]:
    """A profile's figures by name, without how they are known."""
    return {name: _plain(getattr(profile, name)) for name in _FIGURES}


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
            entries.append(LedgerEntry(where, False, message(key)))
        elif others(path, value) and not moves(document, path, value, _answer, before):
            code = f"idle-{key}" if key in _IDLE_KEYS else "other-figures"
            entries.append(LedgerEntry(where, False, message(code)))
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


def used_as(record: LoadRecord, number: int, before: Profile) -> list[Message]:
    """The profile's figures that differ without a reading."""
    rest = (*record.readings[:number], *record.readings[number + 1 :])
    return _differ(replace(record, readings=rest), before)


def _of_readings(record: LoadRecord, before: Profile) -> Iterator[LedgerEntry]:
    no_volts = any(notice.code == "dc-volts-missing" for notice in before.notices)
    for number, reading in enumerate(record.readings):
        where = f"readings[{number}]"
        if no_volts and needs_volts(reading):
            yield LedgerEntry(where, False, message("amps-without-volts"))
            continue
        if number >= MOST_TRIED:
            yield LedgerEntry(where, True, message("one-of-many"))
            continue
        figures = used_as(record, number, before)
        if not figures:
            yield LedgerEntry(where, False, _why_not(reading, record, before))
            continue
        yield LedgerEntry(where, True, message("used-for", what=tuple(figures[:3])))


def _differ(record: LoadRecord, before: Profile) -> list[Message]:
    """Figures of a record that differ from a profile's; all if the record has no profile."""
    try:
        after = derive(record)
    except DocumentError:
        return [message("all-known")]
    mine, theirs = figures_of(after), figures_of(before)
    return [message(f"figure-{name}") for name in _FIGURES if mine[name] != theirs[name]]


def _why_not(reading: Reading, record: LoadRecord, profile: Profile) -> Message:
    """Why a reading changes no figure."""
    mine = record.readings
    if reading not in in_setting(mine, profile.setting):
        return message("other-setting", made=reading.context.setting, counted=profile.setting)
    if profile.change is not None and reading not in in_force(mine, profile.change):
        return message("before-change")
    if isinstance(reading, Spot) and not reading.agreement().usable:
        return message("contradicts")
    return _by_type(reading, mine, profile)


@singledispatch
def _by_type(reading: Reading, mine: Sequence[Reading], profile: Profile) -> Message:
    """Why a reading of its type changes no figure."""
    return message("same-reading")


@_by_type.register
def _of_label(reading: Label, mine: Sequence[Reading], profile: Profile) -> Message:
    return message("label-bounds")


@_by_type.register
def _of_start(reading: Start, mine: Sequence[Reading], profile: Profile) -> Message:
    return message("slow-meter" if is_slow(reading) else "higher-start")


@_by_type.register
def _of_duty(reading: AssumedDuty, mine: Sequence[Reading], profile: Profile) -> Message:
    return message("duty-measured")


@_by_type.register(Tally | ChargeDrop | Recorded | Task | ShortRun)
def _of_energy(reading: Reading, mine: Sequence[Reading], profile: Profile) -> Message:
    return message("known-better", grade=profile.mean_w.grade)


@_by_type.register
def _of_counter(reading: EnergyRun, mine: Sequence[Reading], profile: Profile) -> Message:
    runs = [other for other in mine if isinstance(other, EnergyRun)]
    if reading not in without_read_on(runs):
        return message("read-on")
    return _of_energy(reading, mine, profile)
