"""Measuring in simulated time: what the learner does, in order, and what the meters then show.

A session is its list of doings: the same doings on the same drill show the same.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from needle.document import DocumentError, Reader
from needle.drill.drill import Drill, DrillLoad
from needle.drill.truth import label_w, line_of
from needle.standin.meters import clamp_inrush, plug_meter

SPOT, COUNTER, START, WAIT, RESET = "spot", "counter", "start", "wait", "reset"
DRAIN, IDLE = "drain", "idle"
#: What a spot reading can be of.
STATES = ("running", "resting")
DOINGS = (SPOT, COUNTER, START, WAIT, RESET, DRAIN, IDLE)
#: One's own minutes: to read a level, to put a meter in and take it out, for a start.
_MINUTES = {SPOT: 4.0, COUNTER: 5.0, START: 4.0, WAIT: 0.0, RESET: 1.0}
#: Minutes of an idle test; share of what the inverter carries at which a pack is drained.
_IDLE_MIN, _DRAINED_AT = 10.0, 0.3
#: What an old counter still shows, Wh; a counter of one digit after the comma of a kWh.
_LEFT_OVER_WH, _COARSE_WH = 170.0, 100.0
#: How long a level is let settle before it is read, s.
_SETTLES_S = 20.0
#: Longest that somebody waits for a state, s.
_PATIENCE_S = 4 * 3600.0


@dataclass(frozen=True)
class Mistake:
    """What went wrong, and at which doing (its number from 0)."""

    doing: int
    words: str


@dataclass
class Session:
    """What was done so far.

    Attributes
    ----------
    drill : Drill
    minutes : float
        Simulated time that is gone.
    readings : dict of str to list
        Of each load, as a load document has them; its label first.
    mistakes : list of Mistake
    counters : dict of str to float
        What the meter at a load still counted from before, Wh.
    tests : list
        Of the supply, as its document has them.
    """

    drill: Drill
    minutes: float = 0.0
    readings: dict[str, list[dict[str, Any]]] = field(default_factory=dict)
    mistakes: list[Mistake] = field(default_factory=list)
    counters: dict[str, float] = field(default_factory=dict)
    tests: list[dict[str, Any]] = field(default_factory=list)

    @property
    def left_min(self) -> float:
        return self.drill.minutes - self.minutes


def begin(drill: Drill) -> Session:
    """Before anything was done: labels can be read at once."""
    session = Session(drill)
    for load in drill.loads:
        session.readings[load.name] = [{"type": "label", "watts": label_w(drill, load)}]
        left_over = _LEFT_OVER_WH if "counter not reset" in load.quirks else 0.0
        session.counters[load.name] = left_over
    return session


def played(drill: Drill, doings: Sequence[Any]) -> Session:
    """A session in which all of this was done.

    Raises
    ------
    DocumentError
        What cannot be done, or when the time is over.
    """
    session = begin(drill)
    for number, doing in enumerate(doings):
        _do(session, number, doing)
    return session


def _do(session: Session, number: int, doing: Any) -> None:
    path = f"doings[{number}]"
    keys = ("do", "load", "loads", "hours", "whole_cable", "when")
    reader = Reader(doing if isinstance(doing, dict) else None, path, keys)
    what = reader.choice("do", DOINGS)
    hours = reader.number("hours", 0.0, 168.0, default=0.0) or 0.0
    if what == WAIT:
        _spend(session, hours * 60, path)
        return
    if what in (DRAIN, IDLE):
        _test(session, what, path)
        return
    names = reader.items("loads", most=8) or [reader.text("load", most=60)]
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
            _spot(session, load, reader.choice("when", STATES, "running"), path)
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
        meter = plug_meter(session.drill.load_seed(load.name))
        wh = meter.counter_wh(line_of(session.drill, load), first, first + hours * 3600)
        step = _COARSE_WH if "coarse counter" in load.quirks else 10.0
        left_over = session.counters[load.name]
        session.counters[load.name] = left_over + wh
        if left_over:
            words = f"the counter at {load.name} was not reset: {left_over:.0f} Wh were on it"
            session.mistakes.append(Mistake(number, words))
        shown = float(np.floor((wh + left_over) / step) * step)
        session.readings[load.name].append(
            {"type": "energy", "wh": shown, "hours": round(hours, 3), "step_wh": step,
             "instrument": "plug"}
        )  # fmt: skip


def _test(session: Session, what: str, path: str) -> None:
    """Idle read on the battery side, or a drain from full to the floor, counted there."""
    supply = session.drill.supply
    if supply is None or "shunt" not in session.drill.meters:
        raise DocumentError(path, "needs a supply and a shunt monitor")
    gain = 1 + 0.008 * float(np.random.default_rng([session.drill.seed, 5]).uniform(-1, 1))
    if what == IDLE:
        _spend(session, _IDLE_MIN, path)
        session.tests.append({"type": "idle", "watts": round(supply.idle_w * gain, 1)})
        return
    wh = supply.nominal_wh * supply.holds * (1 - supply.floor)
    hours = wh / (_DRAINED_AT * supply.continuous_w)
    _spend(session, hours * 60 + _MINUTES[COUNTER], path)
    session.tests.append({
        "type": "capacity", "wh": round(wh * gain), "hours": round(hours, 2),
        "counted": "battery", "from": 1.0, "to": supply.floor,
    })  # fmt: skip


def _spot(session: Session, load: DrillLoad, when: str, path: str) -> None:
    line = line_of(session.drill, load)
    times = session.drill.second(session.minutes) + np.arange(0.0, _PATIENCE_S, 15.0)
    watts = line.sample(times).watts
    on = watts > 0.25 * label_w(session.drill, load) / load.label_factor
    wanted = on if when == "running" else ~on
    if not wanted.any():
        raise DocumentError(path, f"{load.name} was not {when} within four hours")
    at = float(times[int(np.argmax(wanted))]) + _SETTLES_S
    waits = (at - session.drill.second(session.minutes)) / 60
    _spend(session, max(0.0, waits) + _MINUTES[SPOT], path)
    shown = plug_meter(session.drill.load_seed(load.name)).read(line, np.array([at]))
    read = {
        name: round(float(shown[name][0]), 3) for name in ("watts", "volts", "amps", "va", "pf")
    }
    session.readings[load.name].append(
        {"type": "spot", "state": when, **read, "instrument": "plug"}
    )


def _start(session: Session, number: int, load: DrillLoad, whole: bool, path: str) -> None:
    line = line_of(session.drill, load)
    now = session.drill.second(session.minutes)
    later = [at for at in line.starts_s() if at >= now]
    if not later:
        raise DocumentError(path, f"{load.name} does not start any more")
    _spend(session, (later[0] - now) / 60 + _MINUTES[START], path)
    amps = clamp_inrush(line, later[0], session.drill.load_seed(load.name), whole)
    if whole:
        words = f"the clamp lay around the whole cable of {load.name}: the currents cancel"
        session.mistakes.append(Mistake(number, words))
        return
    session.readings[load.name].append(
        {"type": "start", "amps": amps, "volts": line.mains_v, "instrument": "clamp"}
    )
