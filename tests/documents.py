"""Valid open documents at random: every key, every source, chemistry, reading, test and run.

Made from a :class:`random.Random`, so that a seed tells one again. A document may still be refused
by a rule that joins several keys (a task longer than its plan); it must never end in a fault.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from random import Random
from typing import Any

from needle.measure.readings import FEELS
from needle.profile.kinds import KINDS, RUNS_BY
from needle.supply.chemistry import CHEMISTRIES
from needle.supply.outputs import OUTPUT_KINDS

FIRST_DAY = datetime(2027, 2, 9, tzinfo=UTC)


def maybe(rng: Random, chance: float, **values: Any) -> dict[str, Any]:
    """Each of some keys with a chance; a value that can be called is called then."""
    return {
        key: value() if callable(value) else value
        for key, value in values.items()
        if rng.random() < chance
    }


def log_uniform(rng: Random, low: float, high: float) -> float:
    """A number between two limits, alike in every decade."""
    return float(f"{low * (high / low) ** rng.random():.4g}")


def clock(rng: Random, step_min: int = 15) -> str:
    """A time of day."""
    minute = rng.randrange(0, 1440, step_min)
    return f"{minute // 60:02d}:{minute % 60:02d}"


def moment(rng: Random, start: datetime, hours: float) -> str:
    """A time of day, or once within a plan's hours."""
    if rng.random() < 0.7:
        return clock(rng)
    return (start + timedelta(minutes=rng.randrange(max(1, int(hours * 60))))).isoformat()


def spans(rng: Random, most: int = 2) -> list[list[str]]:
    """Windows of the day that do not overlap."""
    edges = sorted(rng.sample(range(0, 1440, 15), 2 * rng.randint(1, most)))
    clocks = [f"{minute // 60:02d}:{minute % 60:02d}" for minute in edges]
    return [list(pair) for pair in zip(clocks[::2], clocks[1::2], strict=True)]


def readings(rng: Random, count: int | None = None) -> list[dict[str, Any]]:
    """Readings of every type, of one load of some 5 to 2000 W."""
    watts = log_uniform(rng, 5, 2000)
    return [
        reading_of(rng, watts, rng.choice(list(READINGS)))
        for _ in range(rng.randint(1, 6) if count is None else count)
    ]


def reading_of(rng: Random, watts: float, kind: str) -> dict[str, Any]:
    common = maybe(
        rng,
        0.2,
        note="as it stood",
        room_c=lambda: rng.uniform(10, 30),
        at=(FIRST_DAY - timedelta(days=rng.randrange(1, 400))).isoformat,
        setting=lambda: rng.choice(["low", "high"]),
    )
    return {"type": kind, **common, **READINGS[kind](rng, watts)}


def _label(rng: Random, watts: float) -> dict[str, Any]:
    some = maybe(
        rng,
        0.5,
        watts=2 * watts,
        va=2.5 * watts,
        amps=watts / 100,
        volts=230,
        kwh_per_year=200,
        horsepower=watts / 900,
        breaker_a=16,
    )
    return {**some, "watts": 2 * watts} if set(some) <= {"volts"} else some


def _spot(rng: Random, watts: float) -> dict[str, Any]:
    return {
        "watts": watts * rng.uniform(0.9, 1.1),
        **maybe(
            rng,
            0.3,
            state=lambda: rng.choice(["running", "resting", "boost"]),
            hz=50.0,
            instrument=lambda: rng.choice(["plug", "display"]),
        ),
        **maybe(rng, 0.3, volts=230.0, amps=watts / 230 / 0.7, va=watts / 0.7, pf=0.7),
    }


def _start(rng: Random, watts: float) -> dict[str, Any]:
    some = maybe(rng, 0.5, amps=watts / 60, va=4 * watts, watts=3 * watts)
    return {
        **(some or {"va": 4 * watts}),
        **maybe(
            rng, 0.3, volts=231.0, seconds=0.4, instrument=lambda: rng.choice(["clamp", "plug"])
        ),
    }


