"""Appliances of households, from physics and people's days, in minutes: ground truth for the bench.

Nothing here is shared with the core or its stand-ins. A box warms and is opened, a tank is drawn
from, a float pump fills what was used, screens and lamps follow an evening, a kettle a family.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

DAY_MIN = 1440

#: Relative rate of what people do, by hour of the day: water, kitchen.
WATER = np.array(
    [1, 1, 0.5, 0.5, 1, 3, 9, 10, 6, 4, 3, 3, 4, 4, 3, 3, 4, 6, 9, 9, 7, 5, 3, 2], dtype=float
)
KITCHEN = np.array(
    [0.3, 0.1, 0.1, 0.1, 0.2, 2, 7, 8, 5, 3, 4, 5, 6, 4, 3, 4, 5, 7, 8, 6, 4, 3, 2, 1], dtype=float
)


@dataclass
class Appliance:
    """One appliance: what it truly draws, and what a person can say of it.

    Attributes
    ----------
    sort : str
        Key of :data:`SORTS`.
    kind, runs_by : str
        As load documents name them; ``runs_by`` is empty where it is the kind's own.
    watts : ndarray, (minutes,)
        What it draws, W.
    label_w : float
    power_factor : float
    windows : list of [from, to]
        Times of day of its use; empty for always.
    running : ndarray of bool, (minutes,)
        Minutes in which a person would read it as running.
    task : dict or None
        Of single uses: ``times`` a day as its people believe, ``minutes``.
    rests_w : float
    """

    sort: str
    kind: str
    watts: np.ndarray
    label_w: float
    running: np.ndarray
    power_factor: float = 1.0
    runs_by: str = ""
    windows: list[list[str]] = field(default_factory=list)
    events: np.ndarray = field(default_factory=lambda: np.zeros(0, dtype=int))
    event_min: float = 0.0
    said_a_day: float | None = None
    rests_w: float = 0.0


def rate_by_minute(
    rng: np.random.Generator, minutes: int, per_day: float, hours: np.ndarray, day_sd: float
) -> np.ndarray:
    """Expected events in each minute, with days that differ and a household's own hours."""
    own = hours * np.exp(rng.normal(0, 0.5, 24))
    shape = np.repeat(own / own.mean(), 60) / DAY_MIN
    days = minutes // DAY_MIN + 1
    factors = np.exp(rng.normal(0, day_sd, days) - day_sd**2 / 2)
    return per_day * (shape[None, :] * factors[:, None]).ravel()[:minutes]


