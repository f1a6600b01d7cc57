"""Guided tests done on a simulated supply, as values for the form."""

from __future__ import annotations

from typing import Any

from needle.standin.supplies import StandinSupply, standin_supply
from web.supplies.models import Supply

#: Loads used in the guided tests, as shares of the continuous W, or W where there is none.
_DRAIN_SHARE, _ROUTE_W, _USB_W = 0.12, 14.0, 10.0


def simulated(supply: Supply, kind: str) -> dict[str, Any]:
    """Values of a test's form from the simulated supply."""
    twin = standin_supply(supply.to_core(), seed=supply.pk or 0)
    makers = {"idle": _idle, "efficiency": _efficiency, "capacity": _capacity, "route": _route}
    return {**makers[kind](supply, twin), "note": "by the simulated supply"}


def _idle(supply: Supply, twin: StandinSupply) -> dict[str, Any]:
    output = "ac" if supply.continuous_w else next(o.name for o in supply.known_outputs())
    # As long as a tenth of the charge takes, in whole hours.
    hours = float(min(96, max(4, round(twin.hours_to(0.0, 0.9, output)))))
    end = twin.display(0.0, hours, output)
    return {
        "output": output,
        "start": "100 %",
        "end": f"{end * 100:.0f} %",
        "hours": f"{hours:g} h",
    }


def _efficiency(supply: Supply, twin: StandinSupply) -> dict[str, Any]:
    values: dict[str, Any] = {}
    for row, (ac, dc) in enumerate(twin.paired()):
        values |= {f"ac_{row}": f"{ac:g} W", f"dc_{row}": f"{dc:g} W"}
    return values


def _capacity(supply: Supply, twin: StandinSupply) -> dict[str, Any]:
    output = "ac" if supply.continuous_w else next((o.name for o in supply.known_outputs()), "ac")
    load = twin.continuous_w * _DRAIN_SHARE or _USB_W
    log = twin.drain_log(load, 0.1, output=output)
    rows = "\n".join(f"{hours:g}, {charge * 100:.0f}, {wh:.0f}" for hours, charge, wh in log)
    return {"counted": "battery", "start": "100 %", "end": "", "log": rows}


def _route(supply: Supply, twin: StandinSupply) -> dict[str, Any]:
    output = next(output.name for output in supply.known_outputs())
    load = supply.job.loads.live().filter(kind="electronics").first()
    hours = float(max(4, round(twin.hours_to(_ROUTE_W, 0.85, "ac"))))
    ends = {
        side: twin.display(_ROUTE_W, hours, name) for side, name in (("ac", "ac"), ("dc", output))
    }
    return {
        "load": load.name if load else "",
        "output": output,
        "hours": f"{hours:g} h",
        "ac_end": f"{ends['ac'] * 100:.0f} %",
        "dc_end": f"{ends['dc'] * 100:.0f} %",
        "ac_wh": f"{_ROUTE_W * hours:.0f} Wh",
        "dc_wh": f"{_ROUTE_W * hours:.0f} Wh",
    }