def _energy(rng: Random, watts: float) -> dict[str, Any]:
    hours = log_uniform(rng, 0.2, 80)
    wh = rng.choice([0.0, watts * hours * rng.uniform(0.1, 1.0)])
    return {
        "wh": wh,
        "hours": hours,
        **maybe(
            rng,
            0.3,
            step_wh=lambda: rng.choice([1, 10, 100]),
            counted=lambda: rng.choice(["ac", "dc"]),
        ),
    }


def _tally(rng: Random, watts: float) -> dict[str, Any]:
    at, edges = 0.0, []
    for number in range(rng.randint(3, 9)):
        edges.append(["off" if number % 2 else "on", at])
        at += rng.uniform(60, 3000)
    return {"edges": edges}


def _duty(rng: Random, watts: float) -> dict[str, Any]:
    if rng.random() < 0.5:
        return {"feel": rng.choice(list(FEELS))}
    low = rng.uniform(0.05, 0.6)
    return {"low": low, "high": rng.uniform(low, 1.0)}


def _task(rng: Random, watts: float) -> dict[str, Any]:
    minutes = log_uniform(rng, 0.2, 90)
    return {
        "wh": watts * minutes / 60,
        **maybe(
            rng,
            0.6,
            minutes=minutes,
            pieces=lambda: rng.randint(1, 20),
            runs=lambda: rng.randint(1, 4),
        ),
    }


def _short_run(rng: Random, watts: float) -> dict[str, Any]:
    return {
        "watts": watts,
        "seconds": log_uniform(rng, 2, 600),
        **maybe(rng, 0.6, times_per_day=lambda: rng.randint(1, 20)),
    }


def _charge_drop(rng: Random, watts: float) -> dict[str, Any]:
    hours = rng.uniform(1, 10)
    fallen = min(0.9, watts * hours / 2000 + 0.02)
    return {
        "supply_wh": 2000,
        "from": 1.0,
        "to": 1.0 - fallen,
        "hours": hours,
        **maybe(rng, 0.4, idle_w=5.0, efficiency=0.9, step=0.01, proven=lambda: rng.random() < 0.5),
    }


