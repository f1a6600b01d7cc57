"""Readings as they were made, from an instrument or a label.

Each type of reading is a frozen dataclass, parsed from the open document. The bounds are wide, but
refuse what no appliance on a battery does (a gigawatt kettle).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from itertools import pairwise
from typing import Any

from needle.document import DocumentError, Reader
from needle.measure.agreement import Agreement, agree
from needle.measure.instruments import INSTRUMENTS, Instrument, get
from needle.moments import parse_moment

MOST_W = 100_000.0
MOST_V = 1_000.0
MOST_A = 2_000.0
MOST_WH = 10_000_000.0
MOST_H = 24 * 366 * 5.0

_COMMON = ("type", "setting", "instrument", "meter", "room_c", "note", "at")


@dataclass(frozen=True)
class Context:
    """Fields of every reading: setting, instrument key, room in °C, and day.

    ``meter_name`` is a person's own meter, ``own`` its properties
    (:func:`needle.measure.meters.resolved`).
    """

    setting: str = ""
    instrument: str = ""
    room_c: float | None = None
    meter_name: str = ""
    own: Instrument | None = None
    at: datetime | None = None

    def meter(self) -> Instrument:
        return self.own or get(self.instrument)


@dataclass(frozen=True)
class Label:
    """Rated figures: W, VA, V, A, kWh per year, shaft horsepower, breaker A; all are bounds."""

    watts: float | None = None
    volts: float | None = None
    amps: float | None = None
    va: float | None = None
    kwh_per_year: float | None = None
    horsepower: float | None = None
    breaker_a: float | None = None
    context: Context = Context()


@dataclass(frozen=True)
class Spot:
    """V, A, W, VA, PF, Hz read at one moment in one state."""

    state: str
    watts: float | None = None
    volts: float | None = None
    amps: float | None = None
    va: float | None = None
    pf: float | None = None
    hz: float | None = None
    context: Context = Context()

    def agreement(self) -> Agreement:
        """Check the reading against itself with its instrument's accuracy."""
        return agree(
            {
                key: value
                for key in ("volts", "amps", "watts", "va", "pf")
                if (value := getattr(self, key)) is not None
            },
            self.context.meter(),
        )


@dataclass(frozen=True)
class Start:
    """Highest current or power just after switching on: A and V, or VA, or W; length in s."""

    amps: float | None = None
    volts: float | None = None
    va: float | None = None
    watts: float | None = None
    seconds: float | None = None
    context: Context = Context()


@dataclass(frozen=True)
class EnergyRun:
    """An energy counter over a span: Wh, hours, the counter's step in Wh.

    ``counted`` says where: ``"ac"`` at the plug, ``"dc"`` at a USB or DC output.
    """

    wh: float
    hours: float
    step_wh: float = 10.0
    counted: str = "ac"
    context: Context = Context()


@dataclass(frozen=True)
class Tally:
    """On and off moments in seconds, in time order, noted by ear or eye."""

    edges: tuple[tuple[str, float], ...]
    context: Context = Context()


#: How people tell a duty by feel, and the shares of time that are meant (general).
FEELS = {
    "now and then": (0.03, 0.15),
    "about a quarter": (0.15, 0.35),
    "about a third": (0.23, 0.45),
    "about half": (0.35, 0.65),
    "about two thirds": (0.53, 0.78),
    "nearly always": (0.75, 1.0),
}


@dataclass(frozen=True)
class AssumedDuty:
    """A share of time that it is taken to run, nobody having counted: from low to high."""

    low: float
    high: float
    context: Context = Context()


@dataclass(frozen=True)
class Task:
    """One unit of work: Wh, minutes, pieces it served, how many tasks the figure covers."""

    wh: float
    minutes: float | None = None
    pieces: float | None = None
    runs: int = 1
    context: Context = Context()


@dataclass(frozen=True)
class ShortRun:
    """A use that is over soon: W while it lasts, its seconds, and how often a day, where known."""

    watts: float
    seconds: float
    times_per_day: float | None = None
    context: Context = Context()

    def as_task(self) -> Task:
        """The energy that one use takes."""
        wh = self.watts * self.seconds / 3600
        return Task(wh, self.seconds / 60, context=self.context)

    def as_spot(self) -> Spot:
        """What was read while it ran."""
        return Spot("running", self.watts, context=self.context)


