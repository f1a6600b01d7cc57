"""Conditioning the random draws on measured runs of the supply.

A run with known hours and a known end is joint evidence: it constrains capacity, idle draw and
power together far better than separate tests. Many samples are drawn, each is weighted by how well
it predicts every run, and the draws are resampled from them (importance resampling: A. Smith and A.
Gelfand 1992, The American Statistician 46, 84).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from datetime import timedelta

import numpy as np
from scipy.special import log_ndtr

from needle.estimate import DISPLAY_BEND, Estimate
from needle.message import Message, message
from needle.moments import occurrences
from needle.plan.draws.inputs import (
    CAPACITY,
    INVERTER_EFFICIENCY,
    INVERTER_IDLE,
    INVERTER_SQUARE,
    OUTPUT,
    OUTPUT_IDLE,
    InputKey,
    Inputs,
    draw,
    spreads_of,
)
from needle.plan.draws.patterns import mean_w
from needle.plan.energy.bank import peukert_w
from needle.plan.energy.battery_draws import battery_draws
from needle.plan.load import AC, PlanLoad
from needle.plan.plan import Plan, in_use
from needle.plan.run import COUNTED_ONLY, STILL_ON, Run
from needle.profile.use_process import DISPERSION, HOURS_OF, hours_spread
from needle.profile.variation import wander_spread
from needle.supply.inverter import dc_w

#: Static samples that are weighed, and how many must carry weight at the least.
SAMPLES, LEAST_EFFECTIVE = 6000, 60
#: Relative sd of a run that is made again at once, and of what its meter counted.
REPEAT_SPREAD, COUNT_SPREAD = 0.01, 0.02
#: What a year, and a °C of another room, add to it.
YEAR_SPREAD, ROOM_SPREAD = 0.03, 0.01
#: How far the mean until a count may lie from that of the whole run, as a relative sd for each part
#: of the run that is not in it.
NOT_COUNTED_SPREAD = 0.25
#: Sd of a charge that a display shows, share; and relative sd of a day's run from warm or cold
#: contents that nobody measured (general values).
LOOK_SD, BEGINS_SPREAD = 0.035, 0.06
#: Relative sd of what cooling down took, as it was reckoned or read (a general value).
PULLED_DOWN_SPREAD = 0.10
#: Half the squared deviation beyond which a run fits no sample at all: five sd.
MOST_DOUBT = 12.5


def conditioned(plan: Plan, draws: int, seed: int) -> tuple[Inputs, list[int]]:
    """Return draws of all inputs, conditioned on the plan's runs.

    Also returns the indices of runs that contradict all samples.
    """
    if not plan.runs:
        return draw(plan, draws, seed), []
    samples, weights, inconsistent_runs = weighed(plan, seed)
    # Systematic resampling: as even as the weights allow.
    places = (np.arange(draws) + 0.5) / draws
    rows = np.searchsorted(np.cumsum(weights), places)
    order = np.random.default_rng([seed, 11]).permutation(draws)
    return samples.picked(np.minimum(rows, SAMPLES - 1)[order]), inconsistent_runs


def weighed(plan: Plan, seed: int, count: int = SAMPLES) -> tuple[Inputs, np.ndarray, list[int]]:
    """Return many draws of all inputs, their weights by the plan's runs, and contradicting runs.

    The weights, (draws,), add up to 1; they are equal without runs.
    """
    samples = draw(plan, count, seed)
    doubt, inconsistent_runs = np.zeros(count), []
    for number, run in enumerate(plan.runs):
        mine = _doubt(plan, run, samples)
        if float(mine.min()) > MOST_DOUBT:
            inconsistent_runs.append(number)
        else:
            doubt += mine
    return samples, _tempered(doubt), inconsistent_runs


def counted_moves(plan: Plan, run: Run) -> tuple[dict[InputKey, float], float, float]:
    """Effect of one standard deviation of each input on the log of the Wh that a run would count.

    Also the relative sd of such a count about the long-run power, and the Wh that it likely shows.
    """
    spreads = spreads_of(plan)
    keys = [key for key, spread in spreads.items() if spread > 0]
    # Each thing by itself one deviation up; last, all of them at their likely values.
    rows = np.eye(len(keys), len(keys) + 1)
    apart = Inputs(len(keys) + 1, 0, spreads, dict(zip(keys, rows, strict=True)))
    drawn_w = _drawn_w(plan, apart, *_asked_w(plan, run, apart))
    moves = np.log(drawn_w[:-1] / drawn_w[-1])
    moved = {key: float(move) for key, move in zip(keys, moves, strict=True) if move}
    return moved, _counted_spread(plan, run), float(drawn_w[-1]) * run.hours


def as_conditioned(plan: Plan, inputs: Inputs) -> Plan:
    """The plan with its medians conditioned on its runs, for the median run."""
    if not plan.runs:
        return plan

    def middle(estimate: Estimate, kind: str, name: str = "") -> Estimate:
        return replace(estimate, value=estimate.value * float(np.median(inputs.factor(kind, name))))

    battery, inverter = plan.supply.battery, plan.supply.inverter
    if inverter is not None:
        efficiency = middle(inverter.efficiency, INVERTER_EFFICIENCY)
        inverter = replace(
            inverter,
            idle_w=middle(inverter.idle_w, INVERTER_IDLE),
            efficiency=replace(efficiency, value=min(1.0, efficiency.value)),
        )
    supply = replace(
        plan.supply,
        battery=replace(battery, state_of_health=middle(battery.state_of_health, CAPACITY)),
        inverter=inverter,
    )
    loads = tuple(
        _scaled(load, float(np.median(mean_w(load, inputs))) / max(load.mean_w, 1e-9))
        for load in plan.loads
    )
    return replace(plan, supply=supply, loads=loads)


def _scaled(load: PlanLoad, ratio: float) -> PlanLoad:
    return replace(load, draw=load.draw.times(ratio), use=load.use.times(ratio))


def inconsistent_run(run: Run) -> Message:
    """A notice for a run that contradicts all draws."""
    return message("inconsistent-run", hours=run.hours)


def effective(weights: np.ndarray) -> float:
    """Effective number of samples with these weights, which add up to 1 (A. Kong 1992)."""
    return 1 / float((weights**2).sum())


def _tempered(doubt: np.ndarray) -> np.ndarray:
    """Weights from half squared deviations, flattened until enough samples carry weight."""
    power = 1.0
    while True:
        weights = np.exp(-power * (doubt - doubt.min()))
        weights /= weights.sum()
        if effective(weights) >= LEAST_EFFECTIVE or power < 1e-3:
            return np.asarray(weights)
        power *= 0.7


def _doubt(plan: Plan, run: Run, samples: Inputs) -> np.ndarray:
    """Half the squared deviation of each sample's prediction of a run from the measurement."""
    drawn_w, ac_w, others = _demand(plan, run, samples)
    counted_w = np.maximum({"battery": drawn_w, AC: ac_w, **others}[run.counted], 1e-3)
    if run.why == COUNTED_ONLY:
        assert run.wh is not None
        off = np.log(counted_w * run.hours / run.wh)
        return np.asarray((off / _counted_spread(plan, run)) ** 2 / 2)
    there = plan if run.room_c is None else replace(plan, room_c=run.room_c)
    battery = battery_draws(there, samples)
    falls_w = peukert_w(
        plan.supply.battery, drawn_w, battery.capacity_wh, battery.peukert_n, battery.slow
    )
    put_in_wh = _put_in_wh(plan, run)
    used_wh = battery.capacity_wh * (run.start - run.end) + put_in_wh
    spread = math.hypot(_spread(plan, run), _put_in_spread(plan, run, used_wh))
    off = np.log(run.hours * falls_w / used_wh) / spread
    # What still runs only says that it does not need more than there was.
    doubt = -log_ndtr(-off) if run.why == STILL_ON else off**2 / 2
    doubt = doubt + _doubt_of_look(run, falls_w - put_in_wh / run.hours, battery.capacity_wh)
    if run.wh is not None:
        hours = run.hours if run.counted_h is None else run.counted_h
        off = np.log(counted_w * hours / run.wh)
        # What was drawn after it was read is not in it.
        spread = math.hypot(COUNT_SPREAD, NOT_COUNTED_SPREAD * (1 - hours / run.hours))
        doubt = doubt + (off / spread) ** 2 / 2
    return np.asarray(doubt)


