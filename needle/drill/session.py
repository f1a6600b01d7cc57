"""Measuring in simulated time: the learner's actions, and what the meters then show.

A session is its list of actions: the same actions on the same drill show the same readings.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from needle.document import DocumentError, Reader
from needle.drill.drill import Between, Drill, DrillLoad, DrillSupply, between_of
from needle.drill.truth import label_w, line_of, usable_wh
from needle.fields import AnyValue, Choice, Fields, Flag, Items, Number, Text, Windows
from needle.message import Message, message
from needle.standin.appliances import APPLIANCES
from needle.standin.meters import clamp_inrush, plug_meter

SPOT, COUNTER, TASK, START, WAIT, RESET = "spot", "counter", "task", "start", "wait", "reset"
DRAIN, IDLE, PLAN = "drain", "idle", "plan"
#: How a plan has a load that it leaves out, and one that runs all the time.
OUT, ALWAYS = "out", "always"
#: What a spot reading can be of.
STATES = ("running", "resting")
DOINGS = (SPOT, COUNTER, TASK, START, WAIT, RESET, DRAIN, IDLE, PLAN)
#: One's own minutes: to read a level, to put a meter in and take it out, for a start.
_MINUTES = {SPOT: 4.0, COUNTER: 5.0, START: 4.0, WAIT: 0.0, RESET: 1.0}
#: Minutes between two tasks, and most that are made for one reading.
_BETWEEN_MIN, MOST_TASKS = 2.0, 20
#: Averaging time of a slow meter, and the longer wait of whoever lets it settle, s.
_SLOW_S, _SETTLED_S = 40.0, 90.0
#: Charge above which a display that sticks still shows full.
_STICKS_ABOVE = 0.94
#: A last digit of more than this share of what is counted makes a reading rough.
_ROUGH = 0.1
#: A reading that is further from what runs now was taken too soon, share.
_UNSETTLED = 0.1
#: Minutes of an idle test; share of the inverter's rating at which a pack is drained.
_IDLE_MIN, _DRAINED_AT = 10.0, 0.3
#: What an old counter still shows, Wh; a counter of one digit after the comma of a kWh.
_LEFT_OVER_WH, _COARSE_WH = 170.0, 100.0
#: How long a level is let settle before it is read, s.
_SETTLES_S = 20.0
#: Longest that somebody waits for a state, s.
_PATIENCE_S = 4 * 3600.0


@dataclass(frozen=True)
class Mistake:
    """A mistake, and the number of the action (from 0)."""

    doing: int
    said: Message


@dataclass(frozen=True)
class DrawnPlan:
    """The learner's plan: when each load runs (None: left out), and the floor."""

    uses: dict[str, Between | None]
    floor: float


@dataclass
class Session:
    """Everything done so far.

    Attributes
    ----------
    drill : Drill
    minutes : float
        Simulated time used, min.
    readings : dict of str to list
        Readings of each load, as in a load document; its label first.
    mistakes : list of Mistake
    counters : dict of str to float
        What a load's meter had counted before, Wh.
    tests : list
        Supply tests, as in a supply document.
    plan : DrawnPlan or None
        The latest plan.
    """

    drill: Drill
    minutes: float = 0.0
    readings: dict[str, list[dict[str, Any]]] = field(default_factory=dict)
    mistakes: list[Mistake] = field(default_factory=list)
    counters: dict[str, float] = field(default_factory=dict)
    tests: list[dict[str, Any]] = field(default_factory=list)
    plan: DrawnPlan | None = None

    @property
    def left_min(self) -> float:
        return self.drill.minutes - self.minutes


def begin(drill: Drill) -> Session:
    """A session before any action: labels can be read at once."""
    session = Session(drill)
    for load in drill.loads:
        session.readings[load.name] = [{"type": "label", "watts": label_w(drill, load)}]
        left_over = _LEFT_OVER_WH if "counter not reset" in load.quirks else 0.0
        session.counters[load.name] = left_over
    return session


