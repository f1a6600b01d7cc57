"""Trials of our own making whose end is known, to hold forecasts against.

Supplies are emptied second by second by the households of :mod:`tools.truth`, with sun, changed
conditions and displays that bend, stick and jump, or by a small steady pack. Nothing here is shared
with what it judges. ``python -m tools.trials [TRIALS] [FIRST_SEED]``
"""

from __future__ import annotations

import copy
import os
import sys
import time
from contextlib import ExitStack
from dataclasses import dataclass, field
from itertools import chain
from multiprocessing import Pool
from typing import Any

import numpy as np

from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate
from needle.trial.forecast import forecast
from needle.trial.trial import parse_trial
from tools.scores import Score
from tools.truth import BEFORE_DAYS, DAY_S, STEP_S, Household, household

SORTS = ("household", "sun", "legs", "switched", "small pack", "no plan")
#: What is written down; "time" says only that it still runs.
DISPLAYS = ("percent", "bars", "wh", "ah", "time")
SHARES = (0.0, 0.1, 1 / 3, 0.5, 0.8)
CHARGES = 0.96
#: Days after which a run is made again.
LATER_DAYS = 2


@dataclass
class Run:
    """A supply that was run down: true charge by the step, and how its display stands to it."""

    document: dict[str, Any]
    charge: np.ndarray
    out_wh: np.ndarray
    step_s: float
    sort: str
    display: str
    stop_at: float
    rng: np.random.Generator
    legs: list[dict[str, Any]] = field(default_factory=list)
    watts: np.ndarray | None = None

    def __post_init__(self) -> None:
        rng = self.rng
        self.knee = rng.uniform(0.1, 0.25)
        self.bow = rng.normal(0, 0.015)
        self.sticky = rng.choice([0.0, 0.0, 0.04, 0.07])
        lengths = np.exp(rng.normal(0, 0.25, int(rng.integers(4, 6))))
        lengths[0] *= rng.uniform(0.5, 1.0)
        if rng.random() < 0.4:
            lengths[rng.integers(len(lengths))] *= 2
        self.edges = np.concatenate([[0.0], np.cumsum(lengths) / lengths.sum()])
        self.gain = 1 + rng.uniform(-0.01, 0.01)
        self.mean_volts = rng.normal(1.0, 0.01)
        self.shown = self._shown()
        under = self.shown <= self.stop_at if self.display == "percent" else self.charge <= 1e-9
        self.true_h = float(np.argmax(under)) * self.step_s / 3600 if under.any() else np.nan

    def _shown(self) -> np.ndarray:
        charge = self.charge
        above = 0.2 + 0.8 * (charge - self.knee) / (1 - self.knee)
        shown = np.where(charge < self.knee, 0.2 * charge / self.knee, above)
        shown = shown + self.bow * np.sin(np.pi * np.clip(charge, 0, 1))
        if self.sticky:
            # It keeps a figure until it is off by that step, then jumps to the right one.
            held, last = np.empty_like(shown), shown[0]
            for place, value in enumerate(shown):
                if abs(value - last) > self.sticky or value < 0.08:
                    last = value
                held[place] = last
            shown = held
        return np.asarray(np.clip(np.round(shown * 100) / 100, 0.0, 1.0))

    def seen(self, hour: float) -> dict[str, Any]:
        """What a person writes down at an hour."""
        place = min(int(hour * 3600 / self.step_s), len(self.charge) - 1)
        seen: dict[str, Any] = {"h": round(hour, 2)}
        if self.display == "percent":
            return {**seen, "percent": float(round(100 * self.shown[place]))}
        if self.display == "bars":
            lit = int(np.searchsorted(self.edges, max(self.charge[place], 1e-9)))
            return {**seen, "bars": min(lit, len(self.edges) - 1), "of": len(self.edges) - 1}
        if self.display == "time":
            return seen
        counted = self.out_wh[place] * self.gain
        if self.display == "wh":
            return {**seen, "wh": float(round(counted))}
        volts = self.document["supply"]["battery"].get("volts", 12.8)
        return {**seen, "ah": round(counted / volts * self.mean_volts, 1)}

    def knowable(self, share: float) -> bool:
        """Whether there is anything to go by: a plan or a look, and conditions that stay."""
        looked = (share > 0 and self.display != "time") or self.sort != "no plan"
        return looked and all(leg["h"] < 0.85 * share * self.true_h for leg in self.legs)

    def trial(self, share: float) -> dict[str, Any]:
        """The trial's document as it stood after a share of its hours."""
        # One look early, then a dozen spread over it.
        places = (np.arange(1, 13) + self.rng.uniform(-0.3, 0.3, 12)) / 13
        places[0] = self.rng.uniform(0.05, 0.1)
        hours = [place * self.true_h for place in places if place <= share]
        check_ins = [self.seen(hour) for hour in hours]
        check_ins += [leg for leg in self.legs if leg["h"] <= share * self.true_h]
        document: dict[str, Any] = {"stop_at": self.stop_at, "check_ins": check_ins}
        if self.sort == "no plan":
            return {**document, "supply": {"battery": self.document["supply"]["battery"]}}
        return {**document, "plan": self.document}


