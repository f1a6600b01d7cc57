"""What a supply's card shows: the staircase and what its figures rest on."""

from __future__ import annotations

from dataclasses import dataclass

from django.utils.safestring import SafeString

from needle.quantity import with_unit
from needle.supply.inverter import percentage
from needle.supply.supply import Step
from needle.supply.supply import Supply as CoreSupply
from needle.supply.supply import staircase as core_staircase
from web.drawing.bars import staircase as draw
from web.supplies.models import Supply

#: Hours the idle draw is shown for, until a plan says how many are needed.
USUAL_HOURS = 24.0
EXAMPLE_W = 33.0


@dataclass(frozen=True)
class Card:
    """One supply as its place shows it."""

    supply: Supply
    core: CoreSupply
    steps: list[Step]
    drawing: SafeString
    hours: float
    percentages: list[tuple[float, float]]


def card_of(supply: Supply, hours: float = USUAL_HOURS, mean_ac_w: float | None = None) -> Card:
    """Work out a supply's staircase over so many hours."""
    core = supply.to_core()
    steps = core_staircase(core, hours, mean_ac_w)
    bars = [
        (one.name, one.left_wh.low, one.left_wh.value, one.left_wh.high,
         with_unit(one.left_wh.value, "Wh"))
        for one in steps
    ]  # fmt: skip
    inverter = core.inverter
    shares = []
    if inverter is not None:
        at = (EXAMPLE_W, inverter.continuous_w * 0.1, inverter.continuous_w * 0.5)
        shares = [
            (watts, percentage(watts, inverter.idle_w.value, inverter.efficiency.value))
            for watts in sorted(set(at))
        ]
    title = f"From the label of {supply.name} to what reaches the loads"
    return Card(supply, core, steps, draw(bars, title), hours, shares)
