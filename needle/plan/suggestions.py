"""What would make a plan last longer, in the order people try it; each a changed plan."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from needle.document import DocumentError
from needle.moments import Window, in_windows, moment_after, occurrences
from needle.plan.plan import AC, Plan, PlanLoad, in_use
from needle.plan.shift import moved, propose
from needle.plan.simulate import Outcome, hours_to_stop
from needle.plan.sources import ChargeWindow

#: Draws for comparing a plan with a changed one: same random streams, so few are enough.
PAIRED_DRAWS = 60
#: So many changes are run; those with the least to win are left out first.
MOST_SUGGESTIONS = 8
#: A change that wins less is not told, h.
LEAST_H = 0.02
#: Hours in which the inverter may rest, minutes after midnight.
NIGHT = (23 * 60, 6 * 60)
#: How much warmer a cold box may be set, °C.
WARMER_C = 2.0
#: A charge window that is proposed, min.
CHARGE_MIN = 120


@dataclass(frozen=True)
class Change:
    """A changed plan and what it is.

    Attributes
    ----------
    kind : str
        ``"leave_off"``, ``"route"``, ``"rest"``, ``"setting"``, ``"set_point"``, ``"place"``,
        ``"charge"``.
    load : str
        The load it is about, or "".
    what, caveat : str
        In words; what it costs or endangers, or "".
    to : str
        Route, setting, set point or moment that it goes to; else "".
    plan : Plan
    saved_wh : float
        First guess of Wh saved, for choosing which to run.
    """

    kind: str
    load: str
    what: str
    caveat: str
    to: str
    plan: Plan
    saved_wh: float


@dataclass(frozen=True)
class Suggestion:
    """A change to the plan and the hours it wins: 10th, 50th and 90th percentile."""

    change: Change
    low: float
    value: float
    high: float

    @property
    def what(self) -> str:
        return self.change.what

    @property
    def load(self) -> str:
        return self.change.load

    def as_range(self) -> dict[str, float]:
        return {"value": self.value, "low": self.low, "high": self.high}


def hours_won(plan: Plan, changed: Plan) -> tuple[float, float, float]:
    """Hours that a change wins: 10th, 50th and 90th percentile over paired draws."""
    before, after = (_runtimes(side, PAIRED_DRAWS) for side in (plan, changed))
    low, value, high = (float(value) for value in np.quantile(after - before, [0.1, 0.5, 0.9]))
    return low, value, high


@lru_cache(maxsize=8)
def _runtimes(plan: Plan, draws: int) -> np.ndarray:
    """Hours of each paired draw; kept, since several changes are held against one plan."""
    return hours_to_stop(plan, draws)


def suggestions(outcome: Outcome) -> list[Suggestion]:
    """Changes that win hours, most first; none where the plan does not stop."""
    if outcome.capped:
        return []
    changes = sorted(changes_of(outcome), key=lambda one: (-one.saved_wh, one.what))[
        :MOST_SUGGESTIONS
    ]
    tried = [Suggestion(change, *hours_won(outcome.plan, change.plan)) for change in changes]
    return sorted(
        (change for change in tried if change.value > LEAST_H),
        key=lambda one: (-one.value, one.what),
    )


def changes_of(outcome: Outcome) -> Iterator[Change]:
    """Every change that applies to the plan, and that endangers nobody.

    No change touches a load that keeps a person or an animal alive, or contents in their range,
    whatever its priority; and what the plan is for (a must, its only load) is never left off.
    """
    plan = outcome.plan
    wh = outcome.energy_wh["loads"]
    for load in plan.loads:
        if load.protected:
            continue
        mine = wh.get(load.name, 0.0)
        if load.priority != "must" and len(plan.loads) > 1:
            without = _with_load(plan, load, _silent(load))
            yield Change("leave_off", load.name, f"leave off {load.name}", "", "", without, mine)
        yield from _routes(plan, load, mine, outcome)
        yield from _settings(plan, load, mine)
        yield from _warmer(plan, load, mine)
    yield from _rest(plan, outcome)
    yield from _place(plan, wh)
    yield from _charge(plan, outcome)


def _with_load(plan: Plan, load: PlanLoad, new: PlanLoad) -> Plan:
    """The plan with another in a load's place."""
    return replace(plan, loads=tuple(new if other is load else other for other in plan.loads))


def _silent(load: PlanLoad) -> PlanLoad:
    """A load that draws nothing; it keeps its place, so that the others' draws stay the same."""
    return replace(
        load, running_w=0.0, resting_w=0.0, start_va=0.0, steps=(), charge=None, moments=(),
        pull_down_wh=0.0,
    )  # fmt: skip


def _routes(plan: Plan, load: PlanLoad, wh: float, outcome: Outcome) -> Iterator[Change]:
    inverter = plan.supply.inverter
    others = [other for other in plan.loads if other is not load and other.route == AC]
    for route in load.can:
        output = next((output for output in plan.supply.outputs if output.name == route), None)
        if output is None or load.route != AC or inverter is None:
            continue
        saved = wh * (1 / inverter.efficiency.value - 1 / output.efficiency.value)
        # Where nothing is left on AC the inverter may stay off, and its idle draw is saved too.
        alone = not others
        changed, caveat = _with_load(plan, load, replace(load, route=route)), ""
        if alone:
            supply = replace(plan.supply, inverter=replace(inverter, off_unused=True))
            changed, caveat = replace(changed, supply=supply), "the inverter can stay off"
            saved += outcome.energy_wh["inverter_idle"]
        what = f"put {load.name} on {route}"
        yield Change("route", load.name, what, caveat, route, changed, saved)