@dataclass(frozen=True)
class ChargeDrop:
    """A fall of a supply's charge from one share to another within some hours.

    ``idle_w`` is the supply's own consumption, ``efficiency`` its conversion; None if unknown.
    ``proven`` is whether its Wh were measured rather than nominal.
    """

    supply_wh: float
    start: float
    end: float
    hours: float
    idle_w: float | None = None
    efficiency: float | None = None
    step: float = 0.01
    proven: bool = False
    context: Context = Context()


@dataclass(frozen=True)
class Recorded:
    """The analysis of a capture, see :class:`needle.measure.analysis.Analysis`.

    ``active_h`` is from its first leaving of rest to its last return. ``rarer`` is whether there
    are states besides the main cycle (a defrost); ``interval_s`` is the logger's. ``high_w`` is a
    high percentile of the power; ``days`` complete days have means with the sd ``day_spread``.
    """

    pattern: str
    covered_h: float
    wh: float
    idle_w: float | None = None
    running_w: float | None = None
    cycle_mean_w: float | None = None
    duty: float | None = None
    duty_spread: float | None = None
    whole_cycles: int = 0
    period_min: float | None = None
    start_peak_w: float | None = None
    power_factor: float | None = None
    rarer: bool = False
    interval_s: float = 1.0
    active_h: float | None = None
    high_w: float | None = None
    days: int = 0
    day_spread: float | None = None
    context: Context = Context()


Reading = (
    Label | Spot | Start | EnergyRun | Tally | AssumedDuty | Task | ShortRun | ChargeDrop | Recorded
)
PATTERNS = ("steady", "cycling", "modulating", "program")


def _context(reader: Reader) -> Context:
    instrument = reader.choice("instrument", ("", *INSTRUMENTS), "")
    return Context(
        reader.text("setting", most=60),
        instrument,
        reader.number("room_c", least=-60, most=80),
        reader.text("meter", most=60),
        at=_made_at(reader),
    )


def _made_at(reader: Reader) -> datetime | None:
    """The day or time of the reading."""
    text = reader.text("at", most=40)
    if not text:
        return None
    moment = parse_moment(
        text if "T" in text or " " in text else f"{text}T00:00", reader.at("at"), UTC
    )
    return moment if isinstance(moment, datetime) else None


def _label(data: dict[str, Any], path: str) -> Label:
    keys = ("watts", "volts", "amps", "va", "kwh_per_year", "horsepower", "breaker_a")
    reader = Reader(data, path, (*_COMMON, *keys))
    if not any(reader.has(key) for key in keys if key != "volts"):
        raise DocumentError(
            path, "a label reading needs watts, VA, amps, kWh a year, horsepower or the breaker"
        )
    return Label(
        watts=reader.number("watts", most=MOST_W, above=True),
        volts=reader.number("volts", most=MOST_V, above=True),
        amps=reader.number("amps", most=MOST_A, above=True),
        va=reader.number("va", most=MOST_W, above=True),
        kwh_per_year=reader.number("kwh_per_year", most=100_000, above=True),
        horsepower=reader.number("horsepower", most=100, above=True),
        breaker_a=reader.number("breaker_a", most=MOST_A, above=True),
        context=_context(reader),
    )


def _spot(data: dict[str, Any], path: str) -> Spot:
    keys = ("state", "watts", "volts", "amps", "va", "pf", "hz")
    reader = Reader(data, path, (*_COMMON, *keys))
    spot = Spot(
        state=reader.text("state", "running", most=40).strip().casefold() or "running",
        watts=reader.number("watts", most=MOST_W),
        volts=reader.number("volts", most=MOST_V, above=True),
        amps=reader.number("amps", most=MOST_A),
        va=reader.number("va", most=MOST_W),
        pf=reader.number("pf", most=1.0),
        hz=reader.number("hz", least=0, most=500, above=True),
        context=_context(reader),
    )
    if spot.watts is None and spot.va is None and spot.amps is None:
        raise DocumentError(path, "a spot reading needs watts, VA, or amps")
    return spot


