"""A household of stand-ins: measured at the bench, planned from that, and run to the true stop."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from needle.measure.analysis import analyse, as_reading
from needle.measure.readings import parse
from needle.plan.documents.measured import load_document
from needle.plan.documents.parse import parse_plan
from needle.plan.plan import Plan
from needle.profile.profile import derive
from needle.profile.record import LoadRecord
from needle.standin.appliances import APPLIANCES, timeline
from needle.standin.meters import panel_logger, plug_meter
from needle.standin.supplies import StandinSupply, standin_supply
from needle.supply.inverter import dc_w
from needle.supply.supply import parse_supply
from needle.trial.trial import Trial, parse_trial

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
    drained_wh: np.ndarray

    def gone_wh(self, hour: float) -> float:
        """Wh truly drawn from the battery by an hour."""
        return float(np.interp(hour, self._hours, self.drained_wh))

    def hour_at(self, charge: float) -> float:
        """The hour at which a true charge (share) is reached."""
        gone = self.supply.held_wh * (1 - charge)
        return float(np.interp(gone, self.drained_wh, self._hours))

    @property
    def _hours(self) -> np.ndarray:
        return np.arange(1, len(self.drained_wh) + 1) * STEP_S / 3600


def measured_load(key: str, seed: int, hours: float) -> dict[str, Any]:
    """A stand-in as a plan's load, from a recorded capture of so many hours."""
    meter = (plug_meter if seed % 2 else panel_logger)(seed)
    reading = as_reading(
        analyse(meter.capture(timeline(key, seed), 0, hours * 3600)), meter.interval_s
    )
    reading["instrument"] = meter.instrument.key
    profile = derive(LoadRecord(key, APPLIANCES[key].kind, (parse(reading),)))
    return {**load_document(profile, key), "use": "always"}


def measured_supply(
    nominal_wh: float, watts: float, seed: int, drained: bool
) -> tuple[dict[str, Any], StandinSupply]:
    """A supply document with an efficiency test of its stand-in, and a capacity test if drained."""
    document: dict[str, Any] = {
        "battery": {"chemistry": "lfp", "nominal_wh": nominal_wh, "volts": 51.2, "floor": FLOOR},
        "inverter": {"continuous_w": watts, "surge_va": 3 * watts},
    }
    twin = standin_supply(parse_supply(document), seed)
    document["tests"] = [{"type": "efficiency", "pairs": [list(pair) for pair in twin.paired()]}]
    if drained:
        log = [list(row) for row in twin.drain_log(0.2 * watts, 0.1)]
        document["tests"].append({"type": "capacity", "log": log})
    return document, twin


def household(seed: int, drained: bool = True) -> Twin:
    """Three to five stand-ins on a stand-in supply that lasts somewhere between 10 and 60 h.

    ``drained``: a capacity test told what the battery holds; else its label and what is usual do.
    """
    rng = np.random.default_rng([seed, 5])
    keys = list(rng.permutation(ALWAYS)[: rng.integers(3, 6)])
    loads = [measured_load(key, seed, float(rng.uniform(20, 50))) for key in keys]
    document, supply = measured_supply(float(rng.uniform(2500, 6000)), 2000.0, seed, drained)
    plan = parse_plan({"hours": 120, "needed_hours": 24, "supply": document, "loads": loads})
    time = RUN_FROM_S + np.arange(0, 4.5 * 86_400, STEP_S)
    watts = np.sum([timeline(key, seed).sample(time).watts for key in keys], axis=0)
    drain_w = dc_w(watts, supply.idle_w, supply.efficiency, supply.square_per_w)
    drained_wh = np.cumsum(drain_w) * STEP_S / 3600
    until_floor_wh = supply.held_wh * (1 - FLOOR)
    assert drained_wh[-1] > until_floor_wh, "the stand-ins do not empty the battery"
    ends_h = STEP_S / 3600 * np.arange(1, len(watts) + 1)
    return Twin(plan, float(np.interp(until_floor_wh, drained_wh, ends_h)), supply, drained_wh)


#: What a supply may show, or a counter count.
DISPLAYS = ("percent", "bars", "ah", "wh")


def trial_of(twin: Twin, display: str, share: float, seed: int) -> tuple[Trial, float]:
    """A trial up to a share of its true hours, with the plan as its expectation; and those hours.

    Where a display is read one stops by it, else at the true floor.
    """
    shows = display in ("percent", "bars")
    true_h = twin.hour_at(twin.supply.true_charge(FLOOR) if shows else FLOOR)
    rng = np.random.default_rng([seed, 9])
    gain = 1 + rng.uniform(-0.01, 0.01)
    hours = [true_h * float(place + rng.uniform(-0.02, 0.02)) for place in np.arange(1, 13) / 13]
    check_ins = [
        {"h": hour, **_seen(twin, display, hour, gain)} for hour in hours if hour <= share * true_h
    ]
    supply = {"battery": {"chemistry": "lfp", "nominal_wh": 1000}}
    trial = parse_trial({"supply": supply, "stop_at": FLOOR, "check_ins": check_ins})
    return replace(trial, supply=twin.plan.supply, plan=twin.plan), true_h


def _seen(twin: Twin, display: str, hour: float, gain: float) -> dict[str, Any]:
    gone = twin.gone_wh(hour)
    shown = twin.supply.charge_shown(max(0.0, 1 - gone / twin.supply.held_wh))
    if display == "percent":
        return {"percent": float(round(100 * shown))}
    if display == "bars":
        return {"bars": int(np.ceil(5 * shown)), "of": 5}
    if display == "ah":
        return {"ah": round(gone * gain / 51.2, 1)}
    return {"wh": round(gone * gain)}