def played(drill: Drill, doings: Sequence[Any]) -> Session:
    """Return the session after these actions.

    Raises
    ------
    DocumentError
        An action is not possible, or there is no time left.
    """
    session = begin(drill)
    for number, doing in enumerate(doings):
        _do(session, number, doing)
    return session


ACTION_FIELDS: Fields = {
    "do": Choice("the action", choices=DOINGS),
    "load": Text("the load it is done with", most=60),
    "loads": Items("or several, as many as there are meters", form='["fridge", …]', most=8),
    "hours": Number("how long it is counted or waited", unit="h", most=168.0, default=0.0),
    "when": Choice("state that is read", choices=STATES, default="running"),
    "settle": Flag("whether a slow meter is given time"),
    "whole_cable": Flag("whether a clamp is put about the whole cable"),
    "count": Number("tasks counted together", least=1, most=MOST_TASKS, default=1, whole=True),
    "uses": AnyValue(
        "when each load runs in the learner's plan",
        form='{"kettle": [["20:00", "23:00"]], "heater": "out", …}',
        default={},
    ),
    "floor": Number("share left in the battery", unit="share", most=0.9, otherwise="the client's"),
}


def _do(session: Session, number: int, doing: Any) -> None:
    path = f"doings[{number}]"
    reader = Reader(doing, path, ACTION_FIELDS)
    what, hours = reader.choice("do"), reader.number("hours")
    if what == WAIT:
        _spend(session, hours * 60, path)
        return
    if what == PLAN:
        session.plan = _plan(session.drill, reader)
        return
    if what in (DRAIN, IDLE):
        _test(session, number, what, hours, path)
        return
    names = reader.items("loads") or [reader.text("load")]
    loads = [_load_named(session.drill, name, path) for name in names]
    needs = "clamp" if what == START else "plug"
    have = sum(meter == needs for meter in session.drill.meters)
    if len(loads) > have:
        raise DocumentError(path, f"needs {len(loads)} {needs} meters, and there are {have}")
    if what == RESET:
        _spend(session, _MINUTES[RESET] * len(loads), path)
        session.counters |= {load.name: 0.0 for load in loads}
    elif what == COUNTER:
        _count(session, number, loads, hours, path)
    elif what == SPOT:
        for load in loads:
            state = reader.choice("when")
            _spot(session, number, load, state, reader.flag("settle"), path)
    elif what == TASK:
        _tasks(session, number, loads[0], reader.whole("count"), path)
    else:
        _start(session, number, loads[0], reader.flag("whole_cable"), path)


def _load_named(drill: Drill, name: Any, path: str) -> DrillLoad:
    for load in drill.loads:
        if load.name == name:
            return load
    raise DocumentError(path, f"“{str(name)[:60]}” is no load of this drill")


def _spend(session: Session, minutes: float, path: str) -> None:
    if session.minutes + minutes > session.drill.minutes + 1e-6:
        raise DocumentError(
            path, f"takes {minutes:.0f} min, and {session.left_min:.0f} min are left"
        )
    session.minutes += minutes


def _count(
    session: Session, number: int, loads: Sequence[DrillLoad], hours: float, path: str
) -> None:
    if hours <= 0:
        raise DocumentError(f"{path}.hours", "is needed: how long the counter runs")
    begun = session.minutes
    _spend(session, hours * 60 + _MINUTES[COUNTER] * len(loads), path)
    for load in loads:
        first = session.drill.second(begun)
        shown, step = _shown(session, number, load, first, first + hours * 3600)
        session.readings[load.name].append(
            {
                "type": "energy",
                "wh": shown,
                "hours": round(hours, 3),
                "step_wh": step,
                "instrument": "plug",
            }
        )