def _sun(rng: np.random.Generator, document: dict[str, Any], points: int) -> np.ndarray:
    """W of panels by the step, from the plan's start: geometry, days and passing clouds."""
    start_h = float(document["start"][11:13])
    hour = start_h + np.arange(points) * STEP_S / 3600
    latitude, declination = np.radians(48.0), np.radians(-14.0)
    tilt = np.radians(35.0)
    angle = np.radians(15 * (hour % 24 - 12))
    high = np.sin(latitude) * np.sin(declination) + (
        np.cos(latitude) * np.cos(declination) * np.cos(angle)
    )
    onto = np.sin(latitude - tilt) * np.sin(declination) + (
        np.cos(latitude - tilt) * np.cos(declination) * np.cos(angle)
    )
    mass = 1 / np.maximum(high, 0.03)
    clear = np.where(high > 0, 1.1 * 0.7 ** (mass**0.678) * np.maximum(onto, 0) * 1.353, 0.0)
    day = (hour // 24).astype(int)
    clouds = rng.beta(2, 2, int(day.max()) + 1)
    share = 1 - 0.75 * clouds[day] ** 3.4
    passing = np.repeat(rng.uniform(0.8, 1.2, points // 60 + 1), 60)[:points]
    rated = document["sources"][0]["rated_w"]
    return np.asarray(rated * 0.72 * np.exp(rng.normal(0, 0.08)) * clear * share * passing)


def _charge(out_w: np.ndarray, sun_w: np.ndarray, held_wh: float, step_s: float) -> np.ndarray:
    """True charge after each step, held under full."""
    gained = np.where(sun_w > out_w, CHARGES * (sun_w - out_w), sun_w - out_w)
    steps = gained * step_s / 3600 / held_wh
    if not sun_w.any():
        return 1 + np.cumsum(steps)
    charge, level = np.empty(len(steps)), 1.0
    for place, step in enumerate(steps):
        level = min(1.0, level + step)
        charge[place] = level
    return charge


def run_of(seed: int) -> Run | None:
    """One trial; None where it does not end within the days that are known."""
    rng = np.random.default_rng([seed, 83])
    sort = SORTS[seed % len(SORTS)]
    display = DISPLAYS[seed // len(SORTS) % len(DISPLAYS)]
    stop_at = float(rng.choice([0.0, 0.1, 0.2])) if display == "percent" else 0.0
    if sort == "small pack":
        return _small_pack(rng, display, stop_at)
    # Every sort of run with every kind of evidence.
    home = household(seed + seed // len(SORTS), 0.07)
    document = copy.deepcopy(home.document)
    out_w, held_wh = _down(home, document)
    sun_w = np.zeros_like(out_w)
    legs: list[dict[str, Any]] = []
    if sort == "sun":
        document["sources"] = [
            {
                "kind": "sun",
                "rated_w": float(round(out_w.mean() * rng.uniform(1.0, 3.0))),
                "yield": 0.72,
                "latitude": 48.0,
                "longitude": 0.0,
                "tilt": 35,
                "azimuth": 180,
                "clouds": 0.5,
                "spread": 0.25,
            }
        ]
        sun_w = _sun(rng, document, len(out_w))
    if sort == "legs":
        first = np.argmax(np.cumsum(out_w) * STEP_S / 3600 > rng.uniform(0.2, 0.6) * held_wh)
        factor = float(np.exp(rng.choice([-1, 1]) * rng.uniform(0.1, 0.5)))
        out_w = np.where(np.arange(len(out_w)) >= first, out_w * factor, out_w)
        legs = [{"h": round(float(first) * STEP_S / 3600, 2), "leg": "warmer room"}]
    if sort == "switched":
        if len(home.parts) < 2:
            return None
        first = np.argmax(np.cumsum(out_w) * STEP_S / 3600 > rng.uniform(0.2, 0.6) * held_wh)
        off = len(home.parts) - 1
        rest = np.sum([part.watts[-len(out_w) :] for part in home.parts[:off]], axis=0)
        rest_w = home.idle_w + rest / home.efficiency
        out_w = np.where(np.arange(len(out_w)) >= first, rest_w, out_w)
        names = [load["name"] for load in document["loads"][:off]]
        legs = [{"h": round(float(first) * STEP_S / 3600, 2), "on": names}]
    charge = _charge(out_w, sun_w, held_wh, STEP_S)
    terminal_w = np.maximum(out_w - sun_w, 0.0)
    document["supply"]["battery"]["floor"] = stop_at
    run = Run(
        document,
        charge,
        np.cumsum(terminal_w) * STEP_S / 3600,
        STEP_S,
        sort,
        display,
        stop_at,
        rng,
        legs,
    )
    return run if np.isfinite(run.true_h) else None


def _down(home: Household, document: dict[str, Any]) -> tuple[np.ndarray, float]:
    """W at the battery by the step from the plan's start, and the Wh that it truly holds.

    They follow from the household's own truth: its hours to the plan's floor.
    """
    start_h = float(document["start"][11:13])
    first = int((BEFORE_DAYS * DAY_S + start_h * 3600) / STEP_S)
    total = np.sum([part.watts[first:] for part in home.parts], axis=0)
    out_w = home.idle_w + total / home.efficiency
    return out_w, home.held_wh


def _small_pack(rng: np.random.Generator, display: str, stop_at: float) -> Run | None:
    nominal = float(round(rng.uniform(60, 500)))
    held_wh = nominal * rng.normal(0.93, 0.05)
    watts = held_wh / rng.uniform(0.8, 6.0)
    points = 7200
    step_s = 4.5 * held_wh / watts * 3600 / points / 3
    level = np.exp(
        np.interp(
            np.arange(points),
            np.arange(0, points + 600, 600),
            rng.normal(0, 0.04, points // 600 + 1),
        )
    )
    out_w = watts * level
    document = {
        "hours": 24.0,
        "needed_hours": 2.0,
        "supply": {
            "battery": {"chemistry": "usb", "nominal_wh": nominal, "volts": 3.7, "floor": stop_at},
            "outputs": [{"name": "usb", "max_w": 5 * watts, "idle_w": 0.2, "efficiency": 0.87}],
        },
        "loads": [
            {
                "name": "Lamp",
                "route": "usb",
                "running_w": 0.87 * watts * rng.normal(1, 0.08),
                "spread": 0.1,
            }
        ],
    }
    charge = _charge(out_w, np.zeros(points), held_wh, step_s)
    run = Run(
        document,
        charge,
        np.cumsum(out_w) * step_s / 3600,
        step_s,
        "small pack",
        display,
        stop_at,
        rng,
    )
    return run if np.isfinite(run.true_h) else None


Judged = tuple[str, tuple[float, float, float], float]


def judge_one(seed: int) -> list[Judged]:
    """Forecasts at several shares of a run, each under its names, and when it really stopped."""
    run = run_of(seed)
    if run is None:
        return []
    found = []
    for share in SHARES:
        if run.knowable(share):
            stop_h = forecast(parse_trial(run.trial(share))).stop_h
            for name in ("all", run.sort, run.display):
                found.append((f"{100 * share:2.0f} % of the run, {name}", stop_h, run.true_h))
    return found


def judge(count: int, first: int = 0, processes: int = 1) -> dict[str, Score]:
    """Hold forecasts at several shares of a run against its end."""
    scores: dict[str, Score] = {}
    seeds = range(first, first + count)
    with ExitStack() as stack:
        pool = stack.enter_context(Pool(processes)) if processes > 1 else None
        each = map(judge_one, seeds) if pool is None else pool.imap(judge_one, seeds, chunksize=4)
        for key, stop_h, true_h in chain.from_iterable(each):
            scores.setdefault(key, Score()).add(stop_h, true_h)
    return scores


def table(count: int, first: int = 0) -> None:
    """Print how often ranges held after shares of a run, by its sort and display."""
    begin = time.perf_counter()
    for name, score in sorted(judge(count, first, os.cpu_count() or 1).items()):
        print(score.line(name))
    print(f"  {count} trials in {time.perf_counter() - begin:.0f} s")


def repeats(count: int) -> None:
    """Print how plans stood that repeat a run which was made two days before."""
    after, before = Score(), Score()
    for seed in range(count):
        home = household(seed, 0.07)
        hours = _again(home)
        if hours is None:
            continue
        made = {
            "hours": home.true_h,
            "from": 1.0,
            "to": 0.1,
            "why": "floor",
            "loads": [load["name"] for load in home.document["loads"]],
            "at": home.document["start"],
        }
        day = int(home.document["start"][8:10]) + LATER_DAYS
        start = home.document["start"].replace(home.document["start"][:10], f"2027-02-{day:02d}")
        plan = {**home.document, "start": start}
        before.add(simulate(parse_plan(plan), 200).runtime, hours)
        after.add(simulate(parse_plan({**plan, "runs": [made]}), 200).runtime, hours)
    print(before.line("without the run"))
    print(after.line("resting on it"))


def _again(home: Household) -> float | None:
    """True hours of the same run some days later; None where that is not known."""
    out_w, held_wh = _down(home, home.document)
    first = LATER_DAYS * DAY_S // STEP_S
    used = np.cumsum(out_w[first:]) * STEP_S / 3600
    at = int(np.searchsorted(used, 0.9 * held_wh))
    return None if at == len(used) else at * STEP_S / 3600


if __name__ == "__main__":
    table(*(int(text) for text in sys.argv[1:3]) if len(sys.argv) > 1 else (60,))
