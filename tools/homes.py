"""Households whose appliances people, water and thermostats use, on batteries of our own making.

Each has what a person could have noted before an outage, and how long its supply then truly ran.
See :mod:`tools.physics` for the appliances; nothing is shared with the core.
``python -m tools.homes [HOMES] [FIRST]``; of runs made before a plan,
``python -m tools.homes runs [HOMES] [FIRST]``; of a load after a run of it alone,
``python -m tools.homes alone [HOMES] [FIRST]``
"""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterable
from contextlib import ExitStack
from dataclasses import dataclass
from multiprocessing import Pool
from typing import Any

import numpy as np

from needle.measure.analysis import analyse, as_reading
from needle.measure.capture import read_capture
from needle.plan.documents.parse import parse_plan
from needle.plan.draws.patterns import mean_w
from needle.plan.energy.runs import weighed
from needle.plan.energy.simulate import simulate
from needle.plan.verdict import verdict_of
from needle.trial.prediction import weighted_range
from tools.physics import BY_THEMSELVES, BY_USE, DAY_MIN, SORTS, Appliance
from tools.scores import Score, reliability

BEFORE_DAYS, PLAN_DAYS = 8, 6
BEFORE_MIN = BEFORE_DAYS * DAY_MIN
#: Simulated runs of a plan; hours under which it is short.
DRAWS, SHORT_H = 100, 8.0
#: Share of what goes into a battery that comes out again.
STORED = 0.95
Range = tuple[float, float, float]
_NO_RANGE: Range = (0.0, 0.0, 0.0)
EVIDENCE = ("label", "spot", "tally", "run", "capture", "days")
#: Standard deviation of how well somebody knows when a count began and ended, min.
CLOCK_MIN = 2.0
#: Cycles of these are heard.
_HEARD = ("box", "heater", "water tank", "float pump", "variable box")


@dataclass
class Bank:
    """A true battery: what a minute's watts take of its charge."""

    wh: float
    n: float = 1.0
    slow_gain: float = 0.0

    def falls(self, watts: np.ndarray) -> np.ndarray:
        """Share of the charge that each minute takes."""
        rate = watts * 20 / self.wh
        if self.n <= 1:
            return watts / 60 / self.wh
        # Slow discharge gives more, up to a limit of its own.
        stretch = np.maximum(rate ** (self.n - 1), 1 - self.slow_gain)
        return watts * stretch / 60 / self.wh

    def hours(self, watts: np.ndarray, floor: float) -> float:
        """Hours until the floor; where watts are below 0, they charge it as far as it is not full.

        A part of what goes in is lost.
        """
        level = np.cumsum(self._steps(watts))
        # What would lie above full is lost: the level never falls under its start.
        charge = 1 - (level - np.minimum(0.0, np.minimum.accumulate(level)))
        below = np.flatnonzero(charge <= floor)
        return float(below[0] + 1) / 60 if len(below) else float(len(watts)) / 60

    def refused_wh(self, watts: np.ndarray) -> float:
        """Wh that sources could have given while it was full."""
        lowest = min(0.0, float(np.cumsum(self._steps(watts)).min(initial=0.0)))
        return -lowest * self.wh / STORED

    def _steps(self, watts: np.ndarray) -> np.ndarray:
        """Share of the charge that each minute takes, or gives where watts are below 0."""
        taken = self.falls(np.maximum(0.0, watts))
        return np.asarray(taken + STORED * np.minimum(0.0, watts) / 60 / self.wh)


@dataclass
class Home:
    """A household's plan document, and what truly happened.

    Attributes
    ----------
    document : dict
    true_h : float
        Hours to the floor.
    evidence, use, chemistry : str
        Kind of evidence; "by use" if what people or water use takes most, else "by themselves".
    tested : bool
    parts : list of Appliance
    """

    document: dict[str, Any]
    true_h: float
    evidence: str
    use: str
    chemistry: str
    tested: bool
    parts: list[Appliance]
    bank: Bank
    idle_w: float
    efficiency: float
    floor: float


def _gain(rng: np.random.Generator) -> float:
    return float(1 + rng.uniform(-0.01, 0.01))