def _days(rng: np.random.Generator, minutes: int, sd: float) -> np.ndarray:
    factors = np.exp(rng.normal(0, sd, minutes // DAY_MIN + 1) - sd**2 / 2)
    return np.repeat(factors, DAY_MIN)[:minutes]


def _wander(rng: np.random.Generator, minutes: int, sd: float, hold_min: float) -> np.ndarray:
    """Logarithm that wanders with a correlation time, (minutes,)."""
    knots = int(minutes / hold_min) + 3
    return np.interp(np.arange(minutes) / hold_min, np.arange(knots), rng.normal(0, sd, knots))


def _clock(minute: int) -> str:
    return f"{minute // 60 % 24:02d}:{minute % 60:02d}"


def _in_window(minutes: int, first: int, last: int) -> np.ndarray:
    of_day = np.arange(minutes) % DAY_MIN
    if first <= last:
        return (of_day >= first) & (of_day < last)
    return (of_day >= first) | (of_day < last)


def _label(rng: np.random.Generator, watts: float) -> float:
    """What is printed on a plate: 1.2 to 4 times what it draws, eight times in ten."""
    z = rng.normal() / 1.2816
    return watts * 2.0 * float(np.exp(z * (np.log(2.0) if z > 0 else np.log(2.0 / 1.2))))


def box(rng: np.random.Generator, minutes: int) -> Appliance:
    """A fridge or freezer: walls, a room that swings, doors that open, a thermostat."""
    set_c = rng.choice([4.0, 4.0, -18.0])
    room = rng.uniform(18, 30)
    swing, day_c = rng.uniform(0.5, 2.5), rng.uniform(0.3, 1.2)
    at = np.arange(minutes)
    days = np.repeat(rng.normal(0, day_c, minutes // DAY_MIN + 1), DAY_MIN)[:minutes]
    room_c = room + days + swing * np.cos(2 * np.pi * (at / 60 - rng.uniform(14, 18)) / 24)
    doors = rng.poisson(rate_by_minute(rng, minutes, rng.uniform(6, 35), KITCHEN, 0.25))
    duty = rng.uniform(0.18, 0.52)
    running_w, rests_w = rng.uniform(55, 160), rng.uniform(0.4, 3.0)
    # Heat in units of the cold that a minute of running makes.
    leak = duty * (room_c - set_c) / (room - set_c)
    door = 0.10 * duty * DAY_MIN / max(1.0, doors.sum() / (minutes / DAY_MIN)) * doors
    heat = np.cumsum(leak + door)
    cold = rng.uniform(9, 26)
    watts = np.full(minutes, rests_w)
    running = np.zeros(minutes, dtype=bool)
    level, minute = 0.0, int(rng.integers(0, 40))
    base = heat[0]
    while minute < minutes:
        # Off until so much heat has come in, then on until it is out again.
        begin = int(np.searchsorted(heat, base + cold * np.exp(rng.normal(0, 0.06)) - level))
        begin = max(begin, minute + 2)
        if begin >= minutes:
            break
        owed, end = heat[begin] - base, begin
        while end < minutes and owed > 0:
            owed += (heat[min(minutes - 1, end + 1)] - heat[end]) - 1.0
            end += 1
            if end - begin > 600:
                break
        running[begin:end] = True
        base, minute = heat[min(minutes - 1, end)], end
    warm = np.exp(0.012 * (room_c - room))
    watts[running] = running_w * warm[running] * np.exp(rng.normal(0, 0.01, int(running.sum())))
    if rng.random() < 0.4:
        _defrost(rng, watts, running, rng.uniform(120, 260))
    return Appliance(
        "box",
        "compressor-fixed",
        watts,
        _label(rng, running_w),
        running,
        rng.uniform(0.55, 0.8),
        rests_w=rests_w,
    )


def _defrost(
    rng: np.random.Generator, watts: np.ndarray, running: np.ndarray, heater_w: float
) -> None:
    every, length = rng.uniform(8, 20) * 60, int(rng.uniform(10, 25))
    at = rng.uniform(0, every)
    while at < len(watts):
        first = int(at)
        watts[first : first + length] = heater_w
        running[first : first + length] = False
        at += every * np.exp(rng.normal(0, 0.08))


def variable_box(rng: np.random.Generator, minutes: int) -> Appliance:
    """A box whose speed follows the heat, and which rests in a cool room."""
    mean = rng.uniform(22, 75)
    at = np.arange(minutes) / 60
    swing = 1 + rng.uniform(0.04, 0.16) * np.cos(2 * np.pi * (at - rng.uniform(14, 18)) / 24)
    course = mean * _days(rng, minutes, 0.06) * swing * np.exp(_wander(rng, minutes, 0.2, 40))
    watts = course.copy()
    if rng.random() < 0.35:
        # It cannot run so slow: it rests for a part of each half hour.
        rest = rng.uniform(0.25, 0.6)
        cycle = (np.arange(minutes) / rng.uniform(25, 60)) % 1.0
        on = cycle >= rest
        watts = np.where(on, course / (1 - rest), rng.uniform(0.5, 2))
        return Appliance(
            "variable box", "compressor-variable", watts, _label(rng, mean / (1 - rest)), on, 0.9
        )
    if rng.random() < 0.35:
        _defrost(rng, watts, np.zeros(minutes, dtype=bool), rng.uniform(120, 240))
    always = np.ones(minutes, dtype=bool)
    return Appliance("variable box", "compressor-variable", watts, _label(rng, mean), always, 0.9)


def heater(rng: np.random.Generator, minutes: int) -> Appliance:
    """Heat with a thermostat: a mat, an incubator, a cabinet."""
    power, duty = rng.uniform(80, 600), rng.uniform(0.15, 0.85)
    period = rng.uniform(6, 30)
    cool = _wander(rng, minutes, 0.05, 180) + np.log(_days(rng, minutes, 0.06))
    at = np.arange(minutes) / 60
    cool = np.exp(cool) * (1 + rng.uniform(0, 0.15) * np.cos(2 * np.pi * (at - 5) / 24))
    now = np.clip(duty * cool, 0.01, 0.99)
    place = np.cumsum(np.full(minutes, 1 / period)) % 1.0
    on = place < now
    watts = np.where(on, power * np.exp(_wander(rng, minutes, 0.01, 60)), 0.0)
    return Appliance("heater", "thermostat-heat", watts, power * rng.uniform(0.97, 1.08), on)


def _fill_when_used(rng: np.random.Generator, used: np.ndarray, each: float) -> np.ndarray:
    """Minutes at which a level that falls with use is reached again: once per ``each`` used."""
    total = np.cumsum(used)
    steps = np.arange(1, int(total[-1] / each) + 1) * each - rng.uniform(0, each)
    return np.unique(np.searchsorted(total, steps[steps > 0]))


def water_tank(rng: np.random.Generator, minutes: int) -> Appliance:
    """A hot-water tank: people draw, walls leak, an element heats what is missing."""
    power = rng.choice([1000.0, 1500.0, 2000.0, 2500.0, 3000.0]) * rng.uniform(0.95, 1.04)
    draws = rng.poisson(rate_by_minute(rng, minutes, rng.uniform(2, 14), WATER, 0.3))
    each_wh = rng.uniform(120, 700) * np.exp(rng.normal(0, 0.6, minutes))
    leak_wh = rng.uniform(25, 80) / 60
    owed = leak_wh + draws * each_wh
    band = rng.uniform(150, 900)
    starts = _fill_when_used(rng, owed, band)
    total = np.cumsum(owed)
    running = np.zeros(minutes, dtype=bool)
    filled, until = 0.0, 0
    for start in starts:
        if start < until:
            continue
        missing, minute = total[start] - filled, start
        while minute < minutes and missing > 0:
            running[minute] = True
            missing -= power / 60
            if minute + 1 < minutes:
                missing += owed[minute + 1]
            minute += 1
        until, filled = minute, total[min(minute, minutes - 1)]
    watts = np.where(running, power, 0.0)
    return Appliance(
        "water tank",
        "thermostat-heat",
        watts,
        power * rng.uniform(0.98, 1.06),
        running,
        runs_by="water",
    )


def float_pump(rng: np.random.Generator, minutes: int) -> Appliance:
    """A pump with a float: it fills again once a number of litres was used."""
    power = rng.uniform(250, 1200)
    litres_a_day = float(np.exp(rng.normal(np.log(250), 0.6)))
    rate = rate_by_minute(rng, minutes, 20.0, WATER, 0.3)
    used = rng.poisson(rate) * litres_a_day / 20 * np.exp(rng.normal(0, 0.5, minutes))
    each = rng.uniform(15, 150)
    starts = _fill_when_used(rng, used, each)
    length = max(1, round(each / rng.uniform(12, 40)))
    running = np.zeros(minutes, dtype=bool)
    for minute in range(length):
        running[np.minimum(starts + minute, minutes - 1)] = True
    watts = np.where(running, power * np.exp(rng.normal(0, 0.02, minutes)), 0.0)
    return Appliance(
        "float pump",
        "pump",
        watts,
        _label(rng, power) / 1.4,
        running,
        rng.uniform(0.65, 0.9),
        runs_by="water",
        events=starts,
        event_min=float(length),
    )


def _evening(
    rng: np.random.Generator, minutes: int, first_h: tuple[int, int], hours: tuple[int, int]
) -> tuple[np.ndarray, list[list[str]]]:
    first = int(rng.integers(*first_h)) * 60
    last = (first + int(rng.integers(*hours)) * 60) % DAY_MIN
    return _in_window(minutes, first, last), [[_clock(first), _clock(last)]]


def screen(rng: np.random.Generator, minutes: int) -> Appliance:
    """A screen or computer: what it shows and does sets its watts."""
    on, windows = _evening(rng, minutes, (15, 20), (3, 7))
    mean = rng.uniform(25, 160)
    content = np.exp(_wander(rng, minutes, 0.28, rng.uniform(25, 70)) - 0.04)
    watts = np.where(on, mean * _days(rng, minutes, 0.12) * content, 0.0)
    return Appliance("screen", "electronics", watts, _label(rng, mean), on, 0.6, "person", windows)


def bedside(rng: np.random.Generator, minutes: int) -> Appliance:
    """A machine beside a bed: breath by breath, with a warmer that comes and goes."""
    on, windows = _evening(rng, minutes, (21, 23), (7, 10))
    pump, warmer = rng.uniform(8, 30), rng.choice([0.0, rng.uniform(10, 50)])
    warms = (np.arange(minutes) / rng.uniform(5, 20)) % 1.0 < rng.uniform(0.3, 0.7)
    course = pump * np.exp(rng.normal(0, 0.25, minutes)) + warmer * warms
    watts = np.where(on, course * _days(rng, minutes, 0.08), 0.0)
    label = _label(rng, pump + warmer * 0.6)
    return Appliance("bedside", "electronics", watts, label, on, 0.6, "person", windows)


def lamp(rng: np.random.Generator, minutes: int) -> Appliance:
    """A lamp for the evening."""
    on, windows = _evening(rng, minutes, (16, 20), (3, 6))
    watts = rng.uniform(5, 45)
    course = np.where(on, watts * np.exp(_wander(rng, minutes, 0.02, 300)), 0.0)
    return Appliance("lamp", "led", course, _label(rng, watts), on, 0.8, "", windows)


def router(rng: np.random.Generator, minutes: int) -> Appliance:
    """Electronics that are always the same."""
    mean = rng.uniform(5, 30)
    watts = mean * _days(rng, minutes, 0.02) * np.exp(_wander(rng, minutes, 0.03, 30))
    always = np.ones(minutes, dtype=bool)
    return Appliance("router", "electronics", watts, _label(rng, mean), always, 0.55)


def kettle(rng: np.random.Generator, minutes: int) -> Appliance:
    """A kettle or microwave: a family's number of uses, a length each."""
    power, length = rng.uniform(900, 2200), rng.uniform(2, 6)
    per_day = float(np.exp(rng.normal(np.log(4), 0.45)))
    starts = np.flatnonzero(rng.poisson(rate_by_minute(rng, minutes, per_day, KITCHEN, 0.3)))
    watts, running = np.zeros(minutes), np.zeros(minutes, dtype=bool)
    for start in starts:
        left = length * np.exp(rng.normal(0, 0.3))
        minute = start
        while left > 0 and minute < minutes:
            watts[minute] = power * min(1.0, left)
            running[minute] = True
            left, minute = left - 1, minute + 1
    said = float(max(1, round(per_day * np.exp(rng.normal(0, 0.3)))))
    return Appliance(
        "kettle",
        "resistive-heat",
        watts,
        power * rng.uniform(0.98, 1.05),
        running,
        runs_by="person",
        events=starts,
        event_min=length,
        said_a_day=said,
    )


Maker = Callable[[np.random.Generator, int], Appliance]
#: Appliances by sort; those that run by themselves, and those that people or water use.
BY_THEMSELVES: dict[str, Maker] = {
    "box": box,
    "variable box": variable_box,
    "heater": heater,
    "router": router,
}
BY_USE: dict[str, Maker] = {
    "water tank": water_tank,
    "float pump": float_pump,
    "screen": screen,
    "bedside": bedside,
    "lamp": lamp,
    "kettle": kettle,
}
SORTS = BY_THEMSELVES | BY_USE
