"""Changes that would make a plan last longer, each evaluated as a changed plan."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from needle.document import DocumentError
from needle.message import Message, message
from needle.moments import DAY_MIN, Window, in_windows, moment_after, occurrences
from needle.percentiles import range_of
from needle.plan.advice.shift import moved, propose
from needle.plan.draws.patterns import runs
from needle.plan.energy.ends import Ends, first_ends
from needle.plan.energy.simulate import Outcome
from needle.plan.load import AC, PlanLoad
from needle.plan.plan import MOST_HOURS, Plan, in_use
from needle.plan.sources.registry import ChargeWindow
from needle.plan.verdict import LIKELY, NOT_OF_BATTERY, verdict_of

#: Draws for comparing a plan with a changed one: same random streams, so few are enough.
PAIRED_DRAWS = 60
#: Most changes that are simulated; those with the least to gain are left out first.
MOST_SUGGESTIONS = 8
#: How many times as far as the plan a gain is looked for; what lies beyond is "at least".
FURTHEST = 8
#: Most changes that are simulated if the plan holds anyway.
MOST_WHERE_IT_HOLDS = 3
#: Least gain of a change that is shown, h.
LEAST_H = 0.02
#: A change that raises the chance of success by less does not count for that.
LEAST_CHANCE = 0.05
#: The longest rest of the inverter that is proposed, the longest where a box stands without power
#: meanwhile, and the least, min.
MOST_REST, MOST_WARM_REST, LEAST_REST = 12 * 60, 6 * 60, 60
#: Steps in which a rest begins and ends, min.
REST_STEP = 30
#: How much warmer a cold box may be set, °C.
WARMER_C = 2.0
#: A charge window that is proposed, min.
CHARGE_MIN = 120


@dataclass(frozen=True)
class Change:
    """A changed plan, and what was changed.

    Attributes
    ----------
    kind : str
        ``"leave_off"``, ``"route"``, ``"rest"``, ``"setting"``, ``"set_point"``, ``"place"``,
        ``"charge"``.
    load : str
        The load it is about, or "".
    what : Message
    caveat : Message or None
        Its cost or risk.
    to : str
        New route, setting, set point or moment; else "".
    plan : Plan
    saved_wh : float
        Rough estimate of Wh saved, for choosing which changes to simulate.
    """

    kind: str
    load: str
    what: Message
    caveat: Message | None
    to: str
    plan: Plan
    saved_wh: float

    @property
    def key(self) -> tuple[str, str, str]:
        """What is changed, and to what."""
        return self.kind, self.load, self.to


@dataclass(frozen=True)
class Suggestion:
    """A change and the hours it gains: 10th, 50th and 90th percentile.

    ``chance_before`` is the plan's chance of success, ``chance_after`` that plus the difference
    between the paired draws (a control variate: P. Glasserman, "Monte Carlo Methods in Financial
    Engineering", 2003, section 4.1). ``at_least``: the likely gain is longer than the simulation.
    ``fixes``: fewer loads that must or should run are blocked; ``all_run``: none is blocked any
    more.
    """

    change: Change
    low: float
    value: float
    high: float
    chance_before: float = 0.0
    chance_after: float = 0.0
    at_least: bool = False
    fixes: bool = False
    all_run: bool = False

    @property
    def chance_gained(self) -> float:
        return self.chance_after - self.chance_before

    @property
    def what(self) -> Message:
        return self.change.what

    @property
    def load(self) -> str:
        return self.change.load

    def as_range(self) -> dict[str, float]:
        return {"value": self.value, "low": self.low, "high": self.high}


def hours_gained(
    plan: Plan, changed: Plan, furthest: float = FURTHEST
) -> tuple[float, float, float]:
    """Hours gained by a change: 10th, 50th and 90th percentile over paired draws.

    The simulation extends up to ``furthest`` times the plan's length.
    """
    _, (effect,) = _effects(plan, [changed], furthest)
    return _percentiles(effect.gained_h)


def _percentiles(hours_gained: np.ndarray) -> tuple[float, float, float]:
    low, value, high = range_of(hours_gained)
    return low, value, high


@dataclass(frozen=True)
class _Effect:
    """What a changed plan does in the paired draws.

    ``ends`` are within the plan's hours; ``gained_h`` hours gained, (draws,), looked for farther;
    ``beyond`` whether the median end lies farther still.
    """

    ends: Ends
    gained_h: np.ndarray
    beyond: bool


def _effects(
    plan: Plan, changed: Sequence[Plan], furthest: float
) -> tuple[Ends, Sequence[_Effect]]:
    """When a plan ends, and the effect of each change, simulated far enough to see its gain."""
    most = min(MOST_HOURS, furthest * plan.hours)
    before, *after = first_ends([plan, *changed], PAIRED_DRAWS)
    far = [
        number
        for number, ends in enumerate(after)
        if plan.hours < most and float(np.quantile(ends.stops_h, 0.9)) >= plan.hours - 1e-6
    ]
    # A plan that always ends before its hours ends there, however far one looks.
    again = bool(far) and float(before.stops_h.max()) >= plan.hours - 1e-6
    further = [changed[number] for number in far] + [plan] * again
    longer = first_ends([replace(each, hours=most) for each in further], PAIRED_DRAWS)
    far_before = longer.pop() if again else before
    far_after = dict(zip(far, longer, strict=True))
    effects = []
    for number, (new, ends) in enumerate(zip(changed, after, strict=True)):
        looked, old = (far_after[number], far_before) if number in far else (ends, before)
        gained_h = _served_h(new, looked.stops_h) - _served_h(plan, old.stops_h)
        ahead = most if number in far else plan.hours
        effects.append(_Effect(ends, gained_h, float(np.median(looked.stops_h)) >= ahead - 1e-6))
    return before, effects


def _served_h(plan: Plan, stops_h: np.ndarray) -> np.ndarray:
    """Hours to a stop, without those in which the inverter is off and something needs power.

    A cold box catches up afterwards: if the stop comes before it has, the hours served end when the
    inverter was switched off.
    """
    inverter = plan.supply.inverter
    on_ac = [load for load in plan.loads if load.route == AC]
    if inverter is None or not inverter.off or not on_ac:
        return stops_h
    minutes = math.ceil(float(stops_h.max()) * 60) + 1
    resting = in_windows(inverter.off, plan.start, minutes)
    boxes = [load for load in on_ac if load.thermostatic]
    waiting = np.zeros(minutes, dtype=bool)
    for load in on_ac:
        if load not in boxes:
            waiting |= _in_use(load, plan, minutes)
    ends = np.minimum((stops_h * 60).astype(int), minutes - 1)
    for begin, end in runs(resting):
        missed = max((load.draw.duty / (1 - load.draw.duty) for load in boxes), default=0.0)
        back = end + missed * (end - begin)
        inside = (ends >= begin) & (ends < (back if boxes else end))
        ends = np.where(inside, begin, ends)
    without = np.concatenate(([0], np.cumsum(resting & waiting)))
    cut = (stops_h * 60).astype(int) != ends
    return np.asarray(np.where(cut, ends / 60, stops_h) - without[ends] / 60)


def _paired_chance(plan: Plan, ends: Ends) -> float:
    """Share of the paired draws that succeed."""
    return float(np.mean(ends.fails_h >= plan.needed_hours - 1e-6))


def _cannot_run(plan: Plan, ends: Ends) -> int:
    """Number of loads that must or should run, and are blocked in most paired draws."""
    last_min = 60 * (plan.needed_hours - 1e-6)
    failures = ends.failures_by_load
    return sum(
        float(np.mean(failures[load.name] < last_min)) > LIKELY
        for load in plan.loads
        if load.name in failures and not load.may_be_dropped
    )


def suggestions(outcome: Outcome) -> list[Suggestion]:
    """Return changes that make a plan succeed or last longer, the best first.

    Empty if it neither stops nor fails.
    """
    if outcome.capped and bool(outcome.holds.all()):
        return []
    blocked_loads = {
        blocked.load for blocked in verdict_of(outcome).blocked_loads if blocked.wanted
    }
    changes = sorted(
        changes_of(outcome),
        key=lambda change: (change.load not in blocked_loads, -change.saved_wh, change.key),
    )
    holds = outcome.chance >= outcome.plan.wanted_chance
    most = MOST_WHERE_IT_HOLDS if holds else MOST_SUGGESTIONS
    plans = [change.plan for change in changes[:most]]
    if not plans:
        return []
    before, effects = _effects(outcome.plan, plans, FURTHEST)
    tried = [
        _tried(outcome, change, before, effect, bool(blocked_loads))
        for change, effect in zip(changes, effects, strict=False)
    ]
    return sorted(filter(_is_useful, tried), key=_order)


def _is_useful(suggestion: Suggestion) -> bool:
    """Whether it fixes something, or gains hours or chance without losing chance."""
    if suggestion.fixes or suggestion.chance_gained >= LEAST_CHANCE:
        return True
    return suggestion.value > LEAST_H and suggestion.chance_gained > -LEAST_CHANCE


#: How much a change takes away, least first.
_TAKES_AWAY = ("route", "place", "charge", "setting", "set_point", "rest", "leave_off")


def _order(suggestion: Suggestion) -> tuple[Any, ...]:
    """Sort key: fixes first, then gain in chance, then hours gained, then what takes least away."""
    return (
        not suggestion.fixes,
        -round(suggestion.chance_gained, 1),
        -round(suggestion.value, 1),
        _TAKES_AWAY.index(suggestion.change.kind),
        suggestion.change.key,
    )


def _tried(
    outcome: Outcome, change: Change, before: Ends, effect: _Effect, has_culprits: bool
) -> Suggestion:
    """The effect of a change on a simulated plan, whose paired draws end at ``before``."""
    plan, changed = outcome.plan, change.plan
    moved = _paired_chance(changed, effect.ends) - _paired_chance(plan, before)
    after = min(1.0, max(0.0, outcome.chance + moved))
    left = _cannot_run(changed, effect.ends) if has_culprits else 0
    fixes = has_culprits and left < _cannot_run(plan, before)
    return Suggestion(
        change,
        *_percentiles(effect.gained_h),
        outcome.chance,
        after,
        effect.beyond,
        fixes,
        fixes and left == 0,
    )


def changes_of(outcome: Outcome) -> Iterator[Change]:
    """Return every change that applies to a plan and endangers nobody.

    No change affects a protected load, whatever its priority; and what the plan is for (a must, its
    only load, its purpose) is never left off.
    """
    plan = outcome.plan
    wh = outcome.likely.energy_wh["loads"]
    for load in plan.loads:
        if load.protected:
            continue
        mine = wh.get(load.name, 0.0)
        if load.priority != "must" and not load.purpose and len(plan.loads) > 1:
            without = replace(plan, loads=tuple(other for other in plan.loads if other is not load))
            what = message("leave-off", load=load.name)
            yield Change("leave_off", load.name, what, None, "", without, mine)
        yield from _routes(plan, load, mine, outcome)
        yield from _settings(plan, load, mine)
        yield from _warmer(plan, load, mine)
    yield from _rest(plan, outcome)
    yield from _place(plan, wh)
    yield from _charge(plan, outcome)


def _with_load(plan: Plan, load: PlanLoad, new: PlanLoad) -> Plan:
    """The plan with one load replaced."""
    return replace(plan, loads=tuple(new if other is load else other for other in plan.loads))


def _routes(plan: Plan, load: PlanLoad, wh: float, outcome: Outcome) -> Iterator[Change]:
    inverter = plan.supply.inverter
    if load.route != AC or inverter is None:
        return
    alone = sum(other.route == AC for other in plan.loads) == 1
    outputs = {output.name: output for output in plan.supply.outputs}
    for route in load.can:
        output = outputs.get(route)
        if output is None:
            continue
        saved = wh * (1 / inverter.efficiency.value - 1 / output.efficiency.value)
        # Where nothing is left on AC the inverter may stay off, and its idle draw is saved too.
        changed = _with_load(plan, load, replace(load, route=route))
        caveat = message("inverter-may-stay-off") if alone else None
        if alone:
            supply = replace(plan.supply, inverter=replace(inverter, off_unused=True))
            changed = replace(changed, supply=supply)
            saved += outcome.likely.energy_wh["inverter_idle"]
        what = message("put-on-route", load=load.name, route=route)
        yield Change("route", load.name, what, caveat, route, changed, saved)


def _settings(plan: Plan, load: PlanLoad, wh: float) -> Iterator[Change]:
    for setting in load.settings:
        mean = load.draw.resting_w + setting.duty * (setting.running_w - load.draw.resting_w)
        if mean < load.mean_w:
            draw = replace(load.draw, running_w=setting.running_w, duty=setting.duty)
            saved = wh * (1 - mean / load.mean_w)
            what = message("set-to", load=load.name, setting=setting.name)
            changed = _with_load(plan, load, replace(load, draw=draw))
            yield Change("setting", load.name, what, None, setting.name, changed, saved)


def _warmer(plan: Plan, load: PlanLoad, wh: float) -> Iterator[Change]:
    """A cold box set warmer: its power follows the difference to the room temperature."""
    thermal, room_c = load.thermal, plan.room_c
    set_c, measured_c = thermal.set_c, thermal.measured_room_c
    if set_c is None or room_c is None or room_c - set_c < 2 * WARMER_C:
        return
    share, warmer = WARMER_C / (room_c - set_c), set_c + WARMER_C
    thermal = replace(
        thermal,
        set_c=warmer,
        measured_set_c=set_c if thermal.measured_set_c is None else thermal.measured_set_c,
        measured_room_c=room_c if measured_c is None else measured_c,
    )
    new = replace(load, thermal=thermal)
    what = message("set-warmer", load=load.name, from_c=set_c, to_c=warmer)
    caveat = message("within-makers-range")
    changed = _with_load(plan, load, new)
    yield Change("set_point", load.name, what, caveat, f"{warmer:g}", changed, wh * share)


def _rest(plan: Plan, outcome: Outcome) -> Iterator[Change]:
    """The inverter switched off for the longest part of the day without an important load on AC.

    Loads that are nice to have may lose power, and so may boxes that catch up afterwards; never a
    load that must run. With a protected load on AC nothing is proposed.
    """
    inverter = plan.supply.inverter
    if inverter is None or inverter.off or not _may_rest(plan, outcome):
        return
    barred, without = _used_by_clock(plan, outcome)
    boxes = {load.name for load in plan.loads if load.thermostatic}
    warms = np.zeros(DAY_MIN, dtype=bool)
    for name in boxes & without.keys():
        warms |= without[name]
    longest = _longest_rest(barred, warms)
    if longest is None:
        return
    begin, end = longest
    off = np.zeros(DAY_MIN, dtype=bool)
    off[np.arange(begin, begin + (end - begin) % DAY_MIN) % DAY_MIN] = True
    waits = [name for name, used in without.items() if bool((used & off).any())]
    others = [name for name in waits if name not in boxes]
    share = float(off[_clock_of(plan)].mean())
    energy = outcome.likely.energy_wh
    saved = energy["inverter_idle"] + sum(energy["loads"].get(name, 0.0) for name in others)
    supply = replace(plan.supply, inverter=replace(inverter, off=(Window(begin, end),)))
    first, last = (f"{minute // 60:02d}:{minute % 60:02d}" for minute in (begin, end))
    yield Change(
        "rest",
        "",
        message("rest-inverter", first_min=begin, last_min=end),
        _caveat_of_rest(others, [name for name in waits if name in boxes], off.sum() / 60),
        f"{first}-{last}",
        replace(plan, supply=supply),
        saved * share,
    )


def _may_rest(plan: Plan, outcome: Outcome) -> bool:
    """Whether a rest of the inverter could help, and endangers nothing on AC."""
    on_ac = [load for load in plan.loads if load.route == AC]
    if not _running(on_ac, outcome) or any(load.protected for load in on_ac):
        return False
    failure = verdict_of(outcome).first_failure
    return failure is None or failure.why not in NOT_OF_BATTERY


def _running(loads: Sequence[PlanLoad], outcome: Outcome) -> list[PlanLoad]:
    """Loads that run: not those that the inverter drops, or whose hours do not come."""
    wh = outcome.likely.energy_wh["loads"]
    return [load for load in loads if wh.get(load.name, 0.0) > 0]


def _clock_of(plan: Plan) -> np.ndarray:
    """Minute after midnight of each minute of a plan."""
    minutes = np.arange(round(plan.hours * 60))
    return np.asarray((plan.start.hour * 60 + plan.start.minute + minutes) % DAY_MIN)


def _used_by_clock(plan: Plan, outcome: Outcome) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """Minutes of the day in which AC must be on, and in which each other load on AC is used."""
    clock = _clock_of(plan)
    barred = np.zeros(DAY_MIN, dtype=bool)
    without: dict[str, np.ndarray] = {}
    for load in _running([load for load in plan.loads if load.route == AC], outcome):
        used = np.zeros(DAY_MIN, dtype=bool)
        used[clock[_in_use(load, plan, len(clock))]] = True
        if load.must_run or not (load.may_be_dropped or load.thermostatic):
            barred |= used
        else:
            without[load.name] = used
    return barred, without


def _caveat_of_rest(others: Sequence[str], boxes: Sequence[str], hours: float) -> Message | None:
    """What a rest of the inverter means for loads without power, and for boxes."""
    if not others and not boxes:
        return None
    return message("rest-means", others=tuple(others), boxes=tuple(boxes), hours=float(hours))


def _longest_rest(barred: np.ndarray, warms: np.ndarray) -> tuple[int, int] | None:
    """First and last minute after midnight of the longest permitted rest; or None."""
    best, longest = None, LEAST_REST - 1
    for begin in range(0, DAY_MIN, REST_STEP):
        length = 0
        while length < MOST_REST:
            ahead = np.arange(begin + length, begin + length + REST_STEP) % DAY_MIN
            if bool(barred[ahead].any()):
                break
            if bool(warms[ahead].any()) and length + REST_STEP > MOST_WARM_REST:
                break
            length += REST_STEP
        if length > longest:
            best, longest = (begin, (begin + length) % DAY_MIN), length
    return best


def _in_use(load: PlanLoad, plan: Plan, minutes: int) -> np.ndarray:
    """Minutes of a plan in which a load needs power, by hours, tasks or charges."""
    if not load.use.moments:
        return in_use(load, plan.start, minutes)
    length = load.use.task_min or (
        60 * load.use.charge.wall_wh / load.use.charge.watts if load.use.charge else 0
    )
    wanted = np.zeros(minutes, dtype=bool)
    for begin in occurrences(load.use.moments, plan.start, minutes):
        wanted[begin : begin + math.ceil(length)] = True
    return wanted


def _place(plan: Plan, wh: dict[str, float]) -> Iterator[Change]:
    """Tasks rescheduled so that sources supply them rather than the battery."""
    try:
        moves = propose(plan)
    except DocumentError:
        return
    if not moves:
        return
    names = list(dict.fromkeys(move.load for move in moves))
    to = moment_after(plan.start, moves[0].to_minute / 60)
    what = (
        message("move-task", load=names[0], to=to, begins=plan.start)
        if len(moves) == 1
        else message("move-tasks", count=len(moves), loads=tuple(names))
    )
    saved = sum(wh.get(name, 0.0) for name in names)
    yield Change("place", "", what, None, "", moved(plan, moves), saved)


def _fuel(charger: ChargeWindow) -> Message | None:
    """Fuel burnt by running a charger longer; None if it burns none."""
    litres = charger.watts * CHARGE_MIN / 60 / 1000 * charger.litres_per_kwh
    return message("burns-fuel", litres=litres) if litres > 0 else None


def _charge(plan: Plan, outcome: Outcome) -> Iterator[Change]:
    """Two more hours of one of the plan's chargers, once, shortly before the likely stop."""
    charger = next((source for source in plan.sources if isinstance(source, ChargeWindow)), None)
    if charger is None:
        return
    at = max(0, round(outcome.runtime[1] * 60) - CHARGE_MIN - 30) // 30 * 30
    begin, end = (moment_after(plan.start, (at + more) / 60) for more in (0, CHARGE_MIN))
    window = Window(begin, end)
    more = replace(charger, windows=(*charger.windows, window))
    sources = tuple(more if source is charger else source for source in plan.sources)
    yield Change(
        "charge",
        "",
        message("charge-longer", source=charger.name, at=begin, begins=plan.start),
        _fuel(charger),
        begin.isoformat(),
        replace(plan, sources=sources),
        charger.watts * CHARGE_MIN / 60,
    )
