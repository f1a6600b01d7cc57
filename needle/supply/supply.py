"""A supply: battery and inverter together. Positive power is power out of the battery."""

from __future__ import annotations

from dataclasses import dataclass

from needle.document import Reader
from needle.estimate import Estimate
from needle.supply.battery import Battery, parse_battery
from needle.supply.inverter import Inverter, parse_inverter


@dataclass(frozen=True)
class Supply:
    """What feeds the loads; without an inverter it has no AC route."""

    battery: Battery
    inverter: Inverter | None = None
    name: str = "supply"


@dataclass(frozen=True)
class Step:
    """One step of the staircase: what is left (Estimate, Wh) and why it is less."""

    name: str
    left_wh: Estimate
    why: str


def staircase(supply: Supply, hours: float, mean_ac_w: float | None = None) -> list[Step]:
    """From the label to what reaches the loads.

    Parameters
    ----------
    supply : Supply
    hours : float
        How long the inverter is on, h: its idle draw is paid for all of them.
    mean_ac_w : float or None
        Mean AC W of the loads; the hours are cut to what the battery lasts with it.

    Returns
    -------
    list of Step
        Label, measured, above the floor, after idle, after conversion. Wh at the battery, the
        last at the loads.
    """
    battery, inverter = supply.battery, supply.inverter
    label = Estimate(battery.nominal_wh, 0.0, "C", ("label",))
    real = battery.capacity_factor.scaled(battery.nominal_wh)
    floored = real.scaled(max(0.0, battery.start_charge - battery.floor))
    steps = [
        Step("label", label, "volts times amp-hours, as printed"),
        Step("really holds", real, battery.capacity_factor.how[0]),
        Step("above the floor", floored, f"the last {battery.floor * 100:.0f} % is left in it"),
    ]
    if inverter is None:
        return steps
    on_h = hours
    if mean_ac_w is not None:
        drawn = inverter.idle_w.value + mean_ac_w / inverter.efficiency.value
        on_h = min(hours, floored.value / drawn) if drawn > 0 else hours
    idle_wh = inverter.idle_w.scaled(on_h)
    left = max(0.0, floored.value - idle_wh.value)
    absolute = (
        (floored.value * floored.spread) ** 2 + (idle_wh.value * idle_wh.spread) ** 2
    ) ** 0.5
    spread = absolute / left if left > 0 else 0.0
    after_idle = Estimate(left, spread, max(floored.grade, idle_wh.grade), idle_wh.how)
    reaching = Estimate(
        left * inverter.efficiency.value,
        (spread**2 + inverter.efficiency.spread**2) ** 0.5,
        max(after_idle.grade, inverter.efficiency.grade),
        inverter.efficiency.how,
    )
    share = inverter.efficiency.value * 100
    steps += [
        Step("after idle", after_idle, f"{inverter.idle_w.value:.3g} W idle for {on_h:.3g} h"),
        Step("reaches the loads", reaching, f"conversion passes on {share:.0f} %"),
    ]
    return steps


def parse_supply(data: object, path: str = "supply") -> Supply:
    """Read a supply document.

    Raises
    ------
    DocumentError
    """
    reader = Reader(
        data, path, ("name", "battery", "inverter"), later=("outputs", "inputs", "total_max_w")
    )
    return Supply(
        battery=parse_battery(reader.data.get("battery"), reader.at("battery")),
        inverter=parse_inverter(reader.data["inverter"], reader.at("inverter"))
        if reader.has("inverter")
        else None,
        name=reader.text("name", "supply"),
    )