def _start(data: dict[str, Any], path: str) -> Start:
    keys = ("amps", "volts", "va", "watts", "seconds")
    reader = Reader(data, path, (*_COMMON, *keys))
    if not any(reader.has(key) for key in ("amps", "va", "watts")):
        raise DocumentError(path, "a start reading needs amps, VA or watts")
    return Start(
        amps=reader.number("amps", most=MOST_A, above=True),
        volts=reader.number("volts", most=MOST_V, above=True),
        va=reader.number("va", most=MOST_W * 10, above=True),
        watts=reader.number("watts", most=MOST_W * 10, above=True),
        seconds=reader.number("seconds", most=60, above=True),
        context=_context(reader),
    )


#: Instruments that sit in a DC line: what they count was drawn there.
DC_INSTRUMENTS = ("shunt", "usb")


def _energy(data: dict[str, Any], path: str) -> EnergyRun:
    if data.get("counted") == "dc" and not data.get("instrument"):
        data = {**data, "instrument": "usb"}
    elif not data.get("counted") and data.get("instrument") in DC_INSTRUMENTS:
        data = {**data, "counted": "dc"}
    reader = Reader(data, path, (*_COMMON, "wh", "hours", "step_wh", "counted"))
    run = EnergyRun(
        wh=reader.need("wh", most=MOST_WH),
        hours=reader.need("hours", most=MOST_H, above=True),
        step_wh=10.0 if not reader.has("step_wh") else reader.need("step_wh", most=10_000),
        counted=reader.choice("counted", ("ac", "dc"), "ac"),
        context=_context(reader),
    )
    if run.wh / run.hours > MOST_W:
        raise DocumentError(
            f"{path}.wh" if path else "wh",
            f"{run.wh:g} Wh in {run.hours:g} h is {run.wh / run.hours:g} W: check both",
        )
    return run


def _tally(data: dict[str, Any], path: str) -> Tally:
    reader = Reader(data, path, (*_COMMON, "edges"))
    edges: list[tuple[str, float]] = []
    for number, item in enumerate(reader.items("edges")):
        where = f"{reader.at('edges')}[{number}]"
        if not isinstance(item, list | tuple) or len(item) != 2 or item[0] not in ("on", "off"):
            raise DocumentError(where, 'must be ["on", seconds] or ["off", seconds]')
        seconds = Reader({"s": item[1]}, where, ("s",)).need("s", most=MOST_H * 3600)
        edges.append((str(item[0]), seconds))
    edges.sort(key=lambda edge: edge[1])
    if len(edges) < 3:
        raise DocumentError(reader.at("edges"), "needs at least three moments: on, off, on again")
    for before, after in pairwise(edges):
        if before[0] == after[0] or before[1] == after[1]:
            raise DocumentError(
                reader.at("edges"),
                f"“{after[0]}” at {after[1]:g} s follows “{before[0]}” at {before[1]:g} s: on and "
                "off must take turns; a moment was missed",
            )
    return Tally(tuple(edges), _context(reader))


def _assumed_duty(data: dict[str, Any], path: str) -> AssumedDuty:
    reader = Reader(data, path, (*_COMMON, "low", "high", "feel"))
    if reader.has("feel"):
        if reader.has("low") or reader.has("high"):
            raise DocumentError(reader.at("feel"), "says the share already: leave low and high out")
        return AssumedDuty(*FEELS[reader.choice("feel", FEELS)], _context(reader))
    low = reader.need("low", most=1.0, above=True)
    high = reader.need("high", most=1.0, above=True)
    if high < low:
        raise DocumentError(reader.at("high"), f"{high:g} is below the low end, {low:g}")
    return AssumedDuty(low, high, _context(reader))


def _task(data: dict[str, Any], path: str) -> Task:
    reader = Reader(data, path, (*_COMMON, "wh", "minutes", "pieces", "runs"))
    return Task(
        wh=reader.need("wh", most=MOST_WH, above=True),
        minutes=reader.number("minutes", most=MOST_H * 60, above=True),
        pieces=reader.number("pieces", most=1_000_000, above=True),
        runs=int(reader.number("runs", least=1, most=10_000) or 1),
        context=_context(reader),
    )


