"""Readings as they were made, from an instrument or a label.

Each type of reading is a frozen dataclass, parsed from the open document. The bounds are wide, but
refuse what no appliance on a battery does (a gigawatt kettle).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import lru_cache
from itertools import pairwise
from typing import Any

from needle.document import DocumentError, Reader, kind_of
from needle.fields import Choice, Fields, Flag, Items, Number, Parts, Text
from needle.measure.agreement import Agreement, agree
from needle.measure.instruments import INSTRUMENTS, Instrument, get
from needle.moments import parse_moment

MOST_W = 100_000.0
MOST_V = 1_000.0
MOST_A = 2_000.0
MOST_WH = 10_000_000.0
MOST_H = 24 * 366 * 5.0


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
        return _agreement(self)


@lru_cache(maxsize=4096)
def _agreement(spot: Spot) -> Agreement:
    """A reading checked against itself; kept, as every page that lists it asks."""
    return agree(
        {
            key: value
            for key in ("volts", "amps", "watts", "va", "pf")
            if (value := getattr(spot, key)) is not None
        },
        spot.context.meter(),
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
class ProgrammeStep:
    """One step of a task: its highest W, minutes, and the share that reproduces its mean W."""

    watts: float
    minutes: float
    duty: float

    @property
    def wh(self) -> float:
        """Energy, Wh."""
        return self.watts * self.duty * self.minutes / 60


@dataclass(frozen=True)
class Recorded:
    """The analysis of a capture, see :class:`needle.measure.analysis.Analysis`.

    ``active_h`` is from its first leaving of rest to its last return. ``rarer`` is whether there
    are states besides the main cycle (a defrost); ``interval_s`` is the logger's. ``high_w`` is a
    high percentile of the power; ``days`` complete days have means with the sd ``day_spread``.
    ``uses`` is how often it left rest, ``steps`` are those of a task with a programme.
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
    uses: int | None = None
    steps: tuple[ProgrammeStep, ...] = ()
    context: Context = Context()


Reading = (
    Label | Spot | Start | EnergyRun | Tally | AssumedDuty | Task | ShortRun | ChargeDrop | Recorded
)
PATTERNS = ("steady", "cycling", "modulating", "program")


#: Fields of every reading.
COMMON_FIELDS: Fields = {
    "type": Text("what kind of reading it is"),
    "setting": Text("setting that the appliance was at", most=60),
    "instrument": Choice(
        "class of the instrument", choices=("", *INSTRUMENTS), default="", otherwise="a plug meter"
    ),
    "meter": Text("name of one of the document's `meters`", most=60),
    "room_c": Number("room temperature", unit="°C", least=-60, most=80),
    "note": Text("remark; not used", most=10_000),
    "at": Text("day or moment it was made, ISO 8601", most=40),
}


def _context(reader: Reader, instrument: str = "") -> Context:
    return Context(
        reader.text("setting"),
        reader.choice("instrument", default=instrument),
        reader.number_or_none("room_c"),
        reader.text("meter"),
        at=_made_at(reader),
    )


def _made_at(reader: Reader) -> datetime | None:
    """The day or time of the reading."""
    text = reader.text("at")
    if not text:
        return None
    moment = parse_moment(
        text if "T" in text or " " in text else f"{text}T00:00", reader.at("at"), UTC
    )
    return moment if isinstance(moment, datetime) else None


_LABEL_FIELDS: Fields = {
    "watts": Number("rated power", unit="W", most=MOST_W, above=True),
    "volts": Number("rated voltage", unit="V", most=MOST_V, above=True),
    "amps": Number("rated current", unit="A", most=MOST_A, above=True),
    "va": Number("rated apparent power", unit="VA", most=MOST_W, above=True),
    "kwh_per_year": Number("energy label", unit="kWh a year", most=100_000, above=True),
    "horsepower": Number("power at the shaft", unit="hp", most=100, above=True),
    "breaker_a": Number("breaker: a bound for minutes", unit="A", most=MOST_A, above=True),
}


def _label(reader: Reader) -> Label:
    if not any(reader.has(key) for key in _LABEL_FIELDS if key != "volts"):
        raise DocumentError(
            reader.path,
            "a label reading needs watts, VA, amps, kWh a year, horsepower or the breaker",
        )
    figures = {key: reader.number_or_none(key) for key in _LABEL_FIELDS}
    return Label(**figures, context=_context(reader))


