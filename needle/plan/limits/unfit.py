"""Loads that cannot run on their route at all: AC without an inverter, or other volts."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from needle.decide.starting import fits_volts
from needle.plan.draws.patterns import Pattern
from needle.plan.load import AC, PlanLoad
from needle.plan.plan import Plan
from needle.supply.outputs import fits_dc


class Unfit(NamedTuple):
    """Why a load cannot run on its route at all: what it asks for, and what it is given."""

    why: str
    unit: str
    asks: float
    given: float


def _unfit(plan: Plan, load: PlanLoad) -> Unfit | None:
    """Whether a load wants AC of a supply without an inverter, or other volts than it is given."""
    inverter = plan.supply.inverter
    if load.route == AC and inverter is None:
        return Unfit("no-ac", "W", load.most_w, 0.0)
    given_v, wants_v = _unfit_v(plan, load), load.draw.volts
    return None if given_v is None or wants_v is None else Unfit("volts", "V", wants_v, given_v)


def _unfit_v(plan: Plan, load: PlanLoad) -> float | None:
    """Voltage that a load is supplied with but does not accept; None if it fits or is unknown."""
    inverter = plan.supply.inverter
    if load.route == AC and inverter is not None:
        return None if fits_volts(load.draw.volts, inverter) else inverter.volts
    outputs = {output.name: output for output in plan.supply.outputs}
    output = outputs[load.route]
    given_v = plan.supply.battery.volts if output.kind == "terminals" else output.volts
    return None if fits_dc(load.draw.volts, output.kind, given_v) else given_v


def unfit_patterns(plan: Plan, patterns: Sequence[Pattern]) -> dict[int, Unfit]:
    """Patterns that cannot run on their route, by their numbers."""
    found = {n: _unfit(plan, pattern.load) for n, pattern in enumerate(patterns)}
    return {n: unfit for n, unfit in found.items() if unfit is not None}