def _put_in_wh(plan: Plan, run: Run) -> float:
    """What sources gave, at the battery's terminals: part of it is stored first, with a loss."""
    return run.wh_in * (1 + plan.supply.battery.charge_efficiency) / 2


def _put_in_spread(plan: Plan, run: Run, used_wh: np.ndarray) -> float:
    """Relative sd of a run's energy from its meter for what came in, and the share stored."""
    share = run.wh_in / float(np.median(used_wh))
    lost = (1 - plan.supply.battery.charge_efficiency) / 2
    return share * math.hypot(run.wh_in_spread, lost)


def _doubt_of_look(run: Run, falls_w: np.ndarray, capacity_wh: np.ndarray) -> np.ndarray | float:
    """The same of the last charge shown before its end: earlier ones share the display's error."""
    inside = [look for look in run.looks if 0 < look.h < run.hours and look.shown < run.start]
    if not inside:
        return 0.0
    look = max(inside, key=lambda look: look.h)
    charge = run.start - falls_w * look.h / capacity_wh
    sd = math.hypot(LOOK_SD, look.step / math.sqrt(12))
    return np.asarray(((charge - look.shown) / sd) ** 2 / 2)


def _demand(
    plan: Plan, run: Run, samples: Inputs
) -> tuple[np.ndarray, np.ndarray, dict[str, np.ndarray]]:
    """Mean W of a run at the battery, on AC, and on each output: of its parts by their length."""
    parts = _parts(run)
    ac_w, drawn_w = np.zeros(samples.draws), np.zeros(samples.draws)
    others = {output.name: np.zeros(samples.draws) for output in plan.supply.outputs}
    for part in parts:
        share = part.hours / run.hours
        part_ac, part_others = _asked_w(plan, part, samples)
        ac_w = ac_w + share * part_ac
        drawn_w = drawn_w + share * _drawn_w(plan, samples, part_ac, part_others)
        for name, watts in part_others.items():
            others[name] = others[name] + share * watts
    return drawn_w, ac_w, others


