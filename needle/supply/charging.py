"""What a charge input lets in, and how a battery takes it towards full."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from needle.document import DocumentError, Reader
from needle.supply.battery import Battery
from needle.supply.outputs import limit_w


@dataclass(frozen=True)
class ChargeInput:
    """A charge input.

    Attributes
    ----------
    name : str
    max_w : float
        By its own W, or A at its own V; infinite where not stated.
    controller_a : float
        A that the charge controller gives the battery; infinite where not stated.
    """

    name: str
    max_w: float
    controller_a: float = math.inf


_KEYS = ("name", "max_w", "max_a", "volts", "controller_a")


def parse_inputs(items: list[Any], path: str) -> tuple[ChargeInput, ...]:
    """Read a supply document's inputs.

    Raises
    ------
    DocumentError
    """
    inputs: list[ChargeInput] = []
    for index, item in enumerate(items):
        reader = Reader(item, f"{path}[{index}]", _KEYS)
        volts = reader.number("volts", most=1500, above=True)
        amps = reader.number("max_a", most=10_000, above=True)
        if amps is not None and volts is None:
            raise DocumentError(reader.at("volts"), "is needed beside max_a")
        controller = reader.number("controller_a", most=10_000, above=True)
        inputs.append(
            ChargeInput(
                name=reader.text("name", most=40) or f"input {index + 1}",
                max_w=limit_w(reader.number("max_w", most=1_000_000, above=True), amps, volts),
                controller_a=math.inf if controller is None else controller,
            )
        )
    return tuple(inputs)


def input_limit_w(entry: ChargeInput, battery: Battery) -> float:
    """W that the input can put into this battery: its own limit and controller A × battery V.

    A controller's amps make a 12 V battery take half of what a 24 V one does.
    """
    if battery.volts is None:
        return entry.max_w
    return min(entry.max_w, entry.controller_a * battery.volts)
