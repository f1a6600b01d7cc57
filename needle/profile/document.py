"""Load documents: parsing, and the profile that ``needle profile`` prints."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

from needle.document import DocumentError, Reader
from needle.electrical import MAINS_V
from needle.estimate import Z90, Estimate
from needle.fields import Choice, Fields, Flag, Number, Part, Parts, Text
from needle.ledger import LedgerEntry
from needle.measure.instruments import Instrument
from needle.measure.meters import beyond, parse_meters, resolved
from needle.measure.readings import Reading, parse
from needle.message import AsText
from needle.profile.kinds import KINDS, RUNS_BY, SAFETY_CLASSES, WIRED
from needle.profile.profile import Profile
from needle.profile.record import LoadRecord
from needle.profile.use_process import STATED_TIMES_SPREAD

LOAD_FIELDS: Fields = {
    "name": Text("its name", default="load"),
    "kind": Choice("kind of load", choices=KINDS),
    "mains": Part(
        "the mains where it was measured",
        fields={
            "volts": Number("mains voltage", unit="V", least=10, most=1000, default=MAINS_V),
            "hertz": Number("mains frequency", unit="Hz", least=10, most=500),
            "split": Flag("whether two legs carry twice the volts between them"),
        },
    ),
    "volts": Number(
        "its own voltage", unit="V", least=1, most=1000, otherwise="the mains', twice on both legs"
    ),
    "legs": Choice(
        "on split mains, the legs it is wired to; asked for where amps have no volts",
        choices=("", "one", "both"),
        default="",
    ),
    "cares": Choice(
        "what depends on it, for plans",
        choices=(*SAFETY_CLASSES, WIRED),
        default="",
        otherwise="store for refrigeration, else nothing",
    ),
    "wired": Flag("whether it is hard-wired: measured in the panel, by a licensed electrician"),
    "dc": Flag("whether it is fed with DC: volts times amps are watts, there is no power factor"),
    "setting": Text("the setting to be profiled", most=60),
    "hours_per_day": Number("hours of use a day", unit="h", most=24),
    "runs_by": Choice(
        "who decides when it runs",
        choices=("", *RUNS_BY),
        default="",
        otherwise="who usually does, of its kind",
    ),
    "uses_per_day": Part(
        "how often a day it is used, as people say",
        fields={
            "value": Number("likely number", most=1000, above=True, needed=True),
            "low": Number("low end, 10th percentile", most=1000, above=True),
            "high": Number("high end, 90th percentile", most=1000, above=True),
            "minutes": Number("length of one", unit="min", most=1440, above=True),
        },
    ),
    "never_rarer": Flag("whether it has no defrost or other rare state"),
    "set_c": Number("set point", unit="°C", least=-100, most=400),
    "meters": Parts("one's own meters", see="meter", most=100),
    "readings": Parts("its readings", see="reading", most=5000),
}


def parse_load(data: Any) -> LoadRecord:
    """Parse a load document (see ``docs/fields.md``).

    Raises
    ------
    DocumentError
    """
    reader = Reader(data, "", LOAD_FIELDS)
    meters = parse_meters(reader.documents("meters"))
    legs = reader.choice("legs")
    mains_v, split = _mains(reader)
    return LoadRecord(
        name=reader.text("name"),
        kind=reader.choice("kind"),
        readings=tuple(
            _read_on(parse(item, f"readings[{index}]"), meters, f"readings[{index}]")
            for index, item in enumerate(reader.documents("readings"))
        ),
        mains_v=reader.number("volts", mains_v * (2 if legs == "both" else 1)),
        in_panel=reader.flag("wired") or reader.choice("cares") == WIRED or legs == "both",
        legs_open=split and not legs and not reader.has("volts"),
        setting=reader.text("setting"),
        hours_per_day=reader.number_or_none("hours_per_day"),
        never_rarer=reader.flag("never_rarer"),
        runs_by=reader.choice("runs_by"),
        uses_per_day=_uses_per_day(reader),
        use_min=_use_min(reader),
        set_c=reader.number_or_none("set_c"),
        dc=reader.flag("dc"),
    )


def _uses_per_day(reader: Reader) -> Estimate | None:
    """Stated uses a day; without ends, as people usually know them."""
    part = reader.part("uses_per_day")
    if part is None:
        return None
    value = part.number("value")
    ends = part.number_or_none("low"), part.number_or_none("high")
    if ends == (None, None):
        return Estimate(value, STATED_TIMES_SPREAD, "C")
    low, high = (value if end is None else end for end in ends)
    if not low <= value <= high:
        raise DocumentError(part.at("value"), f"{value:g} is not between {low:g} and {high:g}")
    sigma = math.log(high / low) / (2 * Z90)
    return Estimate(value, math.sqrt(math.expm1(sigma**2)), "C")


def _use_min(reader: Reader) -> float | None:
    part = reader.part("uses_per_day")
    return None if part is None else part.number_or_none("minutes")


def _mains(reader: Reader) -> tuple[float, bool]:
    """Volts of the mains, and whether they are split."""
    mains = reader.part("mains")
    if mains is None:
        return MAINS_V, False
    mains.number_or_none("hertz")  # Checked, though the profile does not use it.
    return mains.number("volts"), mains.flag("split")


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
        "runs_by": profile.runs_by,
        "uses": None
        if profile.uses is None
        else {
            "per_day": profile.uses.per_day.as_range(),
            "wh": profile.uses.use_wh.as_range(),
            "seen": profile.uses.seen,
            "hours_seen": profile.uses.hours_seen,
        },
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
        "how": [AsText(step) for step in profile.how],
        "advice": [AsText(hint.said) for hint in profile.advice],
        "notices": list(profile.notices),
        "ledger": list(ledger),
    }