def _parts(run: Run) -> list[Run]:
    """The legs of a run as runs of their own; itself if it has none."""
    if not run.legs:
        return [run]
    ends = [*(leg.h for leg in run.legs[1:]), run.hours]
    return [
        replace(
            run,
            hours=end - leg.h,
            at=None if run.at is None else run.at + timedelta(hours=leg.h),
            fed=leg.fed,
            watts=leg.watts,
            legs=(),
            begins=run.begins if leg.h <= 0 else "settled",
            pull_down_wh=run.pull_down_wh if leg.h <= 0 else (),
        )
        for leg, end in zip(run.legs, ends, strict=True)
    ]


def _asked_w(plan: Plan, run: Run, samples: Inputs) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """Mean power of a run's loads on AC, and on each output, W."""
    ac_w = np.full(samples.draws, run.watts)
    others = {output.name: np.zeros(samples.draws) for output in plan.supply.outputs}
    for load in run.fed:
        watts = mean_w(load, samples) * load.count * _share(plan, run, load)
        watts = watts + _pulled_down_wh(run, load) / run.hours
        if load.route == AC:
            ac_w = ac_w + watts
        else:
            others[load.route] = others[load.route] + watts
    return ac_w, others


def _pulled_down_wh(run: Run, load: PlanLoad) -> float:
    """What a load took in a run to be cooled down: as stated, else as its plan has it if warm."""
    stated = dict(run.pull_down_wh).get(load.name)
    if stated is not None:
        return stated
    return load.thermal.pull_down_wh if run.begins == "warm" else 0.0


def _share(plan: Plan, run: Run, load: PlanLoad) -> float:
    """Share of a run's time in which a load was in use, by its hours or tasks."""
    minutes = max(1, round(run.hours * 60))
    start = run.at or plan.start
    if not load.use.by_moments:
        return float(in_use(load, start, minutes).mean())
    length = load.use.task_min
    if load.use.charge is not None:
        length = 60 * load.use.charge.wall_wh / load.use.charge.watts
    return len(occurrences(load.use.moments, start, minutes)) * length / minutes


def _drawn_w(
    plan: Plan, samples: Inputs, ac_w: np.ndarray, others: dict[str, np.ndarray]
) -> np.ndarray:
    """Mean demand at the battery, W."""
    drawn_w = np.zeros(samples.draws)
    inverter = plan.supply.inverter
    if inverter is not None and (ac_w.any() or not inverter.off_unused):
        drawn_w = drawn_w + np.asarray(
            dc_w(
                ac_w,
                inverter.idle_w.value * samples.factor(INVERTER_IDLE),
                np.minimum(1.0, inverter.efficiency.value * samples.factor(INVERTER_EFFICIENCY)),
                inverter.square_per_w.value * samples.factor(INVERTER_SQUARE),
            )
        )
    for output in plan.supply.outputs:
        watts = others[output.name]
        if watts.any() or not output.off_unused:
            passes = np.minimum(1.0, output.efficiency.value * samples.factor(OUTPUT, output.name))
            drawn_w = drawn_w + watts / passes
            drawn_w += output.idle_w.value * samples.factor(OUTPUT_IDLE, output.name)
    return np.maximum(drawn_w, 1e-3)


def _pulled_down_share(plan: Plan, run: Run) -> float:
    """Share of a run's energy that went into cooling down, likely."""
    pulled_wh = sum(_pulled_down_wh(part, load) for part in _parts(run) for load in part.fed)
    used_wh = plan.supply.battery.nominal_wh * (run.start - run.end) + run.wh_in
    return min(1.0, pulled_wh / used_wh)


@dataclass(frozen=True)
class _FedLoad:
    """A load in a run: its share of the run's energy, and hours and share of each part with it."""

    load: PlanLoad
    share: float
    parts: tuple[tuple[float, float], ...]