def _shown(
    session: Session, number: int, load: DrillLoad, first_s: float, last_s: float
) -> tuple[float, float]:
    """Wh on the counter at a load at the end of a period, and its resolution."""
    meter = plug_meter(session.drill.load_seed(load.name))
    wh = meter.counter_wh(line_of(session.drill, load), first_s, last_s)
    left_over = session.counters[load.name]
    session.counters[load.name] = left_over + wh
    if left_over:
        said = message("counter-not-reset", load=load.name, wh=left_over)
        session.mistakes.append(Mistake(number, said))
    step = _COARSE_WH if "coarse counter" in load.quirks else meter.instrument.steps["wh"]
    return float(np.floor((wh + left_over) / step) * step), step


def _tasks(session: Session, number: int, load: DrillLoad, count: int, path: str) -> None:
    """A number of tasks in a row, counted together."""
    if not APPLIANCES[load.standin].by_task:
        raise DocumentError(path, f"{load.name} does no tasks that could be counted")
    made = sum(read["runs"] for read in session.readings[load.name] if read["type"] == "task")
    runs = line_of(session.drill, load).runs_s()[made : made + count]
    if len(runs) < count:
        raise DocumentError(path, f"{load.name} did enough tasks by now")
    minutes = sum((last - first) / 60 + _BETWEEN_MIN for first, last in runs)
    _spend(session, minutes + _MINUTES[COUNTER], path)
    shown, step = _shown(session, number, load, runs[0][0], runs[-1][1])
    if shown <= 0:
        raise DocumentError(path, "the counter has not moved yet: take more of them at once")
    if step > _ROUGH * shown:
        said = message("counter-too-coarse", load=load.name, step_wh=step)
        session.mistakes.append(Mistake(number, said))
    session.readings[load.name].append(
        {"type": "task", "wh": shown, "runs": count, "instrument": "plug"}
    )


def _plan(drill: Drill, reader: Reader) -> DrawnPlan:
    """When each load runs, by its name; loads not named run all the time."""
    names = tuple(load.name for load in drill.loads)
    fields = {name: Windows("when it runs", most=8) for name in names}
    uses_reader = Reader(reader.value("uses"), reader.at("uses"), fields)
    uses: dict[str, Between | None] = {}
    for name in names:
        use = uses_reader.data.get(name, ALWAYS)
        if use in (ALWAYS, OUT):
            uses[name] = () if use == ALWAYS else None
        else:
            uses[name] = between_of(uses_reader, name)
    usual = drill.supply.floor if drill.supply else 0.0
    return DrawnPlan(uses, reader.number("floor", usual))


def _test(session: Session, number: int, what: str, hours: float, path: str) -> None:
    """An idle test, or a discharge from full to the floor: by a shunt, else by the display."""
    supply, meters = session.drill.supply, session.drill.meters
    if supply is None or not {"shunt", "display"} & set(meters):
        raise DocumentError(path, "needs a supply, and a shunt monitor or a display")
    by_shunt = "shunt" in meters
    if what == IDLE:
        if by_shunt:
            _idle_by_shunt(session, supply, path)
        else:
            _idle_by_display(session, number, supply, hours, path)
        return
    if not by_shunt and "plug" not in meters:
        raise DocumentError(path, "needs a plug meter beside the display, to count what it gives")
    _drain(session, supply, by_shunt, path)


def _gain(drill: Drill) -> float:
    """Gain of the meter that counts at the supply."""
    return 1 + 0.008 * float(np.random.default_rng([drill.seed, 5]).uniform(-1, 1))


def _idle_by_shunt(session: Session, supply: DrillSupply, path: str) -> None:
    _spend(session, _IDLE_MIN, path)
    session.tests.append({"type": "idle", "watts": round(supply.idle_w * _gain(session.drill), 1)})