def _capture(rng: Random, watts: float) -> dict[str, Any]:
    hours = log_uniform(rng, 0.3, 80)
    pattern = rng.choice(["steady", "cycling", "modulating", "program"])
    duty = rng.uniform(0.1, 0.9)
    capture = {"pattern": pattern, "covered_h": hours, "wh": watts * duty * hours}
    if pattern == "cycling":
        capture |= {
            "idle_w": 1.0,
            "running_w": watts,
            "duty": duty,
            "period_min": 40.0,
            "whole_cycles": max(1, int(hours)),
            "cycle_mean_w": watts * duty,
        }
    if pattern == "program":
        capture["steps"] = [
            {"watts": watts, "minutes": 60 * duty * min(hours, 2)},
            {"watts": watts / 2, "minutes": 30.0, "duty": 0.4},
        ]
    return {
        **capture,
        **maybe(
            rng,
            0.4,
            start_peak_w=3 * watts,
            power_factor=0.7,
            rarer=lambda: rng.random() < 0.5,
            interval_s=1.0,
            active_h=hours / 2,
            high_w=1.2 * watts,
            duty_spread=0.05,
            days=int(hours // 24),
            day_spread=0.06,
        ),
    }


READINGS = {
    "label": _label,
    "spot": _spot,
    "start": _start,
    "energy": _energy,
    "tally": _tally,
    "duty": _duty,
    "task": _task,
    "short-run": _short_run,
    "charge-drop": _charge_drop,
    "capture": _capture,
}


def load_document(rng: Random) -> dict[str, Any]:
    """A load with its evidence; with a label, so that something is known at all."""
    return {
        "name": "Load",
        "kind": rng.choice(list(KINDS)),
        "readings": [reading_of(rng, 60, "label"), *readings(rng)],
        **maybe(
            rng,
            0.3,
            mains=lambda: {
                "volts": rng.choice([120, 230]),
                "hertz": 50,
                "split": rng.random() < 0.5,
            },
            setting=lambda: rng.choice(["low", "high"]),
            hours_per_day=lambda: rng.randint(0, 24),
            set_c=4,
            never_rarer=lambda: rng.random() < 0.5,
            runs_by=lambda: rng.choice(list(RUNS_BY)),
            uses_per_day=lambda: {"value": 6, **maybe(rng, 0.5, low=4, high=9, minutes=5)},
            dc=lambda: rng.random() < 0.5,
            volts=230,
            legs=lambda: rng.choice(["one", "both"]),
            wired=lambda: rng.random() < 0.5,
            cares=lambda: rng.choice(["life", "store"]),
        ),
    }


def battery(rng: Random) -> dict[str, Any]:
    volts = rng.choice([12.8, 25.6, 51.2])
    return {
        "chemistry": rng.choice(list(CHEMISTRIES)),
        "nominal_wh": log_uniform(rng, 80, 8000),
        "volts": volts,
        **maybe(
            rng,
            0.25,
            floor=lambda: rng.uniform(0, 0.4),
            capacity_factor=0.9,
            capacity_spread=0.04,
            start_charge=lambda: rng.uniform(0.5, 1.0),
            charge_efficiency=0.95,
            peukert_n=lambda: rng.uniform(1, 1.3),
            rated_hours=20,
            internal_ohm=lambda: log_uniform(rng, 0.001, 0.2),
            ohm_spread=0.1,
            cutoff_v=0.82 * volts,
            measured_c=20,
            peukert_spread=0.2,
            cold_spread=0.2,
            taper_spread=0.2,
        ),
    }


def inverter(rng: Random) -> dict[str, Any]:
    watts = log_uniform(rng, 150, 4000)
    return {
        "continuous_w": watts,
        **maybe(
            rng,
            0.4,
            surge_va=watts * rng.uniform(1, 2.5),
            surge_s=lambda: rng.uniform(1, 10),
            idle_w=lambda: rng.uniform(2, 40),
            idle_spread=0.1,
            efficiency=lambda: rng.uniform(0.8, 0.96),
            efficiency_spread=0.02,
            square_per_w=1e-5,
            square_spread=0.2,
            continuous_va=1.1 * watts,
            overload=[[1.15, 300], [1.5, 20]],
            waveform=lambda: rng.choice(["sine", "stepped"]),
            volts=lambda: rng.choice([120, 230]),
        ),
        **maybe(rng, 0.15, off=lambda: spans(rng, 1), off_unused=True),
    }


def outputs(rng: Random) -> list[dict[str, Any]]:
    return [
        {
            "name": f"out{number}",
            **maybe(
                rng,
                0.4,
                kind=lambda: rng.choice(list(OUTPUT_KINDS)),
                max_w=lambda: 240,
                idle_w=1.5,
                idle_spread=0.2,
                efficiency=0.9,
                efficiency_spread=0.03,
                off_unused=lambda: rng.random() < 0.5,
                off_when_idle=lambda: rng.random() < 0.5,
            ),
            "volts": rng.choice([5, 12, 24]),
            **maybe(rng, 0.3, max_a=10),
        }
        for number in range(rng.randint(0, 2))
    ]


def supply_tests(rng: Random, supply: dict[str, Any], names: list[str]) -> list[dict[str, Any]]:
    held = supply["battery"]["nominal_wh"]
    on = {"on": (FIRST_DAY - timedelta(days=rng.randrange(1, 400))).date().isoformat()}
    tests: list[dict[str, Any]] = []
    places = [
        *(["ac"] if "inverter" in supply else []),
        *(output["name"] for output in supply["outputs"]),
    ]
    for place in places:
        tests.append(
            {
                "type": "idle",
                "output": place,
                **rng.choice(
                    [{"watts": 3.0}, {"from": 1.0, "to": 0.95, "hours": 5.0, "step": 0.01}]
                ),
                **on,
            }
        )
    if "inverter" in supply:
        watts = supply["inverter"]["continuous_w"]
        pairs = [[share * watts, 6 + share * watts / 0.9] for share in (0.1, 0.3, 0.6, 0.9)]
        tests.append(
            {
                "type": "efficiency",
                "pairs": pairs[: rng.randint(1, 4)],
                "ac_limit": 0.01,
                "dc_limit": 0.01,
                **on,
            }
        )
    tests.append(
        {
            "type": "capacity",
            "wh": 0.8 * held,
            "hours": 10.0,
            "from": 1.0,
            "to": 0.1,
            "counted": "battery",
            **maybe(rng, 0.2, held_wh=0.9 * held, held_spread=0.04, step=0.02),
            **on,
        }
    )
    if names:
        tests.append(
            {
                "type": "together",
                "hours": 6.0,
                **rng.choice([{"wh": 0.1 * held}, {"watts": held / 60}]),
                **on,
                "loads": rng.sample(names, rng.randint(1, len(names))),
            }
        )
        if "inverter" in supply and supply["outputs"]:
            tests.append(
                {
                    "type": "route",
                    "load": names[0],
                    "output": supply["outputs"][0]["name"],
                    "hours": 6.0,
                    "ac": {"from": 1.0, "to": 0.8, "load_wh": 0.1 * held},
                    "dc": {"from": 1.0, "to": 0.85, "load_wh": 0.09 * held},
                    **on,
                }
            )
    return rng.sample(tests, rng.randint(0, len(tests)))


def plan_load(
    rng: Random, name: str, routes: list[str], start: datetime, hours: float
) -> dict[str, Any]:
    watts = log_uniform(rng, 2, 1800)
    load: dict[str, Any] = {"name": name, "route": rng.choice(routes)}
    if rng.random() < 0.2:
        load["profile"] = {
            "name": name,
            "kind": rng.choice(list(KINDS)),
            "readings": [reading_of(rng, watts, "label"), *readings(rng)],
        }
    else:
        load["running_w"] = watts
        load |= maybe(
            rng,
            0.3,
            resting_w=watts * rng.uniform(0, 0.3),
            duty=rng.random,
            cycle_min=lambda: log_uniform(rng, 2, 200),
            start_va=4 * watts,
            spread=0.1,
            power_factor=lambda: rng.uniform(0.5, 1),
            kind=lambda: rng.choice(list(KINDS)),
        )
    load |= maybe(
        rng,
        0.15,
        start_s=0.5,
        watts_spread=0.05,
        duty_spread=0.1,
        task_spread=0.1,
        start_spread=0.3,
        day_spread=0.07,
        day_swing=0.12,
        wander=lambda: rng.choice([0.1, 0.3]),
        runs_by=lambda: rng.choice(list(RUNS_BY)),
        uses_per_day=lambda: rng.choice([0.5, 6, 40]),
        power_factor_spread=0.05,
        set_c=lambda: rng.choice([4, 37]),
        measured_room_c=22,
        measured_set_c=4,
        priority=lambda: rng.choice(["must", "should", "nice"]),
        count=lambda: rng.randint(1, 4),
        cares=lambda: rng.choice(["", "life", "store", "hard-wired"]),
        wired=lambda: rng.random() < 0.5,
        legs=lambda: rng.choice(["one", "both"]),
        volts=230,
        can=lambda: rng.sample(routes, rng.randint(1, len(routes))),
        settings=[{"name": "low", "running_w": watts / 2, "duty": 0.5}],
        flexible=lambda: spans(rng, 1),
        alone=True,
        meter="Mine",
        meter_spread=0.01,
        adapter=0.88,
        adapter_spread=0.05,
        spread_after=0.04,
        start_tested=lambda: rng.choice(["held", "complained", "tripped", "refused"]),
        start_beside_w=50.0,
        start_times=3,
    )
    load |= rng.choice([{"pull_down_wh": watts}, {"pull_down_h": 2.0}, *[dict[str, float]()] * 8])
    how = rng.choice(["always", "always", "between", "tasks", "a day", "charges"])
    if how == "between":
        load["use"] = {"between": spans(rng)}
    elif how in ("tasks", "a day"):
        tasks = [moment(rng, start, hours) for _ in range(rng.randint(1, 3))]
        load["use"] = {"tasks": rng.randint(1, 6) if how == "a day" else tasks}
        load["steps"] = [
            {
                "watts": watts * rng.uniform(0.2, 1),
                "minutes": log_uniform(rng, 0.1, 60),
                **maybe(rng, 0.3, duty=lambda: rng.uniform(0.2, 1)),
            }
            for _ in range(rng.randint(1, 3))
        ]
    elif how == "charges":
        load["use"] = {"charges": [moment(rng, start, hours)]}
        load["charge"] = {
            "pack_wh": 60,
            "watts": 45,
            **maybe(rng, 0.5, missing=0.7, efficiency=0.85),
        }
    elif rng.random() < 0.3:
        load["use"] = "always"
    return load


def source(rng: Random, supply: dict[str, Any]) -> dict[str, Any]:
    kind = rng.choice(["sun", "window", "battery", "wind", "mains"])
    inputs = [entry["name"] for entry in supply["inputs"]]
    common = {
        "kind": kind,
        **maybe(
            rng,
            0.3,
            name=lambda: rng.choice(["Roof", "Mains"]),
            **({"input": lambda: rng.choice(inputs)} if inputs else {}),
        ),
    }
    if kind == "window":
        return {
            **common,
            "watts": log_uniform(rng, 20, 2000),
            "between": spans(rng),
            **maybe(rng, 0.3, litres_per_kwh=0.4, spread=0.1, measured_w=150),
        }
    if kind == "wind":
        curve = [[3, 0], [8, 120], [12, 300], [20, 280]]
        power: dict[str, Any] = rng.choice([{"rated_w": 300}, {"curve": curve}])
        return {**common, **power, "mean_speed": rng.uniform(2, 9), **maybe(rng, 0.4, spread=0.1)}
    if kind == "mains":
        return {
            **common,
            "watts": log_uniform(rng, 50, 1000),
            "on_h": rng.uniform(0.5, 6),
            "off_h": rng.uniform(0.5, 12),
            "comes": rng.choice(["14:00", "2026-08-11T05:30:00+00:00"]),
            **maybe(rng, 0.4, spread=0.1, battery_only=lambda: rng.random() < 0.5),
        }
    if kind == "battery":
        return {**common, "nominal_wh": 500, "max_w": 100, **maybe(rng, 0.4, efficiency=0.8)}
    sun = {
        **common,
        "latitude": rng.uniform(-60, 60),
        **maybe(
            rng,
            0.4,
            longitude=lambda: rng.uniform(-20, 20),
            clouds=rng.random,
            spread=0.2,
            connected=lambda: spans(rng, 1),
            shade=lambda: spans(rng, 1),
            **{"yield": 0.7},
        ),
        **maybe(
            rng,
            0.2,
            measured=lambda: [
                {"on": "2026-06-20", "wh": rng.uniform(50, 300)},
                {"at": "2026-06-21T12:10:00+00:00", "watts": rng.uniform(20, 90)},
            ],
        ),
    }
    one = {"rated_w": 200, **maybe(rng, 0.4, tilt=20, azimuth=170)}
    return {**sun, **({"strings": [one, {"rated_w": 100}]} if rng.random() < 0.2 else one)}


def supply_document(rng: Random) -> dict[str, Any]:
    supply: dict[str, Any] = {
        "battery": battery(rng),
        "outputs": outputs(rng),
        "inputs": [
            {"name": name, **maybe(rng, 0.5, max_w=300, controller_a=20, max_a=10), "volts": 24}
            for name in rng.sample(["sun", "window", "mains"], rng.randint(0, 2))
        ],
        **maybe(rng, 0.1, total_max_w=2000, name="Case"),
    }
    if rng.random() < 0.85 or not supply["outputs"]:
        supply["inverter"] = inverter(rng)
    return supply


def run_of(rng: Random, supply: dict[str, Any], names: list[str]) -> dict[str, Any]:
    why = rng.choice(["floor", "cutoff", "trip", "by hand", "still on", "counted"])
    places = [
        "battery",
        *(["ac"] if "inverter" in supply else []),
        *(output["name"] for output in supply["outputs"]),
    ]
    loads: list[Any] = rng.sample(names, rng.randint(1, len(names)))
    counted = maybe(
        rng, 0.4, wh=0.5 * supply["battery"]["nominal_wh"], counted=lambda: rng.choice(places)
    )
    if why == "counted":
        counted["wh"] = 0.2 * supply["battery"]["nominal_wh"]
    return {
        "hours": log_uniform(rng, 0.5, 60),
        "from": 1.0,
        "to": rng.uniform(0.0, 0.5),
        "why": why,
        **counted,
        "loads": [*loads, {"watts": 20}] if rng.random() < 0.2 else loads,
        **maybe(
            rng,
            0.3,
            room_c=18,
            at=(FIRST_DAY - timedelta(days=90)).isoformat(),
            begins=lambda: rng.choice(["settled", "warm", "cold"]),
            pull_down_wh=lambda: {loads[0]: 120},
            legs=lambda: [{"h": 0, "loads": loads}, {"h": 0.3, "loads": [loads[0], {"watts": 5}]}],
            wh_in=60,
            check_ins=lambda: [{"h": 0.2, "percent": 90}, {"h": 0.4, "bars": 4, "of": 5}],
        ),
    }


def plan_document(rng: Random, most_loads: int = 12) -> dict[str, Any]:
    """A plan with all that it may have."""
    start = FIRST_DAY + timedelta(minutes=15 * rng.randrange(96))
    needed = rng.choice([log_uniform(rng, 0.1, 60), float(rng.randint(1, 60))])
    supply = supply_document(rng)
    routes = [
        *(["ac"] if "inverter" in supply else []),
        *(output["name"] for output in supply["outputs"]),
    ]
    names = [f"Load {number}" for number in range(rng.randint(1, most_loads))]
    supply["tests"] = supply_tests(rng, supply, names) if rng.random() < 0.4 else []
    return {
        "start": start.isoformat(),
        "hours": needed * rng.uniform(1, 1.5),
        "needed_hours": needed,
        "supply": supply,
        "loads": [plan_load(rng, name, routes, start, needed) for name in names],
        "sources": [source(rng, supply) for _ in range(rng.choice([0, 0, 1, 2]))],
        "runs": [run_of(rng, supply, names) for _ in range(rng.choice([0, 0, 0, 1, 2]))],
        **maybe(
            rng,
            0.4,
            room_c=lambda: rng.uniform(-5, 35),
            room_swing_c=4,
            room_warmest="14:30",
            odds=0.8,
            name="Night",
        ),
    }


def rich_plan(rng: Random) -> dict[str, Any]:
    """A plan as people have it: a day and more, loads that the supply carries, all sorts of keys.

    What is random is which keys are given, not whether anything runs at all.
    """
    start = FIRST_DAY.replace(hour=18)
    battery_: dict[str, Any] = {
        "chemistry": rng.choice(["lfp", "lithium", "lead"]),
        "nominal_wh": 3000.0,
        "volts": 25.6,
        **maybe(
            rng,
            0.3,
            floor=0.1,
            capacity_factor=0.9,
            capacity_spread=0.04,
            start_charge=0.95,
            charge_efficiency=0.95,
            peukert_n=1.15,
            rated_hours=20,
            internal_ohm=0.02,
            ohm_spread=0.1,
            cutoff_v=21.0,
            measured_c=20,
            peukert_spread=0.2,
            cold_spread=0.2,
            taper_spread=0.2,
        ),
    }
    supply: dict[str, Any] = {
        "battery": battery_,
        "inverter": {
            "continuous_w": 1200.0,
            **maybe(
                rng,
                0.3,
                surge_va=2400.0,
                surge_s=4.0,
                idle_w=12.0,
                idle_spread=0.1,
                efficiency=0.9,
                efficiency_spread=0.02,
                square_per_w=2e-5,
                square_spread=0.2,
                continuous_va=1300.0,
                overload=[[1.15, 300], [1.5, 60]],
                waveform="stepped",
                volts=230,
                off_unused=True,
            ),
        },
        "outputs": [
            {
                "name": "dc12",
                "volts": 12,
                **maybe(
                    rng,
                    0.3,
                    kind="converter",
                    max_w=120.0,
                    max_a=10.0,
                    idle_w=1.5,
                    idle_spread=0.2,
                    efficiency=0.9,
                    efficiency_spread=0.03,
                    off_unused=True,
                    off_when_idle=True,
                ),
            }
        ],
        "inputs": [
            {
                "name": "sun",
                "volts": 40,
                **maybe(rng, 0.5, max_w=150.0, max_a=4.0, controller_a=6.0),
            }
        ],
        **maybe(rng, 0.2, total_max_w=1500.0, name="Case"),
    }
    names = ["Box", "Lamp", "Pump", "Laptop"]
    supply["tests"] = supply_tests(rng, supply, names) if rng.random() < 0.5 else []
    box: dict[str, Any] = {
        "name": "Box",
        **rng.choice(
            [
                {
                    "running_w": 90.0,
                    "duty": 0.4,
                    **maybe(
                        rng,
                        0.4,
                        resting_w=2.0,
                        cycle_min=45.0,
                        power_factor=0.65,
                        start_va=700.0,
                        start_s=0.4,
                        spread=0.08,
                        watts_spread=0.04,
                        duty_spread=0.08,
                        start_spread=0.3,
                        day_spread=0.07,
                        day_swing=0.12,
                        power_factor_spread=0.05,
                        kind="compressor-fixed",
                        volts=230,
                    ),
                },
                {
                    "profile": {
                        "name": "Box",
                        "kind": "compressor-fixed",
                        "set_c": 4,
                        "readings": [
                            reading_of(rng, 90, "label"),
                            reading_of(rng, 90, "spot"),
                            {"type": "energy", "wh": 700, "hours": 21.5, "room_c": 22},
                            *readings(rng, 2),
                        ],
                    }
                },
            ]
        ),
        **maybe(
            rng,
            0.3,
            set_c=4,
            measured_room_c=22,
            measured_set_c=5,
            pull_down_wh=60.0,
            priority="must",
            cares="store",
            count=2,
            start_tested="held",
            start_beside_w=30.0,
            start_times=2,
            start_ran_s=90.0,
        ),
    }
    lamp = {
        "name": "Lamp",
        "running_w": 38.0,
        "route": rng.choice(["ac", "dc12"]),
        "use": {"between": [["18:30", "22:30"], ["06:00", "08:00"]]},
        **maybe(
            rng,
            0.3,
            spread=0.1,
            watts_spread=0.1,
            adapter=0.88,
            adapter_spread=0.05,
            power_factor=0.6,
            va_spread=0.05,
            priority="nice",
            meter="Mine",
            meter_spread=0.01,
            can=["dc12"],
            volts=12,
            settings=[{"name": "low", "running_w": 20.0, "duty": 1.0}],
        ),
    }
    pump = {
        "name": "Pump",
        "running_w": 400.0,
        "use": {"tasks": ["19:15", "07:15"]},
        "steps": [{"watts": 400.0, "minutes": 12.0}, {"watts": 250.0, "minutes": 6.0, "duty": 0.5}],
        **maybe(
            rng,
            0.3,
            task_spread=0.1,
            watts_spread=0.05,
            start_va=1500.0,
            spread=0.1,
            start_spread=0.3,
            flexible=[["07:00", "20:00"]],
            alone=True,
            power_factor=0.8,
            priority="nice",
        ),
    }
    laptop = {
        "name": "Laptop",
        "route": "dc12",
        "use": {"charges": ["19:00"]},
        "charge": {"pack_wh": 52.0, "watts": 45.0, **maybe(rng, 0.5, missing=0.8, efficiency=0.85)},
        **maybe(rng, 0.3, running_w=45.0, count=2, task_spread=0.1),
    }
    sun = {
        "kind": "sun",
        "rated_w": 220,
        "latitude": 40.0,
        **maybe(
            rng,
            0.4,
            name="Roof",
            longitude=2.0,
            tilt=20,
            azimuth=170,
            clouds=0.3,
            spread=0.2,
            connected=[["09:00", "15:00"]],
            shade=[["13:00", "14:30"]],
            **{"yield": 0.7},
        ),
        **maybe(
            rng,
            0.2,
            measured=lambda: [
                {"on": "2026-06-20", "wh": rng.uniform(50, 300)},
                {"at": "2026-06-21T12:10:00+00:00", "watts": rng.uniform(20, 90)},
            ],
        ),
    }
    window = {
        "kind": "window",
        "watts": 150.0,
        "between": [["20:00", "22:00"]],
        **maybe(rng, 0.4, litres_per_kwh=0.4, spread=0.1, measured_w=140.0),
    }
    mains = {
        "kind": "mains",
        "watts": 120.0,
        "on_h": 2.0,
        "off_h": 6.0,
        "comes": "21:00",
        **maybe(rng, 0.4, spread=0.1, battery_only=lambda: rng.random() < 0.5),
    }
    other = {
        "kind": "battery",
        "nominal_wh": 400.0,
        "max_w": 90.0,
        **maybe(rng, 0.5, efficiency=0.8),
    }
    run = {
        "hours": 27.0,
        "from": 0.98,
        "to": 0.1,
        "why": rng.choice(["floor", "by hand"]),
        "loads": ["Box", "Lamp"],
        **maybe(rng, 0.4, wh=2100.0, counted="battery", room_c=18, at="2026-08-09T18:00:00+00:00"),
    }
    return {
        "start": start.isoformat(),
        "hours": 27.0,
        "needed_hours": 24.0,
        "supply": supply,
        "loads": [box, lamp, pump, laptop],
        "sources": rng.choice(
            [[], [], [sun], [sun], [window], [mains], [sun, window], [other], [sun, mains]]
        ),
        "runs": rng.choice([[], [], [run]]),
        **maybe(
            rng, 0.4, room_c=30.0, room_swing_c=4.0, room_warmest="14:30", odds=0.8, name="Night"
        ),
    }


def check_in(rng: Random, hours: float, places: list[str]) -> dict[str, Any]:
    seen = maybe(
        rng,
        0.35,
        percent=lambda: rng.uniform(5, 100),
        ah=lambda: rng.uniform(1, 50),
        wh=lambda: rng.uniform(1, 900),
        wh_in=lambda: rng.uniform(0, 100),
        volts=12.9,
        watts=44,
        watts_in=30,
        display_h=9,
        room_c=18,
        inside_c=5,
        note="looked",
        amps=3.1,
        counted=lambda: rng.choice(places),
        leg=lambda: rng.choice(["outdoors", "start"]),
    )
    return {"h": hours, **seen, **(rng.choice([{}, {"bars": rng.randint(0, 5), "of": 5}]))}


def trial_document(rng: Random) -> dict[str, Any]:
    """A trial of a plan, or of a battery with what it is expected to give."""
    if rng.random() < 0.5:
        plan = plan_document(rng, 4)
        supply = plan["supply"]
        trial: dict[str, Any] = {"plan": plan}
        places = [
            "battery",
            *(["ac"] if "inverter" in supply else []),
            *(output["name"] for output in supply["outputs"]),
        ]
    else:
        places = ["battery"]
        trial = {
            "supply": {"battery": battery(rng)},
            **maybe(
                rng,
                0.7,
                expected_w=lambda: rng.choice(
                    [{"value": 40}, {"value": 40, "spread": 0.2}, {"by_hour": [30, 50, 20]}]
                ),
            ),
        }
        trial |= maybe(rng, 0.4, start_charge=0.95, stop_at=0.05, start_step=0.2)
    last = log_uniform(rng, 0.5, 60)
    moments = sorted(round(rng.uniform(0, last), 2) for _ in range(rng.randint(0, 5)))
    trial["check_ins"] = [check_in(rng, hours, places) for hours in dict.fromkeys(moments)]
    if rng.random() < 0.3:
        trial["ended"] = {
            "h": last + 0.1,
            "why": rng.choice(["floor", "cutoff", "trip", "by hand"]),
        }
    return trial
