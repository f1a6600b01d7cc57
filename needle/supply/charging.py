"""Charge inputs and their limits."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from needle.document import DocumentError, Reader
from needle.fields import Fields, Number, Text
from needle.supply.battery import Battery
from needle.supply.outputs import VOLTS_NEEDED, limit_w


@dataclass(frozen=True)
class ChargeInput:
    """A charge input.

    Attributes
    ----------
    name : str
    max_w : float
        Limit of its W, or of its A at its own V, W; infinite if not stated.
    controller_a : float
        Charge controller's limit on the battery side, A; infinite if not stated.
    """

    name: str
    max_w: float
    controller_a: float = math.inf


INPUT_FIELDS: Fields = {
    "name": Text("its name", most=40, otherwise="“input 1”, …"),
    "max_w": Number("highest power", unit="W", most=1_000_000, above=True),
    "max_a": Number("highest current; needs `volts`", unit="A", most=10_000, above=True),
    "volts": Number("voltage of that current", unit="V", most=1500, above=True),
    "controller_a": Number(
        "charge controller's limit on the battery side", unit="A", most=10_000, above=True
    ),
}


def parse_inputs(items: list[Any], path: str) -> tuple[ChargeInput, ...]:
    """Parse a supply document's inputs.

    Raises
    ------
    DocumentError
    """
    inputs: list[ChargeInput] = []
    for index, item in enumerate(items):
        reader = Reader(item, f"{path}[{index}]", INPUT_FIELDS)
        volts, amps = reader.number_or_none("volts"), reader.number_or_none("max_a")
        if amps is not None and volts is None:
            raise DocumentError(reader.at("volts"), VOLTS_NEEDED)
        inputs.append(
            ChargeInput(
                name=reader.text("name") or f"input {index + 1}",
                max_w=limit_w(reader.number_or_none("max_w"), amps, volts),
                controller_a=reader.number("controller_a", math.inf),
            )
        )
    return tuple(inputs)


def input_limit_w(entry: ChargeInput, battery: Battery) -> float:
    """Power at which the input can charge this battery, W.

    The lower of its own limit and controller A × battery V: a controller with a current limit
    charges a 12 V battery at half the power of a 24 V one.
    """
    if battery.volts is None:
        return entry.max_w
    return min(entry.max_w, entry.controller_a * battery.volts)