def _short_run(data: dict[str, Any], path: str) -> ShortRun:
    reader = Reader(data, path, (*_COMMON, "watts", "seconds", "times_per_day"))
    run = ShortRun(
        watts=reader.need("watts", most=MOST_W, above=True),
        seconds=reader.need("seconds", most=MOST_H * 3600, above=True),
        times_per_day=reader.number("times_per_day", most=100_000, above=True),
        context=_context(reader),
    )
    if run.times_per_day and run.times_per_day * run.seconds > 86_400:
        raise DocumentError(
            reader.at("times_per_day"),
            f"{run.times_per_day:g} times {run.seconds:g} s is more than a day",
        )
    return run


def _charge_drop(data: dict[str, Any], path: str) -> ChargeDrop:
    keys = ("supply_wh", "from", "to", "hours", "idle_w", "efficiency", "step", "proven")
    reader = Reader(data, path, (*_COMMON, *keys))
    drop = ChargeDrop(
        supply_wh=reader.need("supply_wh", most=MOST_WH, above=True),
        start=reader.need("from", most=1.0),
        end=reader.need("to", most=1.0),
        hours=reader.need("hours", most=MOST_H, above=True),
        idle_w=reader.number("idle_w", most=10_000),
        efficiency=reader.number("efficiency", most=1.0, above=True),
        step=reader.number("step", most=0.5, above=True, default=0.01),
        proven=reader.flag("proven"),
        context=_context(reader),
    )
    if drop.end >= drop.start:
        raise DocumentError(
            reader.at("to"),
            f"{drop.end:g} is not below the charge at the start, {drop.start:g}",
        )
    return drop


def _recorded(data: dict[str, Any], path: str) -> Recorded:
    keys = (
        "pattern",
        "covered_h",
        "wh",
        "idle_w",
        "running_w",
        "cycle_mean_w",
        "duty",
        "duty_spread",
        "whole_cycles",
        "period_min",
        "start_peak_w",
        "power_factor",
        "rarer",
        "interval_s",
        "active_h",
        "high_w",
        "days",
        "day_spread",
    )
    if "file" in data:
        raise DocumentError(f"{path}.file", "a capture's file is read by the command that opens it")
    reader = Reader(data, path, (*_COMMON, *keys))
    if not isinstance(data.get("rarer", False), bool):
        raise DocumentError(reader.at("rarer"), "must be true or false")
    return Recorded(
        pattern=reader.choice("pattern", PATTERNS),
        covered_h=reader.need("covered_h", most=MOST_H, above=True),
        wh=reader.need("wh", most=MOST_WH),
        idle_w=reader.number("idle_w", most=MOST_W),
        running_w=reader.number("running_w", most=MOST_W),
        cycle_mean_w=reader.number("cycle_mean_w", most=MOST_W),
        duty=reader.number("duty", most=1.0),
        duty_spread=reader.number("duty_spread", most=2.0),
        whole_cycles=int(reader.number("whole_cycles", most=1_000_000) or 0),
        period_min=reader.number("period_min", most=MOST_H * 60, above=True),
        start_peak_w=reader.number("start_peak_w", most=MOST_W * 10),
        power_factor=reader.number("power_factor", most=1.0),
        rarer=bool(data.get("rarer", False)),
        interval_s=reader.number("interval_s", most=86_400, above=True) or 1.0,
        active_h=reader.number("active_h", most=MOST_H),
        high_w=reader.number("high_w", most=MOST_W * 10),
        days=int(reader.number("days", most=4000, default=0.0)),
        day_spread=reader.number("day_spread", most=5.0),
        context=_context(reader),
    )


#: Document type → its reader.
TYPES: dict[str, Callable[[dict[str, Any], str], Reading]] = {
    "label": _label,
    "spot": _spot,
    "start": _start,
    "energy": _energy,
    "tally": _tally,
    "duty": _assumed_duty,
    "task": _task,
    "short-run": _short_run,
    "charge-drop": _charge_drop,
    "capture": _recorded,
}


def parse(data: Any, path: str = "") -> Reading:
    """Parse one reading document.

    Parameters
    ----------
    data : dict
        As described under "load" in ``docs/formats.md``.
    path : str
        Path of the document, for messages.

    Raises
    ------
    DocumentError
        The message names the key, the fault, and what would be accepted.
    """
    if not isinstance(data, dict):
        raise DocumentError(path, "a reading must be an object with a type")
    kind = Reader({"type": data.get("type")}, path, ("type",)).choice("type", TYPES)
    return TYPES[kind](data, path)