def _energy(
    rng: np.random.Generator, part: Appliance, gain: float, hours: tuple[float, float]
) -> dict[str, Any]:
    """A counter over some hours, whose beginning and end are known to a few minutes."""
    if part.windows:
        first, length = _within_use(rng, part, hours)
    else:
        length = int(60 * np.exp(rng.uniform(*np.log(hours))))
        first = int(rng.integers(0, BEFORE_MIN - length))
    wh = float(part.watts[first : first + length].sum()) / 60 * gain
    noted = max(1.0, length + rng.normal(0, CLOCK_MIN)) / 60
    step = 10 if rng.random() < 0.7 else 1
    return {
        "type": "energy",
        "wh": step * int(wh / step + rng.random()),
        "step_wh": step,
        "hours": round(noted, 2),
        "instrument": "plug",
    }


def _within_use(
    rng: np.random.Generator, part: Appliance, hours: tuple[float, float]
) -> tuple[int, int]:
    """First minute and length of a measurement while it is used."""
    starts = np.flatnonzero(np.diff(part.running.astype(np.int8)) == 1) + 1
    start = int(rng.choice(starts[starts < BEFORE_MIN - DAY_MIN]))
    ends = np.flatnonzero(~part.running[start:])
    use = int(ends[0]) if len(ends) else 60
    length = int(min(use, 60 * np.exp(rng.uniform(*np.log(hours)))))
    return start + int(rng.integers(0, max(1, use - length + 1))), max(20, length)


def _capture(
    rng: np.random.Generator, part: Appliance, gain: float, hours: tuple[float, float]
) -> dict[str, Any]:
    length = int(60 * rng.uniform(*hours))
    first = int(rng.integers(0, BEFORE_MIN - length))
    if part.windows:
        first, length = _within_use(rng, part, (2.0, 8.0))
    watts = part.watts[first : first + length] * gain
    rows = "\n".join(f"{60 * n},{value:.1f}" for n, value in enumerate(watts))
    capture = read_capture(f"time,watts\n{rows}\n".encode())
    return {**as_reading(analyse(capture), capture.interval_s()), "instrument": "plug"}


def _tally(rng: np.random.Generator, part: Appliance) -> dict[str, Any] | None:
    first = int(rng.integers(0, BEFORE_MIN - 2 * DAY_MIN))
    on = part.running[first : first + 2 * DAY_MIN].astype(np.int8)
    changes = np.flatnonzero(np.diff(on))[: 2 * int(rng.integers(2, 7)) + 1]
    if len(changes) < 3 or changes[-1] > 16 * 60:
        return None  # nobody listens for longer
    edges = [
        ["on" if on[at + 1] else "off", max(0.0, float(60 * at + rng.uniform(-3, 3)))]
        for at in changes
    ]
    return {"type": "tally", "edges": edges}


def _spot(rng: np.random.Generator, part: Appliance, gain: float) -> list[dict[str, Any]]:
    moments = np.flatnonzero(part.running[:BEFORE_MIN])
    if not len(moments):
        return []
    watts = float(part.watts[rng.choice(moments)]) * gain
    spots = [
        {
            "type": "spot",
            "state": "running",
            "watts": round(watts, 1),
            "pf": round(part.power_factor, 2),
            "instrument": "plug",
        }
    ]
    if part.rests_w > 0:
        spots.append({"type": "spot", "state": "resting", "watts": round(part.rests_w, 1)})
    return spots


def readings(rng: np.random.Generator, part: Appliance, evidence: str) -> list[dict[str, Any]]:
    """What a person noted of an appliance in the days before."""
    gain = _gain(rng)
    found: list[dict[str, Any]] = [{"type": "label", "watts": round(part.label_w)}]
    if part.sort == "kettle":
        return found + _uses(rng, part, gain, evidence)
    if evidence == "label":
        return found
    found += _spot(rng, part, gain)
    if evidence == "tally" and part.sort in _HEARD:
        tally = _tally(rng, part)
        return found + ([tally] if tally else [])
    if evidence == "run":
        return [*found, _energy(rng, part, gain, (2.0, 24.0))]
    if evidence == "capture":
        return [*found, _capture(rng, part, gain, (6.0, 30.0))]
    if evidence == "days":
        return [*found, _capture(rng, part, gain, (72.0, 76.0))]
    return found


