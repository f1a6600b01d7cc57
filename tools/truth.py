"""Households of our own making whose truth is known, to hold answers against.

Nothing here is shared with the stand-ins or with the rules that it judges: appliances run second by
second with days that differ, a swing over the day, wandering watts and defrosts; meters read them
as meters do; a supply is emptied by them. ``python -m tools.truth [HOUSEHOLDS] [DAY_SD]``
"""

from __future__ import annotations

import sys
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from needle.document import DocumentError
from needle.measure.analysis import analyse, as_reading
from needle.measure.capture import read_capture
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate
from tools.scores import Score

DAY_S = 86_400
#: Seconds between the points of an appliance's course.
STEP_S = 10
#: Days before the plan in which evidence is gathered.
BEFORE_DAYS = 6
PLAN_DAYS = 6
EVIDENCE = ("label", "spot", "tally", "run", "capture")
#: Each load has evidence of a kind of its own.
MIXED = "mixed"
#: What the trade says of appliances, low, typical and high: eight in ten lie between. Label over
#: running watts; duty of a box with a fixed speed, and of a thermostat's heat.
PLATE, BOX_DUTY, HEAT_DUTY = (1.2, 2.0, 4.0), (0.2, 0.35, 0.6), (0.2, 0.5, 0.9)
#: Standard normal quantile at 90 %.
_Z90 = 1.2816


@dataclass
class Appliance:
    """One appliance and its course of watts, a point each :data:`STEP_S` from the first day on."""

    name: str
    kind: str
    watts: np.ndarray
    running_w: float
    resting_w: float
    power_factor: float
    label_w: float
    on: np.ndarray
    windows: list[list[str]] | None = None
    task: dict[str, Any] | None = None


