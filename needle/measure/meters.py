"""A person's own meters: their properties and calibration.

A meter's own figures replace those of its class (:mod:`needle.measure.instruments`). A comparison
with another meter on the same constant load gives its gain, whose spread replaces the stated
accuracy: both readings share the load's variation, so their ratio is a property of the meters (JCGM
100:2008, 4.2 and 5.2).
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from needle.document import DocumentError, Reader
from needle.estimate import spread_of_few
from needle.fields import Choice, Fields, Flag, Items, Number, Part, Rows, Text
from needle.measure.instruments import INSTRUMENTS, Instrument
from needle.measure.readings import MOST_A, MOST_W, Reading

#: What a meter may show.
QUANTITIES = ("volts", "amps", "watts", "va", "pf", "hz", "wh")
#: Scatter of one comparison of two meters before any was made (relative sd), and what it is worth.
PAIR_SPREAD, PAIR_WORTH = 0.005, 2
#: Two meters that differ by more are not compared on the same thing.
MOST_GAIN = 2.0
#: Figures of a reading that a gain scales.
_SCALED = (
    "watts",
    "amps",
    "va",
    "wh",
    "idle_w",
    "running_w",
    "cycle_mean_w",
    "start_peak_w",
    "high_w",
)


@dataclass(frozen=True)
class Calibration:
    """A meter's gain relative to another meter.

    Attributes
    ----------
    gain : float
        Ratio of shown to real value: 1.02 reads 2 % high.
    spread : float
        Relative sd of the gain, including the other meter's accuracy.
    pairs : int
        Number of comparisons.
    """

    gain: float
    spread: float
    pairs: int


def calibrate(
    pairs: Sequence[tuple[float, float]], mine: Instrument, other: Instrument
) -> Calibration:
    """Return a meter's gain from (its W, the other's W) on constant loads, shape (pairs, 2).

    Parameters
    ----------
    pairs : sequence of (float, float)
        W, each above zero.
    mine, other : Instrument
        Both meters, for their resolutions and the other's accuracy.

    Raises
    ------
    DocumentError
        There is no pair, or a pair cannot be of the same load.
    """
    if not pairs:
        raise DocumentError("pairs", "needs at least one: what both show at the same moment")
    for number, (own_w, other_w) in enumerate(pairs):
        if not 1 / MOST_GAIN < own_w / other_w < MOST_GAIN:
            raise DocumentError(
                f"pairs[{number}]",
                f"{own_w:g} W beside {other_w:g} W cannot be the same load at the same moment",
            )
    logs = [math.log(own_w / other_w) for own_w, other_w in pairs]
    middle = sum(logs) / len(logs)
    scatter = spread_of_few([log - middle for log in logs], PAIR_SPREAD, PAIR_WORTH)
    digits = max(_digit_sd(mine, own_w) + _digit_sd(other, other_w) for own_w, other_w in pairs)
    spread = math.sqrt(
        scatter**2 + digits**2 / len(pairs) + other.limit**2 / 3 + other.gain_spread**2
    )
    return Calibration(math.exp(middle), spread, len(pairs))


def _digit_sd(meter: Instrument, watts: float) -> float:
    """Relative sd of half a digit."""
    return meter.steps.get("watts", 0.0) / 2 / math.sqrt(3) / watts


def calibrated(meter: Instrument, calibration: Calibration) -> Instrument:
    """The meter with a known gain in place of its stated accuracy."""
    return replace(meter, gain=calibration.gain, gain_spread=calibration.spread, limit=0.0)


def parse_meters(items: Sequence[Any], path: str = "meters") -> dict[str, Instrument]:
    """Parse a list of meters (see ``docs/fields.md``), each possibly compared with an earlier one.

    Raises
    ------
    DocumentError
    """
    meters: dict[str, Instrument] = {}
    former: dict[str, Instrument] = {}
    for index, item in enumerate(items):
        where = f"{path}[{index}]"
        reader = Reader(item, where, METER_FIELDS)
        meter = _parse_meter(reader, meters)
        if meter.name in meters:
            raise DocumentError(f"{where}.name", f"“{meter.name}” is there already")
        meters[meter.name] = meter
        for old in reader.items("formerly"):
            former.setdefault(str(old)[:60], meter)
    # A name that is in use comes before one that was.
    return former | meters


METER_FIELDS: Fields = {
    "name": Text("what readings call it; needed", most=60),
    "kind": Choice("class of the instrument", choices=INSTRUMENTS),
    "limit": Number("stated accuracy", unit="share", most=0.5, otherwise="as its class"),
    "counts": Number("stated digits beside it", most=100, otherwise="as its class"),
    "steps": Part(
        "smallest step of each quantity, in its unit; others as its class",
        fields={quantity: Number(f"step of {quantity}", most=10_000) for quantity in QUANTITIES},
    ),
    "least_w": Number(
        "power below which it shows 0", unit="W", most=MOST_W, otherwise="as its class"
    ),
    "most_a": Number("highest current", unit="A", most=MOST_A, above=True),
    "shows": Items(
        "quantities it shows; of its class where empty",
        form='["watts", "wh", …]',
        most=len(QUANTITIES),
    ),
    "fast_inrush": Flag("whether it catches a start within a cycle", otherwise="as its class"),
    "logs": Flag("whether it records", otherwise="as its class"),
    "base_w": Number("its own consumption that it counts", unit="W", most=100, default=0.0),
    "pairs": Rows(
        "comparisons with another meter on one constant load",
        columns={
            "own": Number("what it shows", unit="W", most=MOST_W, above=True, needed=True),
            "other": Number("what the other shows", unit="W", most=MOST_W, above=True, needed=True),
        },
        most=200,
    ),
    "against": Text("the other meter, an earlier one; empty for a plug meter as it is", most=60),
    "formerly": Items("names that it had", form='["name", …]', most=20),
}


def _parse_meter(reader: Reader, known: Mapping[str, Instrument]) -> Instrument:
    kind = INSTRUMENTS[reader.choice("kind")]
    name = reader.text("name").strip()
    if not name:
        raise DocumentError(reader.at("name"), "is needed: readings name the meter")
    steps = reader.part("steps")
    own_steps = {
        quantity: steps.number(quantity)
        for quantity in QUANTITIES
        if steps is not None and steps.has(quantity)
    }
    shows = reader.items("shows") or kind.shows
    for quantity in shows:
        if quantity not in QUANTITIES:
            raise DocumentError(reader.at("shows"), f"“{quantity}” is none of {QUANTITIES}")
    meter = replace(
        kind,
        name=name,
        own=True,
        limit=reader.number("limit", kind.limit),
        counts=reader.number("counts", kind.counts),
        steps={**kind.steps, **own_steps},
        least_w=reader.number("least_w", kind.least_w),
        most_a=reader.number_or_none("most_a"),
        shows=tuple(shows),
        fast_inrush=reader.flag("fast_inrush", kind.fast_inrush),
        logs=reader.flag("logs", kind.logs),
        base_w=reader.number("base_w"),
        id=str(next(iter(reader.items("formerly")), name))[:60],
    )
    if not reader.has("pairs"):
        return meter
    against = reader.text("against")
    if against and against not in known:
        raise DocumentError(reader.at("against"), f"“{against}” is no meter before this one")
    other = known[against] if against else INSTRUMENTS["plug"]
    try:
        return calibrated(meter, calibrate(_parse_pairs(reader), meter, other))
    except DocumentError as error:
        raise error.under(reader.path) from None


def _parse_pairs(reader: Reader) -> list[tuple[float, float]]:
    return [(row.number("own"), row.number("other")) for row in reader.rows("pairs")]


def corrected(reading: Reading) -> Reading:
    """A reading corrected by its own meter's gain and consumption."""
    meter = reading.context.own
    if meter is None or (meter.gain == 1.0 and meter.base_w == 0.0):
        return reading
    fields: dict[str, Any] = {}
    for name in _SCALED:
        value = getattr(reading, name, None)
        if value is not None:
            fields[name] = max(0.0, value - _own_draw(reading, name, meter.base_w)) / meter.gain
    return replace(reading, **fields)