_SPOT_FIELDS: Fields = {
    "state": Text("state it was in", default="running", most=40),
    "watts": Number("power", unit="W", most=MOST_W),
    "volts": Number("voltage", unit="V", most=MOST_V, above=True),
    "amps": Number("current", unit="A", most=MOST_A),
    "va": Number("apparent power", unit="VA", most=MOST_W),
    "pf": Number("power factor", most=1.0),
    "hz": Number("frequency", unit="Hz", most=500, above=True),
}


def _spot(reader: Reader) -> Spot:
    figures = {key: reader.number_or_none(key) for key in _SPOT_FIELDS if key != "state"}
    state = reader.text("state").strip().casefold() or "running"
    spot = Spot(state, **figures, context=_context(reader))
    if spot.watts is None and spot.va is None and spot.amps is None:
        raise DocumentError(reader.path, "a spot reading needs watts, VA, or amps")
    return spot


_START_FIELDS: Fields = {
    "amps": Number("highest current", unit="A", most=MOST_A, above=True),
    "volts": Number("voltage at that moment", unit="V", most=MOST_V, above=True),
    "va": Number("highest apparent power", unit="VA", most=MOST_W * 10, above=True),
    "watts": Number("highest power", unit="W", most=MOST_W * 10, above=True),
    "seconds": Number("length of the surge", unit="s", most=60, above=True),
}


def _start(reader: Reader) -> Start:
    if not any(reader.has(key) for key in ("amps", "va", "watts")):
        raise DocumentError(reader.path, "a start reading needs amps, VA or watts")
    figures = {key: reader.number_or_none(key) for key in _START_FIELDS}
    return Start(**figures, context=_context(reader))


#: Instruments that sit in a DC line: what they count was drawn there.
DC_INSTRUMENTS = ("shunt", "usb")

_ENERGY_FIELDS: Fields = {
    "wh": Number("energy counted", unit="Wh", most=MOST_WH, needed=True),
    "hours": Number("time it was counted", unit="h", most=MOST_H, above=True, needed=True),
    "step_wh": Number("smallest step of the counter", unit="Wh", most=10_000, default=10.0),
    "counted": Choice(
        "where: at the plug, or at a DC output",
        choices=("ac", "dc"),
        default="ac",
        otherwise="dc for a shunt and a USB meter, else ac",
    ),
}


def _energy(reader: Reader) -> EnergyRun:
    by_dc = reader.data.get("instrument") in DC_INSTRUMENTS
    counted = reader.choice("counted", default="dc" if by_dc else "ac")
    run = EnergyRun(
        wh=reader.number("wh"),
        hours=reader.number("hours"),
        step_wh=reader.number("step_wh"),
        counted=counted,
        context=_context(reader, "usb" if counted == "dc" else ""),
    )
    if run.wh / run.hours > MOST_W:
        raise DocumentError(
            reader.at("wh"),
            f"{run.wh:g} Wh in {run.hours:g} h is {run.wh / run.hours:g} W: check both",
        )
    return run


_TALLY_FIELDS: Fields = {
    "edges": Items(
        "moments of switching, in seconds from any start, in any order",
        form='[["on", 0], ["off", 410], …]',
    ),
}
_SECONDS = Number("seconds", unit="s", most=MOST_H * 3600, needed=True)


def _tally(reader: Reader) -> Tally:
    edges: list[tuple[str, float]] = []
    for number, item in enumerate(reader.items("edges")):
        where = f"{reader.at('edges')}[{number}]"
        if not isinstance(item, list | tuple) or len(item) != 2 or item[0] not in ("on", "off"):
            raise DocumentError(where, 'must be ["on", seconds] or ["off", seconds]')
        seconds = Reader({"s": item[1]}, where, {"s": _SECONDS}).number("s")
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


_DUTY_FIELDS: Fields = {
    "low": Number("least share of time that it runs", unit="share", most=1.0, above=True),
    "high": Number("highest share of time that it runs", unit="share", most=1.0, above=True),
    "feel": Choice(
        "the share in words, in place of `low` and `high`", choices=FEELS, otherwise="as `low` says"
    ),
}