def _fed_loads(run: Run) -> list[_FedLoad]:
    """Loads of a run, each once, with their likely shares of its energy."""
    parts = _parts(run)
    total_wh = sum(
        part.hours * (part.watts + sum(load.mean_w * load.count for load in part.fed))
        for part in parts
    )
    found: dict[str, tuple[PlanLoad, list[tuple[float, float]]]] = {}
    for part in parts:
        for load in part.fed:
            share = part.hours * load.mean_w * load.count / max(total_wh, 1e-9)
            found.setdefault(load.id or load.name, (load, []))[1].append((part.hours, share))
    return [
        _FedLoad(load, sum(share for _, share in shares), tuple(shares))
        for load, shares in found.values()
    ]


def _variation(plan: Plan, run: Run) -> float:
    """Relative variance of a run's mean about the long run: days, uses, and what wanders.

    Each load counts by its share of the energy.
    """
    days = max(1.0, run.hours / 24)
    variance = 0.0
    for fed in _fed_loads(run):
        mine = (fed.share * fed.load.spreads.day) ** 2 / days
        mine += sum(share**2 * _irregular(fed.load, hours) for hours, share in fed.parts)
        variance += mine / fed.load.count
    return variance


#: Hours by which starts may differ for two runs to meet the same hours of the day.
LIKE_HOURS = 3.0


def _at_like_hours(plan: Plan, run: Run) -> bool:
    """Whether a run began at about the plan's time of day, or lasted for whole days."""
    if run.hours >= 24:
        return True
    if run.at is None:
        return False
    at, start = (moment.hour + moment.minute / 60 for moment in (run.at, plan.start))
    apart = abs(at - start) % 24
    return min(apart, 24 - apart) <= LIKE_HOURS


def _swing(plan: Plan, run: Run) -> float:
    """Relative variance from the hours of the day that a run of a part of it did not meet."""
    swing, uses = 0.0, 0.0
    for fed in _fed_loads(run):
        use = fed.load.use
        # They share a room and its hours: their swings go together.
        swing += fed.share * fed.load.draw.day_swing
        if use.uses_per_day is not None:
            hours_of = HOURS_OF.get(use.runs_by, "water")
            uses += (fed.share * hours_spread(hours_of, run.hours)) ** 2
    return swing**2 * max(0.0, 1 - run.hours / 24) / 2 + uses


def _irregular(load: PlanLoad, hours: float) -> float:
    """Relative variance of a load's mean over some hours: few uses, and watts that wander."""
    uses = 0.0
    if load.use.uses_per_day is not None:
        uses = DISPERSION / max(0.5, load.use.uses_per_day * hours / 24)
    return uses + (wander_spread(hours, load.draw.wander) ** 2 if load.draw.wander > 0 else 0.0)


def _counted_spread(plan: Plan, run: Run) -> float:
    """Relative sd with which Wh counted over some hours represent the long-run power.

    It includes, for each load by its share: day-to-day variation, the daily swing if only a part of
    a day was counted, cycles cut off at either end or variation within the hour, and one defrost
    more or less.
    """
    short = _swing(plan, run)
    for fed in _fed_loads(run):
        watched = fed.load.watched
        cut_off, unseen = watched.cut_off(run.hours), watched.unseen(run.hours)
        short += fed.share**2 * (cut_off**2 + unseen**2)
    return plan.spread_factor * math.sqrt(COUNT_SPREAD**2 + _variation(plan, run) + short)


def _spread(plan: Plan, run: Run) -> float:
    """Relative sd with which a run predicts the next run of its kind."""
    days, variation = max(1.0, run.hours / 24), _variation(plan, run)
    years = 0.0 if run.at is None else abs((plan.start - run.at).days) / 365
    rooms = 0.0
    if run.room_c is not None and plan.room_c is not None:
        rooms = ROOM_SPREAD * abs(run.room_c - plan.room_c)
    # Warm or cold contents whose energy nobody stated: it is not known how much they took.
    warm = 0.0 if run.begins == "settled" or run.pull_down_wh else BEGINS_SPREAD / days
    hours = 0.0 if _at_like_hours(plan, run) else _swing(plan, run)
    at_an_end = run.why in ("cutoff", "floor", STILL_ON)
    charge = 0.0 if at_an_end else DISPLAY_BEND / (run.start - run.end)
    pulled = PULLED_DOWN_SPREAD * _pulled_down_share(plan, run)
    return plan.spread_factor * math.sqrt(
        REPEAT_SPREAD**2
        + variation
        + (YEAR_SPREAD * years) ** 2
        + rooms**2
        + charge**2
        + warm**2
        + pulled**2
        + hours
    )