def _cycling(
    rng: np.random.Generator,
    seconds: int,
    duty: float,
    period_s: float,
    day_sd: float,
    swing: float,
) -> np.ndarray:
    """On and off, cycle by cycle; each day, hour and cycle has a duty of its own."""
    on = np.zeros(seconds // STEP_S, dtype=bool)
    days = np.exp(rng.normal(0, day_sd, seconds // DAY_S + 2) - day_sd**2 / 2)
    peak_h = rng.uniform(13, 19)
    at = -rng.uniform(0, period_s)
    while at < seconds:
        hour = max(0.0, at) / 3600
        factor = days[int(hour // 24)] * (1 + swing * np.cos(2 * np.pi * (hour - peak_h) / 24))
        now = float(np.clip(duty * factor * np.exp(rng.normal(0, 0.08)), 0.02, 0.98))
        period = period_s * np.exp(rng.normal(0, 0.10))
        first, last = max(0.0, at), max(0.0, at + now * period)
        on[round(first / STEP_S) : round(last / STEP_S)] = True
        at += period
    return on


def _defrosts(rng: np.random.Generator, watts: np.ndarray, heater_w: float) -> None:
    """A heater every 8 to 14 hours for a quarter of an hour or so, compressor off."""
    every = rng.uniform(8, 14) * 3600
    length = int(rng.uniform(10, 20) * 60 / STEP_S)
    at = rng.uniform(0, every)
    while at < len(watts) * STEP_S:
        first = round(at / STEP_S)
        watts[first : first + length] = heater_w
        at += every * np.exp(rng.normal(0, 0.1))


def appliance(rng: np.random.Generator, name: str, sort: str, day_sd: float) -> Appliance:
    """One of a sort, with parameters of its own."""
    seconds = (BEFORE_DAYS + PLAN_DAYS) * DAY_S
    points = seconds // STEP_S
    always = np.ones(points, dtype=bool)
    if sort in ("box", "heat"):
        cold = sort == "box"
        running = rng.uniform(60, 150) if cold else rng.uniform(120, 500)
        duty = min(0.95, _of(rng, *(BOX_DUTY if cold else HEAT_DUTY)))
        period = rng.uniform(30, 70) * 60 if cold else rng.uniform(10, 25) * 60
        swing = 0.12 * rng.uniform(0.5, 1.4)
        on = _cycling(rng, seconds, duty, period, day_sd, swing)
        resting = rng.uniform(0.5, 3) if cold else 0.0
        watts = np.where(on, running * np.exp(rng.normal(0, 0.01, points)), resting)
        if cold and rng.random() < 0.4:
            _defrosts(rng, watts, rng.uniform(130, 260))
        label = running * (_of(rng, *PLATE) if cold else rng.uniform(0.98, 1.08))
        factor = rng.uniform(0.56, 0.78) if cold else 1.0
        kind = "compressor-fixed" if cold else "thermostat-heat"
        return Appliance(name, kind, watts, running, resting, factor, label, on)
    if sort == "variable":
        mean = rng.uniform(25, 80)
        hours = np.arange(points) * STEP_S / 3600
        knots = int(seconds / 2400) + 2
        wander = np.interp(hours * 1.5, np.arange(knots), rng.normal(0, 0.2, knots))
        days = np.exp(rng.normal(0, day_sd * 1.1, BEFORE_DAYS + PLAN_DAYS))
        course = days[(hours // 24).astype(int)] * (
            1 + 0.12 * np.cos(2 * np.pi * (hours - 16) / 24)
        )
        watts = mean * course * np.exp(wander - 0.02)
        if rng.random() < 0.4:
            _defrosts(rng, watts, rng.uniform(130, 260))
        label = mean * _of(rng, *PLATE)
        return Appliance(name, "compressor-variable", watts, mean, 0.0, 0.9, label, always)
    if sort == "electronics":
        mean = rng.uniform(8, 60)
        hours = np.arange(points) * STEP_S / 3600
        days = np.exp(rng.normal(0, 0.03, BEFORE_DAYS + PLAN_DAYS))
        course = days[(hours // 24).astype(int)] * (
            1 + 0.06 * np.cos(2 * np.pi * (hours - 20) / 24)
        )
        watts = mean * course * np.exp(rng.normal(0, 0.02, points))
        return Appliance(
            name, "electronics", watts, mean, 0.0, 0.6, mean * _of(rng, *PLATE), always
        )
    mean = rng.uniform(6, 45)
    first = int(rng.integers(17, 20))
    hour = (np.arange(points) * STEP_S % DAY_S) / 3600
    on = (hour >= first) & (hour < first + 4)
    windows = [[f"{first:02d}:00", f"{first + 4:02d}:00"]]
    # What stands on an LED light is what it draws, or somewhat more.
    label = mean * rng.uniform(0.92, 1.35)
    watts = np.where(on, mean, 0.0)
    return Appliance(name, "led", watts, mean, 0.0, 0.8, label, on, windows=windows)


def _of(rng: np.random.Generator, low: float, typical: float, high: float) -> float:
    """One of what the trade says: a logarithm of two halves about the typical one."""
    z = rng.normal()
    half = np.log(typical / low) if z < 0 else np.log(high / typical)
    return float(typical * np.exp(half * z / _Z90))


def read_watts(rng: np.random.Generator, watts: float) -> float:
    """A plug meter: ±1 % as a uniform error, its last digit 0.1 W."""
    return round(watts * (1 + rng.uniform(-0.01, 0.01)), 1)


def readings(rng: np.random.Generator, appliance: Appliance, evidence: str) -> list[dict[str, Any]]:
    """What a person would have noted of it in the days before."""
    label = {"type": "label", "watts": round(appliance.label_w)}
    if evidence == "label":
        return [label]
    moments = np.flatnonzero(appliance.on)
    at = int(rng.choice(moments[moments < BEFORE_DAYS * DAY_S // STEP_S]))
    spots: list[dict[str, Any]] = [
        label,
        {
            "type": "spot",
            "state": "running",
            "watts": read_watts(rng, appliance.watts[at]),
            "pf": round(appliance.power_factor, 2),
            "instrument": "plug",
        },
    ]
    if appliance.resting_w > 0:
        spots.append(
            {"type": "spot", "state": "resting", "watts": read_watts(rng, appliance.resting_w)}
        )
    cycles = appliance.kind in ("compressor-fixed", "thermostat-heat")
    if evidence == "spot" or appliance.windows is not None or (evidence == "tally" and not cycles):
        return spots
    first = float(rng.uniform(0, (BEFORE_DAYS - 2) * DAY_S))
    if evidence == "tally":
        return [*spots, {"type": "tally", "edges": _tallied(rng, appliance, first)}]
    gain = 1 + rng.uniform(-0.01, 0.01)
    if evidence == "run":
        hours = float(np.exp(rng.uniform(np.log(2), np.log(24))))
        part = appliance.watts[int(first / STEP_S) : int((first + hours * 3600) / STEP_S)]
        wh = float(part.sum()) * STEP_S / 3600 * gain
        return [
            *spots,
            {
                "type": "energy",
                "wh": 10 * int(wh / 10 + rng.random()),
                "hours": round(hours, 2),
                "instrument": "plug",
            },
        ]
    part = appliance.watts[int(first / STEP_S) : int((first + 6 * 3600) / STEP_S)] * gain
    rows = "\n".join(f"{n * STEP_S},{watts:.1f}" for n, watts in enumerate(part))
    capture = read_capture(f"time,watts\n{rows}\n".encode())
    return [*spots, {**as_reading(analyse(capture), capture.interval_s()), "instrument": "plug"}]


def edges(
    rng: np.random.Generator, part: Appliance, first_s: float, minutes: float
) -> list[list[Any]]:
    """Starts and stops that are seen from a moment on, by ear and stopwatch."""
    on = part.on[int(first_s / STEP_S) : int((first_s + 60 * minutes) / STEP_S)]
    changes = np.flatnonzero(np.diff(on.astype(np.int8))) + 1
    return [
        ["on" if on[place] else "off", round(float(place * STEP_S + rng.uniform(-2, 2)), 1)]
        for place in changes
    ]


def _tallied(rng: np.random.Generator, part: Appliance, first_s: float) -> list[list[Any]]:
    """A few whole cycles."""
    most = 2 * int(rng.integers(3, 8)) + 1
    return edges(rng, part, first_s, (BEFORE_DAYS + PLAN_DAYS) * 1440)[:most]


@dataclass
class Household:
    """Appliances on a supply, what is known of them, and how long it truly runs them."""

    document: dict[str, Any]
    true_h: float
    evidence: str
    tested: bool
    leads: str
    idle_w: float
    efficiency: float
    held_wh: float
    parts: list[Appliance] = field(default_factory=list)


def household(
    seed: int, day_sd: float, evidence: str = "", loads_of: tuple[int, int] = (2, 5)
) -> Household:
    """One household; its loads all have the same kind of evidence, each kind in turn.

    ``loads_of``: least and highest number of loads, the latter excluded.
    """
    rng = np.random.default_rng([seed, 79])
    evidence = evidence or EVIDENCE[seed % len(EVIDENCE)]
    tested = bool(seed // len(EVIDENCE) % 2)
    sorts = rng.choice(
        ["box", "box", "heat", "variable", "electronics", "light"],
        size=int(rng.integers(*loads_of)),
    )
    if all(sort == "light" for sort in sorts):
        sorts[0] = "box"
    parts = [appliance(rng, f"{sort} {n}", str(sort), day_sd) for n, sort in enumerate(sorts)]
    start_h = int(rng.integers(0, 24))
    first = (BEFORE_DAYS * DAY_S + start_h * 3600) // STEP_S
    total = np.sum([part.watts[first:] for part in parts], axis=0)
    continuous = float(np.ceil(2.2 * total.max() / 100) * 100)
    idle = continuous * np.exp(rng.normal(np.log(0.009), 0.35))
    efficiency = rng.uniform(0.86, 0.93)
    out_w = idle + total / efficiency
    wanted_h = float(np.exp(rng.uniform(np.log(8), np.log(60))))
    nominal = round(float(out_w[: int(wanted_h * 3600 / STEP_S)].sum()) * STEP_S / 3600 / 0.83, -1)
    real = nominal * rng.normal(0.93, 0.05)
    used = np.cumsum(out_w) * STEP_S / 3600
    true_h = float(np.searchsorted(used, 0.9 * real)) * STEP_S / 3600
    battery: dict[str, Any] = {
        "chemistry": "lfp",
        "nominal_wh": nominal,
        "volts": 51.2,
        "floor": 0.1,
    }
    inverter: dict[str, Any] = {"continuous_w": continuous, "surge_va": 3 * continuous + 9000}
    if tested:
        battery |= {
            "capacity_factor": real / nominal * (1 + rng.normal(0, 0.02)),
            "capacity_spread": 0.02,
        }
        inverter |= {
            "idle_w": idle * (1 + rng.normal(0, 0.04)),
            "idle_spread": 0.04,
            "efficiency": efficiency * (1 + rng.normal(0, 0.01)),
            "efficiency_spread": 0.01,
        }
    loads = [
        {
            "name": part.name,
            "route": "ac",
            "profile": {
                "name": part.name,
                "kind": part.kind,
                "readings": readings(
                    rng, part, str(rng.choice(EVIDENCE)) if evidence == MIXED else evidence
                ),
            },
            "use": {"between": part.windows} if part.windows else "always",
        }
        for part in parts
    ]
    leads = max(parts, key=lambda part: float(part.watts.mean())).kind
    document = {
        "start": f"2027-02-0{1 + BEFORE_DAYS}T{start_h:02d}:00:00+00:00",
        "hours": min(336.0, max(24.0, 3 * wanted_h)),
        "needed_hours": wanted_h,
        "supply": {"battery": battery, "inverter": inverter},
        "loads": loads,
    }
    return Household(
        document,
        true_h,
        evidence,
        tested,
        leads,
        float(idle),
        float(efficiency),
        float(real),
        parts,
    )


def judge(count: int, day_sd: float, draws: int = 100, first: int = 0) -> dict[str, Score]:
    """Hold answers against the truth of households: scores by what they have in common."""
    scores: dict[str, Score] = {}
    for seed in range(first, first + count):
        home = household(seed, day_sd)
        try:
            outcome = simulate(parse_plan(home.document), draws)
        except DocumentError as error:
            raise SystemExit(f"household {seed}: {error}") from None
        supply = "tested" if home.tested else "untested"
        for name in (
            "all",
            f"all {supply}",
            home.evidence,
            f"{home.evidence}, {supply}",
            f"led by {home.leads}",
        ):
            scores.setdefault(name, Score()).add(outcome.runtime, home.true_h)
    return scores


def table(count: int, day_sd: float) -> None:
    """Print how often ranges held, by kind of evidence and by what leads."""
    print(f"  {count} households that run by themselves, days that differ by {100 * day_sd:.0f} %")
    for name, score in sorted(judge(count, day_sd).items()):
        print(score.line(name))


if __name__ == "__main__":
    table(
        int(sys.argv[1]) if len(sys.argv) > 1 else 200,
        float(sys.argv[2]) if len(sys.argv) > 2 else 0.07,
    )