def _assumed_duty(reader: Reader) -> AssumedDuty:
    if reader.has("feel"):
        if reader.has("low") or reader.has("high"):
            raise DocumentError(reader.at("feel"), "says the share already: leave low and high out")
        return AssumedDuty(*FEELS[reader.choice("feel")], _context(reader))
    low, high = reader.number("low"), reader.number("high")
    if high < low:
        raise DocumentError(reader.at("high"), f"{high:g} is below the low end, {low:g}")
    return AssumedDuty(low, high, _context(reader))


_TASK_FIELDS: Fields = {
    "wh": Number("energy of all runs together", unit="Wh", most=MOST_WH, above=True, needed=True),
    "minutes": Number("time of all runs together", unit="min", most=MOST_H * 60, above=True),
    "pieces": Number("pieces served (cups, loaves)", most=1_000_000, above=True),
    "runs": Number("tasks that the figure covers", least=1, most=10_000, default=1, whole=True),
}


def _task(reader: Reader) -> Task:
    return Task(
        wh=reader.number("wh"),
        minutes=reader.number_or_none("minutes"),
        pieces=reader.number_or_none("pieces"),
        runs=reader.whole("runs"),
        context=_context(reader),
    )


_SHORT_RUN_FIELDS: Fields = {
    "watts": Number("power while it runs", unit="W", most=MOST_W, above=True, needed=True),
    "seconds": Number("length of one use", unit="s", most=MOST_H * 3600, above=True, needed=True),
    "times_per_day": Number("how often a day", most=100_000, above=True),
}


def _short_run(reader: Reader) -> ShortRun:
    run = ShortRun(
        watts=reader.number("watts"),
        seconds=reader.number("seconds"),
        times_per_day=reader.number_or_none("times_per_day"),
        context=_context(reader),
    )
    if run.times_per_day and run.times_per_day * run.seconds > 86_400:
        raise DocumentError(
            reader.at("times_per_day"),
            f"{run.times_per_day:g} times {run.seconds:g} s is more than a day",
        )
    return run


_CHARGE_DROP_FIELDS: Fields = {
    "supply_wh": Number(
        "energy of the full supply", unit="Wh", most=MOST_WH, above=True, needed=True
    ),
    "from": Number("charge at the start", unit="share", most=1.0, needed=True),
    "to": Number("charge at the end", unit="share", most=1.0, needed=True),
    "hours": Number("time between", unit="h", most=MOST_H, above=True, needed=True),
    "idle_w": Number(
        "supply's own consumption", unit="W", most=10_000, otherwise="wide general values"
    ),
    "efficiency": Number(
        "share of the battery's Wh that reach the load",
        unit="share",
        most=1.0,
        above=True,
        otherwise="wide general values",
    ),
    "step": Number(
        "smallest step of the display", unit="share", most=0.5, above=True, default=0.01
    ),
    "proven": Flag("whether `supply_wh` was measured rather than printed on a label"),
}


def _charge_drop(reader: Reader) -> ChargeDrop:
    drop = ChargeDrop(
        supply_wh=reader.number("supply_wh"),
        start=reader.number("from"),
        end=reader.number("to"),
        hours=reader.number("hours"),
        idle_w=reader.number_or_none("idle_w"),
        efficiency=reader.number_or_none("efficiency"),
        step=reader.number("step"),
        proven=reader.flag("proven"),
        context=_context(reader),
    )
    if drop.end >= drop.start:
        raise DocumentError(
            reader.at("to"),
            f"{drop.end:g} is not below the charge at the start, {drop.start:g}",
        )
    return drop


