"""DC and USB outputs: idle draw, losses and limits."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from needle.document import DocumentError, Reader
from needle.estimate import STATED_SHARE_SPREAD, STATED_SPREAD, Estimate, from_limits
from needle.fields import Choice, Fields, Flag, Number, Text
from needle.message import message
from needle.quantity import MOST_DC_V

#: How a figure is known that somebody states.
_GIVEN = (message("as-given"),)


@dataclass(frozen=True)
class OutputKind:
    """A kind of output: its usual efficiency, and idle draw in W.

    General values, used until tested. An output directly on the terminals has no losses.
    """

    key: str
    name: str
    efficiency: Estimate
    idle_w: Estimate


OUTPUT_KINDS = {
    kind.key: kind
    for kind in (
        OutputKind(
            "dc",
            "DC output",
            from_limits(0.80, 0.88, 0.95, message("outputs-usual")),
            from_limits(0.3, 1.0, 3.0, message("dc-idle-usual")),
        ),
        OutputKind(
            "usb",
            "USB output",
            from_limits(0.78, 0.86, 0.93, message("usb-usual")),
            from_limits(0.05, 0.2, 0.7, message("usb-idle-usual")),
        ),
        OutputKind(
            "converter",
            "DC converter, such as 12 to 24 V",
            from_limits(0.82, 0.90, 0.95, message("converters-usual")),
            from_limits(0.2, 0.6, 2.0, message("converter-idle-usual")),
        ),
        OutputKind(
            "terminals",
            "straight on the battery's terminals",
            from_limits(0.96, 0.98, 0.995, message("only-wire")),
            Estimate(0.0, 0.0, "A", (message("nothing-between"),)),
        ),
    )
}


@dataclass(frozen=True)
class Output:
    """A DC or USB output.

    Attributes
    ----------
    name : str
        Name, which loads use as their route.
    max_w : float
        Limit, W; infinite if not stated.
    idle_w : Estimate
        Idle draw at the battery with the output on and nothing plugged in, W.
    efficiency : Estimate
        Marginal efficiency: additional W out over additional W from the battery.
    volts : float or None
        Output voltage, V.
    off_unused : bool
        Whether it is switched off if no load is connected to it.
    off_when_idle : bool
        Whether it switches itself off in minutes in which no load draws power.
    kind : str
        Key of :data:`OUTPUT_KINDS`.
    id : str
        Seed of its random streams, so that renaming it changes no draw; empty: its name.
    """

    name: str
    max_w: float
    idle_w: Estimate
    efficiency: Estimate
    volts: float | None = None
    off_unused: bool = False
    off_when_idle: bool = False
    kind: str = "dc"
    id: str = ""


OUTPUT_FIELDS: Fields = {
    "name": Text("its name, such as dc12; needed", most=40),
    "max_w": Number("highest power", unit="W", most=1_000_000, above=True),
    "max_a": Number("highest current; needs `volts`", unit="A", most=10_000, above=True),
    "volts": Number("voltage", unit="V", most=1500, above=True),
    "idle_w": Number(
        "its own consumption", unit="W", most=1000, otherwise="wide general values of its kind"
    ),
    "idle_spread": Number("relative spread of it", most=2.0, default=STATED_SPREAD),
    "efficiency": Number(
        "share passed on",
        unit="share",
        least=0.3,
        most=1.0,
        otherwise="wide general values of its kind",
    ),
    "efficiency_spread": Number("relative spread of it", most=0.5, default=STATED_SHARE_SPREAD),
    "off_unused": Flag("whether it is off in a plan that has no load on it"),
    "off_when_idle": Flag("whether it switches itself off while nothing draws"),
    "kind": Choice("kind of output", choices=OUTPUT_KINDS, default="dc"),
    "id": Text("what its draws hang on", most=40, otherwise="its name"),
}


#: DC loads take what lies so close to their volts: a 12 V light runs from 11 to 14 V.
SAME_DC_VOLTS = 0.25


def fits_dc(load_v: float | None, kind: str, given_v: float | None) -> bool:
    """Whether a load takes the volts of an output of a kind; also if either is unknown.

    The rated volts of a load with an AC adapter say nothing on DC; a USB output gives what it is
    asked for.
    """
    if load_v is None or load_v > MOST_DC_V or given_v is None or kind == "usb":
        return True
    return abs(load_v / given_v - 1) <= SAME_DC_VOLTS


#: Volts that a USB output gives: fixed supplies of USB Power Delivery 3.1.
USB_V = (5.0, 9.0, 15.0, 20.0)


def on_usb(load_v: float | None) -> bool:
    """Whether a DC load of these volts is one for a USB output; also if they are unknown.

    What wants 12 V or 24 V comes with bare wires or a plug of its own.
    """
    return load_v is None or any(abs(load_v / volts - 1) <= 0.1 for volts in USB_V)


#: Amps without volts limit no watts.
VOLTS_NEEDED = "is needed beside the highest amps: together they are its watts"


def limit_w(max_w: float | None, max_a: float | None, volts: float | None) -> float:
    """The lower of a limit in W and one in A at the given V; infinite if neither is stated."""
    by_amps = max_a * volts if max_a is not None and volts is not None else math.inf
    return min(math.inf if max_w is None else max_w, by_amps)


def parse_outputs(
    items: list[Any], path: str, battery_v: float | None = None
) -> tuple[Output, ...]:
    """Parse a supply document's outputs; bare terminals have the battery's volts.

    Raises
    ------
    DocumentError
    """
    outputs: list[Output] = []
    for index, item in enumerate(items):
        reader = Reader(item, f"{path}[{index}]", OUTPUT_FIELDS)
        name = reader.text("name")
        if not name or name == "ac":
            raise DocumentError(
                reader.at("name"), "needs a name such as dc12; “ac” is the inverter"
            )
        if any(output.name == name for output in outputs):
            raise DocumentError(reader.at("name"), f"two outputs are called “{name}”")
        outputs.append(_output(reader, name, battery_v))
    return tuple(outputs)


def _output(reader: Reader, name: str, battery_v: float | None) -> Output:
    volts, amps = reader.number_or_none("volts"), reader.number_or_none("max_a")
    kind = OUTPUT_KINDS[reader.choice("kind")]
    if volts is None and kind.key == "terminals":
        volts = battery_v
    if amps is not None and volts is None:
        raise DocumentError(reader.at("volts"), VOLTS_NEEDED)
    idle, efficiency = reader.number_or_none("idle_w"), reader.number_or_none("efficiency")
    return Output(
        name=name,
        max_w=limit_w(reader.number_or_none("max_w"), amps, volts),
        idle_w=kind.idle_w
        if idle is None
        else Estimate(idle, reader.number("idle_spread"), "B", _GIVEN),
        efficiency=kind.efficiency
        if efficiency is None
        else Estimate(efficiency, reader.number("efficiency_spread"), "B", _GIVEN, 1.0),
        volts=volts,
        off_unused=reader.flag("off_unused"),
        off_when_idle=reader.flag("off_when_idle"),
        kind=kind.key,
        id=reader.text("id"),
    )