def _uses(
    rng: np.random.Generator, part: Appliance, gain: float, evidence: str
) -> list[dict[str, Any]]:
    """Of a kettle: one use or a few, or days of a counter."""
    if evidence == "run":
        return [_energy(rng, part, gain, (6.0, 24.0))]
    if evidence in ("capture", "days"):
        return [_capture(rng, part, gain, (20.0, 30.0) if evidence == "capture" else (72.0, 76.0))]
    count = int(rng.integers(1, 4))
    starts = part.events[part.events < BEFORE_MIN - 60]
    starts = starts[: len(starts) // count * count]
    if not len(starts):
        return []
    first = int(rng.integers(0, max(1, len(starts) - count)))
    wh = sum(float(part.watts[at : at + 12].sum()) / 60 for at in starts[first : first + count])
    return [
        {
            "type": "task",
            "wh": round(wh * gain, 1),
            "runs": count,
            "minutes": round(part.event_min * count, 1),
            "instrument": "plug",
        }
    ]


def _load(rng: np.random.Generator, part: Appliance, evidence: str, name: str) -> dict[str, Any]:
    profile: dict[str, Any] = {
        "name": name,
        "kind": part.kind,
        "readings": readings(rng, part, evidence),
    }
    # Not everybody says what makes it run.
    if part.runs_by and not part.windows and rng.random() < 0.6:
        profile["runs_by"] = part.runs_by
    load: dict[str, Any] = {"name": name, "route": "ac", "profile": profile, "use": "always"}
    if part.windows:
        load["use"] = {"between": part.windows}
    elif any(reading["type"] == "task" for reading in profile["readings"]):
        load["use"] = {"tasks": int(part.said_a_day or 1)}
    return load


def _out_w(watts: np.ndarray, idle_w: float, efficiency: float) -> np.ndarray:
    return np.asarray(idle_w + watts / efficiency)


def _bank(rng: np.random.Generator, chemistry: str, nominal_wh: float) -> Bank:
    """What is truly behind a label."""
    if chemistry == "lead":
        wh = nominal_wh * rng.normal(0.93, 0.06)
        return Bank(wh, rng.uniform(1.08, 1.22), rng.uniform(0.0, 0.12))
    return Bank(nominal_wh * rng.normal(0.93, 0.05))


def _led_by(parts: list[Appliance]) -> str:
    """Whether what people or water use takes most of a home's energy."""
    used = sum(part.watts.mean() for part in parts if part.sort in BY_USE)
    by_use = used > sum(part.watts.mean() for part in parts) / 2
    return "by use" if by_use else "by themselves"


def home(seed: int, by_use: bool | None = None, evidence: str = "") -> Home:
    """One household; all of its loads have the same kind of evidence."""
    rng = np.random.default_rng([seed, 2027])
    evidence = evidence or EVIDENCE[seed % len(EVIDENCE)]
    tested = bool(seed // len(EVIDENCE) % 2)
    chemistry = "lead" if rng.random() < 0.4 else "lfp"
    many = int(rng.integers(1, 5))
    of = BY_USE if by_use else BY_THEMSELVES if by_use is not None else SORTS
    sorts = rng.choice(list(of), size=many)
    minutes = (BEFORE_DAYS + PLAN_DAYS) * DAY_MIN
    parts = [SORTS[str(sort)](rng, minutes) for sort in sorts]
    start = int(rng.integers(0, DAY_MIN))
    ahead = np.sum([part.watts[BEFORE_MIN + start :] for part in parts], axis=0)
    wanted_h = float(np.exp(rng.uniform(np.log(3), np.log(60))))
    continuous = float(np.ceil(3.0 * max(ahead.max(), 50) / 100) * 100)
    idle, efficiency = continuous * 0.009 * rng.lognormal(0, 0.4), rng.uniform(0.86, 0.93)
    out = _out_w(ahead, idle, efficiency)
    mean_w = max(5.0, float(out[: int(wanted_h * 60)].mean()))
    floor = 0.3 if chemistry == "lead" else 0.1
    nominal = round(mean_w * wanted_h / (1 - floor) / 0.93 * rng.uniform(0.85, 1.2), -1) + 10
    bank = _bank(rng, chemistry, nominal)
    battery: dict[str, Any] = {
        "chemistry": chemistry,
        "nominal_wh": nominal,
        "volts": 51.2,
        "floor": floor,
    }
    inverter: dict[str, Any] = {"continuous_w": continuous, "surge_va": 6 * continuous + 12000}
    supply: dict[str, Any] = {"battery": battery, "inverter": inverter}
    if tested:
        supply["tests"] = _tests(rng, bank, nominal, idle)
        inverter |= {
            "efficiency": efficiency * (1 + rng.normal(0, 0.01)),
            "efficiency_spread": 0.01,
        }
    loads = [_load(rng, part, evidence, f"{part.sort} {n}") for n, part in enumerate(parts)]
    # Whoever buys a battery errs: what is needed is no more than loosely what it gives.
    needed_h = wanted_h * float(np.exp(rng.normal(0, 0.5)))
    document = {
        "start": f"2027-02-{1 + BEFORE_DAYS:02d}T{start // 60:02d}:{start % 60:02d}:00+00:00",
        "hours": min(PLAN_DAYS * 24.0 - 24, max(12.0, 3 * wanted_h, 1.2 * needed_h)),
        "needed_hours": min(needed_h, PLAN_DAYS * 20.0),
        "supply": supply,
        "loads": loads,
    }
    true_h = bank.hours(out, floor)
    return Home(
        document,
        true_h,
        evidence,
        _led_by(parts),
        chemistry,
        tested,
        parts,
        bank,
        float(idle),
        float(efficiency),
        floor,
    )


def _tests(
    rng: np.random.Generator, bank: Bank, nominal: float, idle: float
) -> list[dict[str, Any]]:
    """A discharge from full to empty at a rate of its own, and an idle reading."""
    watts = nominal / rng.uniform(4, 16)
    hours = 1 / float(bank.falls(np.array([watts]))[0]) / 60
    wh = watts * hours * _gain(rng)
    return [
        {
            "type": "capacity",
            "log": [[round(hours, 2), None, round(wh, 1)]],
            "counted": "battery",
            "from": 1.0,
            "to": 0.0,
        },
        {"type": "idle", "watts": round(idle * _gain(rng), 1)},
    ]


#: Sorts of runs that are made some days before the plan.
RUNS = ("plain", "legs", "sun", "pulled down", "still on")
#: Shortest run of one load alone that is judged, h.
LEAST_ALONE_H = 4.0
#: Minute at which they begin.
RUN_MIN = DAY_MIN + 7 * 60


def made_run(made: Home, sort: str, seed: int) -> dict[str, Any] | None:
    """A run that was made before the plan, as its document has it; None where it lasts too long."""
    rng = np.random.default_rng([seed, 31])
    names = [load["name"] for load in made.document["loads"]]
    minutes = BEFORE_MIN - RUN_MIN
    watts = [part.watts[RUN_MIN:BEFORE_MIN] for part in made.parts]
    total = np.sum(watts, axis=0)
    run: dict[str, Any] = {"from": 1.0, "to": made.floor, "why": "floor", "loads": names}
    if sort == "legs":
        change = int(rng.uniform(0.2, 0.6) * 60 * made.true_h)
        total = np.where(np.arange(minutes) < change, total, watts[0])
        run.pop("loads")
        run["legs"] = [{"h": 0, "loads": names}, {"h": change / 60, "loads": names[:1]}]
    pulled_w = np.zeros(minutes)
    if sort == "pulled down":
        pulled_w[: int(rng.uniform(30, 180))] = rng.uniform(60, 200)
        wh = float(pulled_w.sum()) / 60 * rng.normal(1, 0.05)
        run |= {"begins": "warm", "pull_down_wh": {names[0]: wh}}
    out_w = _out_w(total + pulled_w, made.idle_w, made.efficiency)
    if sort == "sun":
        into_w = np.zeros(minutes)
        first = int(rng.integers(30, 300))
        into_w[first : first + int(rng.uniform(60, 300))] = rng.uniform(0.3, 0.9) * out_w.mean()
        out_w = out_w - into_w
        ran = int(60 * made.bank.hours(out_w, made.floor))
        run["wh_in"] = float(into_w[:ran].sum()) / 60 - made.bank.refused_wh(out_w[:ran])
    hours = made.bank.hours(out_w, made.floor)
    late = sort == "legs" and run["legs"][1]["h"] >= hours
    if hours >= minutes / 60 or late:
        return None
    if sort == "still on":
        hours *= rng.uniform(0.5, 0.95)
        run["why"] = "still on"
    start = f"2027-02-{1 + RUN_MIN // DAY_MIN:02d}T{RUN_MIN // 60 % 24:02d}:00:00+00:00"
    return {**run, "hours": round(hours, 2), "at": start}


def judge_alone(seed: int) -> tuple[str, float, Range, Range]:
    """True mean W of a load, and its range without and with a run of it alone; "" where none."""
    made = home(seed)
    part, load = made.parts[0], made.document["loads"][0]
    out_w = _out_w(part.watts[RUN_MIN:BEFORE_MIN], made.idle_w, made.efficiency)
    hours = made.bank.hours(out_w, made.floor)
    if part.windows or load["use"] != "always" or hours >= len(out_w) / 60 or hours < LEAST_ALONE_H:
        return "", 0.0, _NO_RANGE, _NO_RANGE
    run = {"from": 1.0, "to": made.floor, "why": "floor", "loads": [load["name"]], "hours": hours}
    document = {**made.document, "loads": [load]}
    ranges = []
    for runs in ([], [run]):
        plan = parse_plan({**document, "runs": runs})
        samples, weight, _ = weighed(plan, 1)
        ranges.append(weighted_range(mean_w(plan.loads[0], samples), weight))
    tested = "tested" if made.tested else "not tested"
    return f"alone, {_led_by([part])}, {tested}", float(part.watts.mean()), ranges[0], ranges[1]


def judge_run(asked: tuple[int, str]) -> tuple[str, float, Range, Range]:
    """True hours of a plan; its range without and with a run that was made before."""
    seed, sort = asked
    made = home(seed)
    run = made_run(made, sort, seed)
    if run is None or made.true_h > 100:
        return "", 0.0, _NO_RANGE, _NO_RANGE
    plain = simulate(parse_plan(made.document), DRAWS).runtime
    rested = simulate(parse_plan({**made.document, "runs": [run]}), DRAWS).runtime
    return f"{sort}, {made.use}", made.true_h, plain, rested


def table_of_runs(count: int, first: int = 0) -> None:
    """Print how plans stood with and without a run that was made days before."""
    seeds = range(first, first + count)
    _print_with_and_without(judge_run, [(seed, RUNS[seed % len(RUNS)]) for seed in seeds])


def table_of_alone(count: int, first: int = 0) -> None:
    """Print how a load's mean stood with and without a run of it alone."""
    _print_with_and_without(judge_alone, range(first, first + count))


def _print_with_and_without(
    judge: Callable[[Any], tuple[str, float, Range, Range]], asked: Iterable[Any]
) -> None:
    scores: dict[str, Score] = {}
    with Pool(os.cpu_count() or 1) as pool:
        for name, truth, plain, rested in pool.imap(judge, asked, chunksize=4):
            if name:
                scores.setdefault(f"{name}: without", Score()).add(plain, truth)
                scores.setdefault(f"{name}: resting on it", Score()).add(rested, truth)
    for name, score in sorted(scores.items()):
        print(score.line(name))


def judge_home(seed: int) -> tuple[Home, tuple[float, float, float], float]:
    """A home, its plan's hours, and the chance said."""
    made = home(seed)
    outcome = simulate(parse_plan(made.document), DRAWS)
    return made, outcome.runtime, verdict_of(outcome).chance


def judge_homes(
    count: int, first: int = 0, processes: int = 1
) -> tuple[dict[str, Score], list[tuple[float, bool]]]:
    """Hold plans against the truth of homes: scores by what they share; chances, and what came."""
    scores: dict[str, Score] = {}
    chances = []
    with ExitStack() as stack:
        seeds = range(first, first + count)
        judged: Iterable[Any] = map(judge_home, seeds)
        if processes > 1:
            pool = stack.enter_context(Pool(processes))
            judged = pool.imap(judge_home, seeds, chunksize=8)
        for made, hours, chance in judged:
            needed_h = made.document["needed_hours"]
            chances.append((chance, made.true_h >= needed_h - 1e-6))
            tested = "tested" if made.tested else "not tested"
            length = "under 8 h" if needed_h < SHORT_H else "8 h or more"
            for name in (
                "all",
                made.use,
                f"{made.use}, {made.evidence}",
                f"{made.use}, {length}",
                f"{made.chemistry}, {tested}",
            ):
                scores.setdefault(name, Score()).add(hours, made.true_h)
    return scores, chances


def table(count: int, first: int = 0) -> None:
    """Print how ranges and chances stood."""
    scores, chances = judge_homes(count, first, os.cpu_count() or 1)
    print(f"  {count} homes of what people, water and thermostats use")
    for name, score in sorted(scores.items()):
        print(score.line(name))
    for said, came, number in reliability(chances):
        print(f"    chance said {said:.2f}   came true {came:.2f}   n {number}")


if __name__ == "__main__":
    if sys.argv[1:2] == ["runs"]:
        table_of_runs(*(int(text) for text in sys.argv[2:4]))
    elif sys.argv[1:2] == ["alone"]:
        table_of_alone(*(int(text) for text in sys.argv[2:4]))
    else:
        table(*(int(text) for text in sys.argv[1:3]) if len(sys.argv) > 1 else (300,))