_CAPTURE_FIELDS: Fields = {
    "file": Text("a capture beside the document; the other figures are then computed from it"),
    "pattern": Choice("shape of its power over time", choices=PATTERNS),
    "covered_h": Number("time covered", unit="h", most=MOST_H, above=True, needed=True),
    "wh": Number("energy", unit="Wh", most=MOST_WH, needed=True),
    "idle_w": Number("power at rest", unit="W", most=MOST_W),
    "running_w": Number("power while running", unit="W", most=MOST_W),
    "cycle_mean_w": Number("mean over complete cycles", unit="W", most=MOST_W),
    "duty": Number("share of time running", unit="share", most=1.0),
    "duty_spread": Number("relative spread of the duty between cycles", most=2.0),
    "whole_cycles": Number("complete cycles", most=1_000_000, default=0, whole=True),
    "period_min": Number("length of a cycle", unit="min", most=MOST_H * 60, above=True),
    "start_peak_w": Number("highest power at a start", unit="W", most=MOST_W * 10),
    "power_factor": Number("power factor while running", most=1.0),
    "rarer": Flag("whether there are states besides the main cycle, such as a defrost"),
    "interval_s": Number("time between samples", unit="s", most=86_400, above=True, default=1.0),
    "active_h": Number("from its first start to its last end", unit="h", most=MOST_H),
    "high_w": Number("a high percentile of its power", unit="W", most=MOST_W * 10),
    "days": Number("complete days", most=4000, default=0, whole=True),
    "day_spread": Number("relative spread of the means of those days", most=5.0),
    "uses": Number(
        "how often it left rest", most=1_000_000, whole=True, otherwise="its complete cycles"
    ),
    "steps": Parts(
        "steps of its task, where it has a programme",
        fields={
            "watts": Number("highest power", unit="W", most=MOST_W * 10, needed=True),
            "minutes": Number("length", unit="min", most=MOST_H, above=True, needed=True),
            "duty": Number("share of that power in its mean", unit="share", most=1.0, default=1.0),
        },
        most=50,
    ),
}
_RECORDED_FIGURES = (
    "idle_w",
    "running_w",
    "cycle_mean_w",
    "duty",
    "duty_spread",
    "period_min",
    "start_peak_w",
    "power_factor",
    "active_h",
    "high_w",
    "day_spread",
)


def _recorded(reader: Reader) -> Recorded:
    if reader.has("file"):
        raise DocumentError(
            reader.at("file"), "a capture's file is read by the command that opens it"
        )
    return Recorded(
        pattern=reader.choice("pattern"),
        covered_h=reader.number("covered_h"),
        wh=reader.number("wh"),
        whole_cycles=reader.whole("whole_cycles"),
        rarer=reader.flag("rarer"),
        interval_s=reader.number("interval_s"),
        days=reader.whole("days"),
        uses=reader.whole("uses") if reader.has("uses") else None,
        steps=tuple(
            ProgrammeStep(part.number("watts"), part.number("minutes"), part.number("duty"))
            for part in reader.parts("steps")
        ),
        context=_context(reader),
        **{key: reader.number_or_none(key) for key in _RECORDED_FIGURES},
    )


@dataclass(frozen=True)
class ReadingType:
    """A type of reading: its title, its fields beside the common ones, and what reads them."""

    title: str
    fields: Fields
    read: Callable[[Reader], Reading]


#: Types of readings as documents name them, the most usual first.
TYPES = {
    "spot": ReadingType("watts now", _SPOT_FIELDS, _spot),
    "energy": ReadingType("kWh over time", _ENERGY_FIELDS, _energy),
    "start": ReadingType("start-up surge", _START_FIELDS, _start),
    "task": ReadingType("one use", _TASK_FIELDS, _task),
    "tally": ReadingType("on and off times", _TALLY_FIELDS, _tally),
    "short-run": ReadingType("short run", _SHORT_RUN_FIELDS, _short_run),
    "duty": ReadingType("share of time on", _DUTY_FIELDS, _assumed_duty),
    "charge-drop": ReadingType("battery % used", _CHARGE_DROP_FIELDS, _charge_drop),
    "capture": ReadingType("capture", _CAPTURE_FIELDS, _recorded),
    "label": ReadingType("label", _LABEL_FIELDS, _label),
}


def parse(data: Any, path: str = "") -> Reading:
    """Parse one reading document.

    Parameters
    ----------
    data : dict
        As described in ``docs/fields.md``.
    path : str
        Path of the document, for messages.

    Raises
    ------
    DocumentError
        The message names the key, the fault, and what would be accepted.
    """
    kind = TYPES[kind_of(data, path, "type", TYPES)]
    return kind.read(Reader(data, path, {**COMMON_FIELDS, **kind.fields}))
