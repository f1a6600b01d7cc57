"""Load documents: parsing, and the profile that ``needle profile`` prints."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from needle.document import DocumentError, Reader
from needle.estimate import Estimate
from needle.ledger import LedgerEntry
from needle.ledger import as_document as ledger_document
from needle.measure.instruments import Instrument
from needle.measure.meters import beyond, parse_meters, resolved
from needle.measure.readings import Reading, parse
from needle.profile.kinds import KINDS
from needle.profile.profile import LoadRecord, Profile


def parse_load(data: Any) -> LoadRecord:
    """Parse a load document (see ``docs/formats.md``).

    Raises
    ------
    DocumentError
    """
    reader = Reader(
        data,
        "",
        (
            "name",
            "kind",
            "mains",
            "set_c",
            "readings",
            "setting",
            "hours_per_day",
            "never_rarer",
            "dc",
            "volts",
            "meters",
            "legs",
        ),
    )
    meters = parse_meters(reader.items("meters", most=100))
    mains = Reader(data.get("mains") or {}, "mains", ("volts", "hertz", "split"))
    mains.number("hertz", least=10, most=500)
    legs = reader.choice("legs", ("", "one", "both"), "")
    legs_v = mains.number("volts", least=10, most=1000, default=230.0) * (
        2 if legs == "both" else 1
    )
    return LoadRecord(
        name=reader.text("name", "load"),
        kind=reader.choice("kind", KINDS),
        readings=tuple(
            _read_on(parse(item, f"readings[{index}]"), meters, f"readings[{index}]")
            for index, item in enumerate(reader.items("readings", most=5000))
        ),
        mains_v=reader.number("volts", least=1, most=1000) or legs_v,
        legs_open=mains.flag("split") and not legs and not reader.has("volts"),
        setting=reader.text("setting", most=60),
        hours_per_day=reader.number("hours_per_day", most=24),
        never_rarer=reader.flag("never_rarer"),
        set_c=reader.number("set_c", least=-100, most=400),
        dc=reader.flag("dc"),
    )


def _read_on(reading: Reading, meters: Mapping[str, Instrument], path: str) -> Reading:
    """A reading with the accuracy of its own meter, if the document names one."""
    name = reading.context.meter_name
    if not name:
        return reading
    if name not in meters:
        raise DocumentError(f"{path}.meter", f"“{name}” is none of the meters that are listed")
    if words := beyond(reading, meters[name]):
        raise DocumentError(path, words)
    return resolved(reading, meters)


def as_document(profile: Profile, ledger: Sequence[LedgerEntry] = ()) -> dict[str, Any]:
    """Return the profile as ``needle profile`` prints it, with its ledger."""

    def span(estimate: Estimate | None) -> dict[str, float] | None:
        return None if estimate is None else estimate.as_range()

    return {
        "mean_w": span(profile.mean_w),
        "running_w": span(profile.running_w),
        "resting_w": span(profile.resting_w),
        "duty": span(profile.duty),
        "power_factor": None if profile.dc else span(profile.power_factor),
        "start_va": span(profile.start_va),
        "wh_per_day": span(profile.wh_per_day),
        "task_wh": span(profile.task_wh),
        "piece_wh": span(profile.piece_wh),
        "task_min": profile.task_min,
        "day_spread": profile.day_spread,
        "states": [
            {
                "name": state.name,
                "setting": state.setting,
                "watts": state.watts.as_range(),
                "power_factor": span(state.power_factor),
                "grade": state.watts.grade,
            }
            for state in profile.states
        ],
        "cycle_min": profile.cycle_min,
        "hours_per_day": profile.hours_per_day,
        "times_per_day": profile.times_per_day,
        "watched_h": profile.watched_h,
        "measured_room_c": profile.measured_room_c,
        "start_s": profile.start_s,
        "va_spread": profile.va_spread,
        "setting": profile.setting,
        "meter": profile.meter or None,
        "course": [
            {"at": point.at.isoformat(), "mean_w": span(point.mean_w)} for point in profile.course
        ],
        "grade": profile.grade,
        "how": list(profile.how),
        "advice": [hint.sentence() for hint in profile.advice],
        "notices": list(profile.notices),
        "ledger": ledger_document(ledger),
    }