def _idle_by_display(
    session: Session, number: int, supply: DrillSupply, hours: float, path: str
) -> None:
    """The fall of the display with nothing plugged in."""
    if hours <= 0:
        raise DocumentError(f"{path}.hours", "is needed: how long nothing is plugged in")
    _spend(session, hours * 60, path)
    charge = max(0.0, 1 - supply.idle_w * hours / (supply.nominal_wh * supply.holds))
    sticks = "display sticks" in supply.quirks and charge > _STICKS_ABOVE
    shown = 1.0 if sticks else float(np.floor(100 * charge + 0.5) / 100)
    if shown >= 1.0:
        session.mistakes.append(Mistake(number, message("display-stood-still", hours=hours)))
        return
    session.tests.append({"type": "idle", "from": 1.0, "to": shown, "hours": round(hours, 2)})


def _drain(session: Session, supply: DrillSupply, by_shunt: bool, path: str) -> None:
    """A discharge at a moderate inverter load, counted on one side."""
    watts, wh = _DRAINED_AT * supply.continuous_w, usable_wh(supply)
    drawn_w = supply.idle_w + watts / supply.efficiency
    hours = wh / drawn_w
    _spend(session, hours * 60 + _MINUTES[COUNTER], path)
    counted = wh if by_shunt else watts * hours
    session.tests.append(
        {
            "type": "capacity",
            "wh": round(counted * _gain(session.drill)),
            "hours": round(hours, 2),
            "counted": "battery" if by_shunt else "ac",
            "from": 1.0,
            "to": supply.floor,
        }
    )


def _spot(
    session: Session, number: int, load: DrillLoad, when: str, settle: bool, path: str
) -> None:
    line = line_of(session.drill, load)
    times = session.drill.second(session.minutes) + np.arange(0.0, _PATIENCE_S, 15.0)
    watts = line.sample(times).watts
    on = watts > 0.25 * label_w(session.drill, load) / load.label_factor
    wanted = on if when == "running" else ~on
    if not wanted.any():
        raise DocumentError(path, f"{load.name} was not {when} within four hours")
    at = float(times[int(np.argmax(wanted))]) + (_SETTLED_S if settle else _SETTLES_S)
    waits = (at - session.drill.second(session.minutes)) / 60
    _spend(session, max(0.0, waits) + _MINUTES[SPOT], path)
    shown = plug_meter(session.drill.load_seed(load.name)).read(line, _looked_at(load, at))
    means = {name: float(np.mean(shown[name])) for name in ("watts", "volts", "amps", "va")}
    settled = float(line.sample(np.array([at])).watts[0])
    slow = "slow meter" in load.quirks
    if slow and abs(means["watts"] - settled) > _UNSETTLED * settled:
        session.mistakes.append(Mistake(number, message("read-too-early", load=load.name)))
    read = {name: round(value, 3) for name, value in means.items()}
    read["pf"] = round(min(1.0, means["watts"] / max(1e-9, means["va"])), 2)
    session.readings[load.name].append(
        {"type": "spot", "state": when, **read, "instrument": "plug"}
    )


def _looked_at(load: DrillLoad, at_s: float) -> np.ndarray:
    """Times over which a meter's reading is a mean; a slow meter includes earlier ones."""
    if "slow meter" in load.quirks:
        return at_s - np.arange(0.0, _SLOW_S, 2.0)
    return np.array([at_s])


def _start(session: Session, number: int, load: DrillLoad, whole: bool, path: str) -> None:
    line = line_of(session.drill, load)
    now = session.drill.second(session.minutes)
    later = [at for at in line.starts_s() if at >= now]
    if not later:
        raise DocumentError(path, f"{load.name} does not start any more")
    _spend(session, (later[0] - now) / 60 + _MINUTES[START], path)
    amps = clamp_inrush(line, later[0], session.drill.load_seed(load.name), whole)
    if whole:
        session.mistakes.append(Mistake(number, message("whole-cable", load=load.name)))
        return
    session.readings[load.name].append(
        {"type": "start", "amps": amps, "volts": line.mains_v, "instrument": "clamp"}
    )
