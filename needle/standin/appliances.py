"""Simulated appliances: each has a power profile over time that follows from its seed.

Thermal ones integrate the heat balance of a lumped mass, C·dT/dt = UA·(room - T) ± Q, with a
thermostat's hysteresis; the others draw their durations from the seed.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np

from needle.standin.timeline import Segment, Timeline

DAY_S = 86_400.0
_STEP_S = 10.0


@dataclass(frozen=True)
class Appliance:
    """A kind of simulated appliance.

    Attributes
    ----------
    key, name : str
    kind : str
        Matching key of :data:`needle.profile.kinds.KINDS`.
    course : callable
        Random generator, horizon s → segments.
    noise : float
        Relative noise of its power.
    by_task : bool
        Whether each of its runs is one task.
    """

    key: str
    name: str
    kind: str
    course: Callable[[np.random.Generator, float], Iterator[Segment]]
    noise: float = 0.004
    by_task: bool = False


def _room_c(time_s: float, base_c: float) -> float:
    """Room temperature by time of day, warmest at 15:00 if the clock began at midnight."""
    return base_c + 2.0 * math.cos(2 * math.pi * (time_s - 15 * 3600) / DAY_S)


def cold_box(rng: np.random.Generator, horizon_s: float) -> Iterator[Segment]:
    """Fixed-speed compressor: thermostat, room by time of day, doors, warm start, defrost."""
    run_w, rest_w, pf = rng.uniform(70, 140), rng.uniform(1.2, 3.0), rng.uniform(0.58, 0.7)
    set_c, base_c = rng.uniform(3, 5), rng.uniform(20, 26)
    mass, leak = rng.uniform(28_000, 45_000), rng.uniform(1.6, 2.4)  # J/°C, W/°C
    cop, band = rng.uniform(1.3, 1.7), 1.2
    inside, on, time, worked, defrost_until = set_c + 3.0, True, 0.0, 0.0, 0.0
    doors = np.sort(rng.uniform(0, horizon_s, max(1, int(8 * horizon_s / DAY_S))))
    next_door = 0
    running: dict[str, Any] = {
        "watts": run_w,
        "end_watts": run_w,
        "pf": pf,
        "tail_w": 0.16 * run_w,
        "tau_s": 110.0,
        "inrush_va": run_w / pf * rng.uniform(4, 6.5),
        "inrush_s": 0.25,
    }
    yield Segment(0.0, rest_w, rest_w, 0.4, state="resting")
    yield Segment(rng.uniform(120, 600), **running)
    while time < horizon_s:
        room = _room_c(time, base_c)
        heat = leak * (room - inside) - (cop * run_w if on and time >= defrost_until else 0.0)
        if time < defrost_until:
            heat += 90.0
        inside += heat * _STEP_S / mass
        if next_door < len(doors) and time >= doors[next_door]:
            inside, next_door = inside + rng.uniform(0.2, 0.6), next_door + 1
        worked += _STEP_S if on else 0.0
        time += _STEP_S
        if time < defrost_until:
            continue
        if on and inside < set_c - band:
            on = False
            if worked > 6 * 3600:
                worked, defrost_until = 0.0, time + 900.0
                yield Segment(time, 2.1 * run_w, 2.1 * run_w, 1.0, state="defrost")
                yield Segment(defrost_until, rest_w, rest_w, 0.4, state="resting")
            else:
                yield Segment(time, rest_w, rest_w, 0.4, state="resting")
        elif not on and inside > set_c + band:
            on = True
            yield Segment(time, **running)


def variable_compressor(rng: np.random.Generator, horizon_s: float) -> Iterator[Segment]:
    """Speed follows demand: it ramps between levels and never becomes constant."""
    usual = rng.uniform(40, 75)
    time, watts = 0.0, usual
    while time < horizon_s:
        goal = float(np.clip(usual + 0.7 * (watts - usual) + rng.normal(0, 14), 15, 130))
        yield Segment(time, watts, goal, rng.uniform(0.85, 0.93))
        watts, time = goal, time + rng.uniform(90, 420)


def _thermostat(
    rng: np.random.Generator, horizon_s: float, watts: float, duty: float, period_s: float
) -> Iterator[Segment]:
    """Heater cycles with slightly varying durations."""
    rest_w = rng.uniform(0.6, 2.8)
    time = 0.0
    yield Segment(0.0, rest_w, rest_w, 0.5, state="resting")
    time = rng.uniform(0.1, 0.5) * period_s
    while time < horizon_s:
        on = period_s * duty * rng.normal(1, 0.06)
        off = period_s * (1 - duty) * rng.normal(1, 0.06)
        yield Segment(time, watts, watts, 1.0, 0.03 * watts, 15.0, 1.05 * watts, 0.05)
        yield Segment(time + on, rest_w, rest_w, 0.5, state="resting")
        time += on + off


def thermostat_heater(rng: np.random.Generator, horizon_s: float) -> Iterator[Segment]:
    """An incubator or heater on its thermostat."""
    watts, duty = rng.uniform(100, 400), rng.uniform(0.25, 0.6)
    yield from _thermostat(rng, horizon_s, watts, duty, rng.uniform(400, 1100))


def stepped_heater(rng: np.random.Generator, horizon_s: float) -> Iterator[Segment]:
    """A heat mat with settings, on the middle one, with short cycles."""
    yield from _thermostat(rng, horizon_s, rng.uniform(55, 75), rng.uniform(0.55, 0.7), 480.0)


def _tool(
    rng: np.random.Generator, horizon_s: float, watts: float, pf: float, factor: float
) -> Iterator[Segment]:
    """Bursts of work under varying load, with idle runs between them."""
    yield Segment(0.0, 0.0, 0.0, 1.0, state="resting")
    time = rng.uniform(20, 90)
    while time < horizon_s:
        start = time
        va = watts / pf
        yield Segment(time, 0.45 * watts, 0.45 * watts, 0.7 * pf, 0.0, 1.0, factor * va, 0.4)
        for _ in range(int(rng.integers(2, 6))):
            time += rng.uniform(6, 30)
            load = watts * rng.uniform(0.6, 1.15)
            yield Segment(time, load, load * rng.uniform(0.9, 1.1), pf)
            time += rng.uniform(5, 25)
            yield Segment(time, 0.45 * watts, 0.45 * watts, 0.7 * pf)
        time = max(time, start) + rng.uniform(5, 20)
        yield Segment(time, 0.0, 0.0, 1.0, state="resting")
        time += rng.uniform(60, 400)


def universal_tool(rng: np.random.Generator, horizon_s: float) -> Iterator[Segment]:
    """A brush motor."""
    yield from _tool(rng, horizon_s, rng.uniform(400, 900), 0.95, rng.uniform(2, 3.5))


def induction_tool(rng: np.random.Generator, horizon_s: float) -> Iterator[Segment]:
    """An induction motor: low power factor when idle, high start-up current."""
    yield from _tool(
        rng, horizon_s, rng.uniform(250, 800), rng.uniform(0.7, 0.82), rng.uniform(3.5, 5.5)
    )


def pump(rng: np.random.Generator, horizon_s: float) -> Iterator[Segment]:
    """A pressure pump: short runs whenever water is drawn."""
    watts, pf = rng.uniform(350, 750), rng.uniform(0.72, 0.84)
    time = 0.0
    yield Segment(0.0, 0.8, 0.8, 0.4, state="resting")
    while (time := time + rng.exponential(900) + 60) < horizon_s:
        yield Segment(
            time, watts, watts, pf, 0.1 * watts, 4.0, watts / pf * rng.uniform(3.5, 5), 0.5
        )
        time += rng.uniform(25, 90)
        yield Segment(time, 0.8, 0.8, 0.4, state="resting")


#: Relative rate at which hot water is drawn, by the hour of the day.
_DRAWN = (1, 1, 1, 1, 1, 3, 9, 10, 6, 3, 3, 3, 4, 4, 3, 3, 4, 6, 9, 9, 7, 5, 3, 1)


def water_tank(rng: np.random.Generator, horizon_s: float) -> Iterator[Segment]:
    """A hot-water tank: people draw, the walls lose a little, an element makes up for both."""
    watts, lost_w = rng.uniform(900, 1600), rng.uniform(35, 70)
    draws_a_day, drawn_wh, band_wh = rng.uniform(4, 8), rng.uniform(250, 500), rng.uniform(250, 500)
    days = np.exp(rng.normal(0, 0.3, int(horizon_s / DAY_S) + 2))
    rates = np.asarray(_DRAWN) / np.sum(_DRAWN) * draws_a_day
    missing, heats = rng.uniform(0, band_wh), False
    yield Segment(0.0, 0.4, 0.4, 0.5, state="resting")
    for minute in range(int(horizon_s / 60)):
        rate = rates[minute // 60 % 24] / 60 * days[minute // 1440]
        if rng.random() < rate:
            missing += drawn_wh * float(np.exp(rng.normal(0, 0.4)))
        missing += (lost_w - (watts if heats else 0.0)) / 60
        if not heats and missing > band_wh:
            heats = True
            yield Segment(60.0 * minute, watts, watts, 1.0)
        elif heats and missing <= 0:
            heats, missing = False, 0.0
            yield Segment(60.0 * minute, 0.4, 0.4, 0.5, state="resting")


def float_pump(rng: np.random.Generator, horizon_s: float) -> Iterator[Segment]:
    """A drain pump with a float: a few minutes, once in many hours."""
    watts, pf, apart_h = rng.uniform(350, 700), rng.uniform(0.72, 0.84), rng.uniform(10, 18)
    time = rng.exponential(apart_h * 3600)
    yield Segment(0.0, 0.0, 0.0, 1.0, state="resting")
    while time < horizon_s:
        start_va = watts / pf * rng.uniform(3.5, 5)
        yield Segment(time, watts, watts, pf, 0.1 * watts, 4.0, start_va, 0.5)
        time += rng.uniform(120, 300)
        yield Segment(time, 0.0, 0.0, 1.0, state="resting")
        time += rng.exponential(apart_h * 3600) + 1800


def programme(rng: np.random.Generator, horizon_s: float) -> Iterator[Segment]:
    """Fill, heat, pulse, dry; then off until the next run."""
    heat, dry = rng.uniform(1300, 1600), rng.uniform(250, 340)
    time = 0.0
    yield Segment(0.0, 0.6, 0.6, 0.4, state="resting")
    time = rng.uniform(60, 240)
    while time < horizon_s:
        yield Segment(time, 40.0, 40.0, 0.8, state="fill")
        time += rng.uniform(40, 80)
        yield Segment(time, heat, heat, 1.0, state="heat", inrush_va=1.04 * heat, inrush_s=0.05)
        time += rng.uniform(600, 760)
        for _ in range(20):
            yield Segment(time, 22.0, 22.0, 0.7, state="hold")
            time += rng.uniform(30, 42)
            yield Segment(time, heat, heat, 1.0, state="heat")
            time += rng.uniform(18, 24)
        yield Segment(time, dry, dry, 1.0, state="dry")
        time += rng.uniform(800, 950)
        yield Segment(time, 0.6, 0.6, 0.4, state="resting")
        time += rng.uniform(3 * 3600, 6 * 3600)


def kettle(rng: np.random.Generator, horizon_s: float) -> Iterator[Segment]:
    """A small kettle: a cup from time to time, with different fillings."""
    watts, cup_wh = rng.uniform(500, 900), rng.uniform(26, 40)
    time = 0.0
    yield Segment(0.0, 0.0, 0.0, 1.0, state="resting")
    while (time := time + rng.uniform(600, 3600)) < horizon_s:
        yield Segment(time, watts, watts, 1.0)
        time += cup_wh * rng.normal(1, 0.07) * 3600 / watts
        yield Segment(time, 0.0, 0.0, 1.0, state="resting")


def pack_charging(rng: np.random.Generator, horizon_s: float) -> Iterator[Segment]:
    """Constant power, then a taper, then the idle draw of a full pack."""
    full_w, pf = rng.uniform(40, 70), rng.uniform(0.55, 0.65)
    time = 0.0
    while time < horizon_s:
        yield Segment(time, full_w, full_w * 1.04, pf, inrush_va=6 * full_w, inrush_s=0.02)
        time += rng.uniform(3000, 4800)
        yield Segment(time, 1.5, 1.5, pf, full_w - 1.5, 900.0, state="taper")
        time += rng.uniform(4 * 3600, 7 * 3600)


def electronics(rng: np.random.Generator, horizon_s: float) -> Iterator[Segment]:
    """A router: nearly constant power."""
    base = rng.uniform(9, 22)
    time = 0.0
    while time < horizon_s:
        yield Segment(time, base, base * rng.uniform(1.0, 1.05), 0.58, inrush_va=0.0)
        time += rng.uniform(300, 1800)


def led(rng: np.random.Generator, horizon_s: float) -> Iterator[Segment]:
    """A lamp that is on in the evening and the early morning."""
    watts = rng.uniform(20, 45)
    on: dict[str, Any] = {
        "watts": watts,
        "end_watts": watts,
        "pf": 0.93,
        "inrush_va": 8 * watts,
        "inrush_s": 0.01,
    }
    yield Segment(0.0, **on)
    yield Segment(900.0, 0.2, 0.2, 0.3, state="resting")
    day = 0.0
    while day < horizon_s:
        for hour, length in ((7, 1.5), (18, 4.5)):
            start = day + hour * 3600 + rng.uniform(-900, 900)
            yield Segment(start, **on)
            yield Segment(start + length * 3600, 0.2, 0.2, 0.3, state="resting")
        day += DAY_S


APPLIANCES = {
    stand_in.key: stand_in
    for stand_in in (
        Appliance("cold-box", "cold box, fixed speed", "compressor-fixed", cold_box),
        Appliance(
            "variable", "cold box, variable speed", "compressor-variable", variable_compressor, 0.01
        ),
        Appliance("heater", "heater with thermostat", "thermostat-heat", thermostat_heater, 0.002),
        Appliance("stepped", "heat mat, middle setting", "thermostat-heat", stepped_heater, 0.002),
        Appliance("brush-tool", "brush-motor tool", "universal-motor", universal_tool, 0.02),
        Appliance("motor-tool", "induction-motor tool", "induction-motor", induction_tool, 0.01),
        Appliance("pump", "pressure pump", "pump", pump, 0.01),
        Appliance("water-tank", "hot-water tank", "water-tank", water_tank, 0.002),
        Appliance("float-pump", "drain pump with a float", "float-pump", float_pump, 0.01),
        Appliance("programme", "autoclave programme", "resistive-heat", programme, 0.002),
        Appliance("kettle", "kettle, a cup at a time", "resistive-heat", kettle, 0.002, True),
        Appliance("charger", "pack charging", "electronics", pack_charging, 0.006),
        Appliance("electronics", "router", "electronics", electronics, 0.01),
        Appliance("led", "lamp", "led", led),
    )
}


def appliance_like(kind: str) -> Appliance | None:
    """The first simulated appliance of a kind of load; None if there is none."""
    return next((stand_in for stand_in in APPLIANCES.values() if stand_in.kind == kind), None)


@lru_cache(maxsize=64)
def timeline(key: str, seed: int, days: float = 8.0, mains_v: float = 230.0) -> Timeline:
    """Return the power profile of one appliance; the same seed gives the same profile.

    Raises
    ------
    KeyError
        The key is unknown.
    """
    appliance = APPLIANCES[key]
    horizon = days * DAY_S
    boundaries = sorted(
        (s for s in appliance.course(np.random.default_rng(seed), horizon) if s.start_s < horizon),
        key=lambda segment: segment.start_s,
    )
    return Timeline(tuple(boundaries), horizon, seed, appliance.noise, mains_v)
