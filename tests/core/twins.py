"""A household of stand-ins: measured at the bench, planned from that, and run to the true stop."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from needle.measure.analysis import analyse, as_reading
from needle.measure.readings import parse
from needle.plan.plan import Plan, parse_plan
from needle.plan.use import load_document
from needle.profile.profile import LoadRecord, derive
from needle.standin.appliances import APPLIANCES, timeline
from needle.standin.meters import panel_logger, plug_meter
from needle.standin.supplies import StandinSupply, standin_supply
from needle.supply.supply import parse_supply

#: Stand-ins that run all the time.
ALWAYS = ("cold-box", "heater", "stepped", "variable", "electronics")
FLOOR, STEP_S = 0.10, 10.0
#: The evidence is from the first days, the run begins after them, s.
RUN_FROM_S = 3 * 86_400.0


@dataclass(frozen=True)
class Twin:
    """A plan from bench evidence alone, and the true hours of the run that it speaks of."""

    plan: Plan
    true_h: float
    supply: StandinSupply


def measured_load(key: str, seed: int, hours: float) -> dict[str, Any]:
    """A stand-in as a plan's load, from a recorded capture of so many hours."""
    meter = (plug_meter if seed % 2 else panel_logger)(seed)
    reading = as_reading(analyse(meter.capture(timeline(key, seed), 0, hours * 3600)),
                         meter.interval_s)  # fmt: skip
    reading["instrument"] = meter.instrument.key
    profile = derive(LoadRecord(key, APPLIANCES[key].kind, (parse(reading),)))
    return {**load_document(profile, key), "use": "always"}


def measured_supply(nominal_wh: float, watts: float, seed: int) -> tuple[dict, StandinSupply]:
    """A supply document with an efficiency and a capacity test of its stand-in."""
    document: dict[str, Any] = {
        "battery": {"chemistry": "lfp", "nominal_wh": nominal_wh, "volts": 51.2, "floor": FLOOR},
        "inverter": {"continuous_w": watts, "surge_va": 3 * watts},
    }
    twin = standin_supply(parse_supply(document), seed)
    document["tests"] = [
        {"type": "efficiency", "pairs": [list(pair) for pair in twin.paired()]},
        {"type": "capacity", "log": [list(row) for row in twin.drain_log(0.2 * watts, 0.1)]},
    ]
    return document, twin


def household(seed: int) -> Twin:
    """Three to five stand-ins on a stand-in supply that lasts somewhere between 10 and 60 h."""
    rng = np.random.default_rng([seed, 5])
    keys = list(rng.permutation(ALWAYS)[: rng.integers(3, 6)])
    loads = [measured_load(key, seed, float(rng.uniform(20, 50))) for key in keys]
    document, supply = measured_supply(float(rng.uniform(2500, 6000)), 2000.0, seed)
    plan = parse_plan({"hours": 120, "needed_hours": 24, "supply": document, "loads": loads})
    time = RUN_FROM_S + np.arange(0, 4.5 * 86_400, STEP_S)
    watts = np.sum([timeline(key, seed).sample(time).watts for key in keys], axis=0)
    true_h = supply.hours_down(watts, STEP_S, FLOOR)
    assert true_h is not None, "the stand-ins do not empty the battery"
    return Twin(plan, true_h, supply)