def _settings(plan: Plan, load: PlanLoad, wh: float) -> Iterator[Change]:
    for setting in load.settings:
        mean = load.resting_w + setting.duty * (setting.running_w - load.resting_w)
        if mean < load.mean_w:
            new = replace(load, running_w=setting.running_w, duty=setting.duty)
            saved = wh * (1 - mean / load.mean_w)
            what, changed = f"set {load.name} to {setting.name}", _with_load(plan, load, new)
            yield Change("setting", load.name, what, "", setting.name, changed, saved)


def _warmer(plan: Plan, load: PlanLoad, wh: float) -> Iterator[Change]:
    """A cold box that is set warmer: its draw follows the difference to the room."""
    if load.set_c is None or plan.room_c is None or plan.room_c - load.set_c < 2 * WARMER_C:
        return
    share, warmer = WARMER_C / (plan.room_c - load.set_c), load.set_c + WARMER_C
    new = replace(
        load, set_c=warmer,
        measured_set_c=load.set_c if load.measured_set_c is None else load.measured_set_c,
        measured_room_c=plan.room_c if load.measured_room_c is None else load.measured_room_c,
    )  # fmt: skip
    what = f"set {load.name} from {load.set_c:g} to {warmer:g} °C"
    caveat = "only within the range that the contents' maker states"
    changed = _with_load(plan, load, new)
    yield Change("set_point", load.name, what, caveat, f"{warmer:g}", changed, wh * share)


def _rest(plan: Plan, outcome: Outcome) -> Iterator[Change]:
    """The inverter off at night, where no load on AC then must run or is protected."""
    inverter = plan.supply.inverter
    if inverter is None or inverter.off:
        return
    minutes = round(plan.hours * 60)
    night = Window(*NIGHT)
    dark = in_windows([night], plan.start, minutes)
    quiet = []
    for load in plan.loads:
        if load.route == AC and bool((_in_use(load, plan, minutes) & dark).any()):
            if load.must_run:
                return
            quiet.append(load.name)
    share = float(dark.mean())
    supply = replace(plan.supply, inverter=replace(inverter, off=(night,)))
    caveat = f"leaves {', '.join(quiet)} without power then" if quiet else ""
    saved = outcome.energy_wh["inverter_idle"] * share
    saved += sum(outcome.energy_wh["loads"].get(name, 0.0) for name in quiet) * share
    yield Change(
        "rest", "", "rest the inverter from 23:00 to 06:00", caveat, "",
        replace(plan, supply=supply), saved,
    )  # fmt: skip


def _in_use(load: PlanLoad, plan: Plan, minutes: int) -> np.ndarray:
    """Which minutes of a plan a load wants power in, by hours, tasks or charges."""
    if not load.moments:
        return in_use(load, plan.start, minutes)
    length = load.task_min or (60 * load.charge.wall_wh / load.charge.watts if load.charge else 0)
    wanted = np.zeros(minutes, dtype=bool)
    for begin in occurrences(load.moments, plan.start, minutes):
        wanted[begin : begin + math.ceil(length)] = True
    return wanted


def _place(plan: Plan, wh: dict[str, float]) -> Iterator[Change]:
    """Tasks that may be moved, where they run from sources rather than from the battery."""
    try:
        moves = propose(plan)
    except DocumentError:
        return
    if not moves:
        return
    names = list(dict.fromkeys(move.load for move in moves))
    to = moment_after(plan.start, moves[0].to_minute / 60)
    what = (
        f"move {names[0]} to {to:%a %H:%M}"
        if len(moves) == 1
        else f"move {len(moves)} tasks ({', '.join(names)})"
    )
    saved = sum(wh.get(name, 0.0) for name in names)
    yield Change("place", "", what, "", "", moved(plan, moves), saved)


def _charge(plan: Plan, outcome: Outcome) -> Iterator[Change]:
    """Two more hours of a charger that the plan has, once, shortly before the likely stop."""
    charger = next((source for source in plan.sources if isinstance(source, ChargeWindow)), None)
    if charger is None:
        return
    at = max(0, round(outcome.runtime[1] * 60) - CHARGE_MIN - 30) // 30 * 30
    begin, end = (moment_after(plan.start, (at + more) / 60) for more in (0, CHARGE_MIN))
    window = Window(begin, end)
    more = replace(charger, windows=(*charger.windows, window))
    sources = tuple(more if source is charger else source for source in plan.sources)
    yield Change(
        "charge", "", f"run {charger.name} for 2 h more, once, from {begin:%a %H:%M}",
        "outdoors, far from openings" if charger.litres_per_kwh else "", begin.isoformat(),
        replace(plan, sources=sources), charger.watts * CHARGE_MIN / 60,
    )  # fmt: skip