def _own_draw(reading: Reading, name: str, base_w: float) -> float:
    """The meter's own part of a figure: its W, or its Wh over the hours."""
    if name == "wh":
        hours = getattr(reading, "hours", None) or getattr(reading, "covered_h", None)
        return base_w * (hours or 0.0)
    return base_w if name in ("watts", "idle_w", "running_w", "cycle_mean_w", "high_w") else 0.0


def resolved(reading: Reading, meters: Mapping[str, Instrument]) -> Reading:
    """A reading with its meter looked up by name, and its figures corrected.

    An unknown name leaves the class of meter that the reading gives.
    """
    own = meters.get(reading.context.meter_name)
    if own is None:
        return reading
    return corrected(replace(reading, context=replace(reading.context, own=own)))


def beyond(reading: Reading, meter: Instrument) -> str:
    """Why a meter cannot have shown a reading; empty if it can."""
    amps = getattr(reading, "amps", None)
    if meter.most_a is not None and amps is not None and amps > meter.most_a:
        return f"{amps:g} A is more than “{meter.name}” carries: at most {meter.most_a:g} A"
    for quantity in QUANTITIES:
        if getattr(reading, quantity, None) is not None and quantity not in meter.shows:
            return f"“{meter.name}” does not show {quantity}: check which meter it was"
    return ""
