"""DC and USB outputs: idle draw, losses and limits."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from needle.document import DocumentError, Reader
from needle.estimate import STATED_SHARE_SPREAD, STATED_SPREAD, Estimate, from_limits


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
            from_limits(0.80, 0.88, 0.95, "usual for DC and USB outputs; not tested yet"),
            from_limits(0.3, 1.0, 3.0, "usual for a DC output; no idle test yet"),
        ),
        OutputKind(
            "usb",
            "USB output",
            from_limits(0.78, 0.86, 0.93, "usual for USB outputs; not tested yet"),
            from_limits(0.05, 0.2, 0.7, "usual for a USB output; no idle test yet"),
        ),
        OutputKind(
            "converter",
            "DC converter, such as 12 to 24 V",
            from_limits(0.82, 0.90, 0.95, "usual for DC converters; not tested yet"),
            from_limits(0.2, 0.6, 2.0, "usual for a DC converter; no idle test yet"),
        ),
        OutputKind(
            "terminals",
            "straight on the battery's terminals",
            from_limits(0.96, 0.98, 0.995, "only wire and fuse between"),
            Estimate(0.0, 0.0, "A", ("nothing between that draws",)),
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


_KEYS = (
    "name",
    "max_w",
    "max_a",
    "volts",
    "idle_w",
    "idle_spread",
    "efficiency",
    "efficiency_spread",
    "off_unused",
    "off_when_idle",
    "kind",
    "id",
)


def limit_w(max_w: float | None, max_a: float | None, volts: float | None) -> float:
    """The lower of a limit in W and one in A at the given V; infinite if neither is stated."""
    by_amps = max_a * volts if max_a is not None and volts is not None else math.inf
    return min(math.inf if max_w is None else max_w, by_amps)


def parse_outputs(items: list[Any], path: str) -> tuple[Output, ...]:
    """Parse a supply document's outputs.

    Raises
    ------
    DocumentError
    """
    outputs: list[Output] = []
    for index, item in enumerate(items):
        reader = Reader(item, f"{path}[{index}]", _KEYS)
        name = reader.text("name", most=40)
        if not name or name == "ac":
            raise DocumentError(
                reader.at("name"), "needs a name such as dc12; “ac” is the inverter"
            )
        if any(output.name == name for output in outputs):
            raise DocumentError(reader.at("name"), f"two outputs are called “{name}”")
        outputs.append(_output(reader, name))
    return tuple(outputs)


def _output(reader: Reader, name: str) -> Output:
    volts = reader.number("volts", most=1500, above=True)
    amps = reader.number("max_a", most=10_000, above=True)
    if amps is not None and volts is None:
        raise DocumentError(reader.at("volts"), "is needed beside max_a")
    kind = OUTPUT_KINDS[reader.choice("kind", OUTPUT_KINDS, "dc")]
    idle, efficiency = reader.number("idle_w", most=1000), reader.number("efficiency", 0.3, 1.0)
    return Output(
        name=name,
        max_w=limit_w(reader.number("max_w", most=1_000_000, above=True), amps, volts),
        idle_w=kind.idle_w
        if idle is None
        else Estimate(
            idle, reader.number("idle_spread", most=2.0, default=STATED_SPREAD), "B", ("as given",)
        ),
        efficiency=kind.efficiency
        if efficiency is None
        else Estimate(
            efficiency,
            reader.number("efficiency_spread", most=0.5, default=STATED_SHARE_SPREAD),
            "B",
            ("as given",),
            1.0,
        ),
        volts=volts,
        off_unused=reader.flag("off_unused"),
        off_when_idle=reader.flag("off_when_idle"),
        kind=kind.key,
        id=reader.text("id", most=40),
    )
