"""A day plan: which loads run when, on which supply, for how long."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta, tzinfo
from typing import Any

import numpy as np

from needle.decide.starting import TESTED
from needle.document import DocumentError, Reader
from needle.supply.supply import Supply, parse_supply

#: Shortest and longest plan, h: a minute, two weeks.
LEAST_HOURS, MOST_HOURS = 1 / 60, 336.0
PRIORITIES = ("must", "should", "nice")
_CLOCK = re.compile(r"([01]?\d|2[0-3]):([0-5]\d)|24:00")


@dataclass(frozen=True)
class Window:
    """From one moment to another: every day (minutes after midnight), or once (datetimes)."""

    start: int | datetime
    end: int | datetime


@dataclass(frozen=True)
class PlanLoad:
    """One load as the plan uses it.

    Attributes
    ----------
    name : str
    running_w, resting_w : float
        W.
    duty : float
        Share of time running while in use.
    cycle_min : float
        Length of a cycle, min.
    power_factor : float
        Share.
    start_va : float
        VA; running VA where nothing is known.
    start_s : float
        s.
    spread : float
        Relative spread of the mean draw.
    windows : tuple of Window
        When it is in use; empty for always.
    priority : str
        One of :data:`PRIORITIES`.
    count : int
        How many of them, each cycling on its own.
    set_c, measured_room_c : float or None
        Set point, and the room where the duty was measured, °C.
    start_tested : str
        What came of a start test on this supply, of :data:`needle.decide.starting.TESTED`; or "".
    """

    name: str
    running_w: float
    resting_w: float = 0.0
    duty: float = 1.0
    cycle_min: float = 40.0
    power_factor: float = 1.0
    start_va: float = 0.0
    start_s: float = 0.3
    spread: float = 0.0
    windows: tuple[Window, ...] = ()
    priority: str = "should"
    count: int = 1
    set_c: float | None = None
    measured_room_c: float | None = None
    start_tested: str = ""

    @property
    def mean_w(self) -> float:
        """Mean W while in use, one of them."""
        return self.resting_w + self.duty * (self.running_w - self.resting_w)


@dataclass(frozen=True)
class Plan:
    """Loads on a supply.

    Attributes
    ----------
    start : datetime
        With an offset.
    hours : float
        How far it looks, h.
    needed_hours : float
        How long the supply must last, h.
    supply : Supply
    loads : tuple of PlanLoad
    room_c : float or None
        °C.
    """

    start: datetime
    hours: float
    needed_hours: float
    supply: Supply
    loads: tuple[PlanLoad, ...]
    room_c: float | None = None


def in_use(load: PlanLoad, start: datetime, minutes: int) -> np.ndarray:
    """Which minutes of a plan a load is in use: booleans, shape (minutes,)."""
    if not load.windows:
        return np.ones(minutes, dtype=bool)
    mask = np.zeros(minutes, dtype=bool)
    clock = (start.hour * 60 + start.minute + np.arange(minutes)) % 1440
    for window in load.windows:
        if isinstance(window.start, datetime) and isinstance(window.end, datetime):
            first, last = (
                round((moment - start).total_seconds() / 60)
                for moment in (window.start, window.end)
            )
            mask[max(0, first) : max(0, last)] = True
        elif isinstance(window.start, int) and isinstance(window.end, int):
            after, before = clock >= window.start, clock < window.end
            mask |= (after & before) if window.start < window.end else (after | before)
    return mask


def parse_moment(text: Any, path: str, zone: tzinfo | None) -> int | datetime:
    """``"HH:MM"`` as minutes after midnight, or ISO 8601 as a datetime."""
    if isinstance(text, str):
        if _CLOCK.fullmatch(text.strip()):
            hours, minutes = text.strip().split(":")
            return int(hours) * 60 + int(minutes)
        try:
            moment = datetime.fromisoformat(text)
        except ValueError:
            pass
        else:
            return moment if moment.tzinfo else moment.replace(tzinfo=zone or UTC)
    raise DocumentError(
        path, f'{str(text)[:40]!r} is not a time: write "18:30" or "2027-02-09T18:30:00+00:00"'
    )


def parse_windows(items: Sequence[Any], path: str, zone: tzinfo | None) -> tuple[Window, ...]:
    """Read a list of [from, to]."""
    windows = []
    for index, item in enumerate(items):
        where = f"{path}[{index}]"
        if not isinstance(item, list | tuple) or len(item) != 2:
            raise DocumentError(where, 'must be ["18:00", "22:30"]')
        start, end = (parse_moment(one, where, zone) for one in item)
        if type(start) is not type(end):
            raise DocumentError(where, "must be two times of day, or two dates with times")
        if start == end:
            raise DocumentError(where, "begins and ends at the same time")
        if isinstance(start, datetime) and isinstance(end, datetime) and end < start:
            raise DocumentError(where, "ends before it begins")
        windows.append(Window(start, end))
    return tuple(windows)


_LOAD_KEYS = (
    "name", "route", "running_w", "resting_w", "duty", "cycle_min", "power_factor", "start_va",
    "start_s", "spread", "set_c", "measured_room_c", "use", "priority", "count", "start_tested",
)  # fmt: skip


def _parse_load(data: Any, path: str, zone: tzinfo | None) -> PlanLoad:
    reader = Reader(data, path, _LOAD_KEYS, later=("steps", "charge"))
    if (route := reader.text("route", "ac")) != "ac":
        raise DocumentError(
            reader.at("route"), f"“{route}” is not yet understood by this version; only “ac” is"
        )
    use = reader.data.get("use", "always")
    windows: tuple[Window, ...] = ()
    if use != "always":
        if isinstance(use, str):
            raise DocumentError(reader.at("use"), f'{use[:40]!r} is not known; write "always"')
        inner = Reader(use, reader.at("use"), ("between",), later=("tasks", "charges"))
        windows = parse_windows(inner.items("between", most=500), inner.at("between"), zone)
        if not windows:
            raise DocumentError(reader.at("use"), 'needs "between" with at least one window')
    running = reader.need("running_w", most=100_000)
    resting = reader.number("resting_w", most=100_000) or 0.0
    if resting > running:
        raise DocumentError(
            reader.at("resting_w"), f"{resting:g} W is above the running {running:g} W"
        )

    def given(key: str, default: float, least: float, most: float, above: bool = False) -> float:
        value = reader.number(key, least, most, above)
        return default if value is None else value

    factor = given("power_factor", 1.0, 0.0, 1.0, True)
    count = given("count", 1.0, 1, 100)
    if count != int(count):
        raise DocumentError(reader.at("count"), f"{count:g} must be a whole number")
    return PlanLoad(
        name=reader.text("name", most=120) or path,
        running_w=running,
        resting_w=resting,
        duty=given("duty", 1.0, 0.0, 1.0),
        cycle_min=given("cycle_min", 40.0, 0.5, 10_080),
        power_factor=factor,
        start_va=max(given("start_va", 0.0, 0.0, 1_000_000), running / factor),
        start_s=given("start_s", 0.3, 0.0, 600),
        spread=given("spread", 0.0, 0.0, 2.0),
        windows=windows,
        priority=reader.choice("priority", PRIORITIES, "should"),
        count=int(count),
        set_c=reader.number("set_c", least=-100, most=400),
        measured_room_c=reader.number("measured_room_c", least=-60, most=80),
        start_tested=reader.choice("start_tested", ("", *TESTED), ""),
    )


def parse_plan(data: Any) -> Plan:
    """Read a plan document (see ``docs/formats.md``).

    Raises
    ------
    DocumentError
    """
    reader = Reader(
        data,
        "",
        ("name", "start", "hours", "needed_hours", "room_c", "supply", "loads"),
        later=("sources",),
    )
    start = parse_moment(reader.text("start", "2027-01-01T18:00:00+00:00"), "start", UTC)
    if not isinstance(start, datetime):
        raise DocumentError("start", 'needs a date: write "2027-02-09T18:00:00+00:00"')
    hours = reader.need("hours", least=LEAST_HOURS, most=MOST_HOURS)
    needed = reader.number("needed_hours", least=LEAST_HOURS, most=MOST_HOURS)
    needed = hours if needed is None else needed
    loads = tuple(
        _parse_load(item, f"loads[{index}]", start.tzinfo)
        for index, item in enumerate(reader.items("loads", most=500))
    )
    names = [load.name for load in loads]
    if twice := next((name for name in names if names.count(name) > 1), None):
        raise DocumentError("loads", f"two loads are called “{twice}”: give each its own name")
    supply = parse_supply(reader.data.get("supply"))
    if loads and supply.inverter is None:
        raise DocumentError("supply.inverter", "is needed: the loads' route is AC")
    return Plan(
        start=start,
        hours=max(hours, needed),
        needed_hours=needed,
        supply=supply,
        loads=loads,
        room_c=reader.number("room_c", least=-60, most=80),
    )


def moment_after(start: datetime, hours: float, to_min: int = 1) -> datetime:
    """The moment so many hours into a plan, rounded to so many minutes."""
    return start + timedelta(minutes=to_min * round(hours * 60 / to_min))


_SPAN = re.compile(r"^(\d{1,2})(?::?([0-5]\d))?\s*(?:-|–|—|to)\s*(\d{1,2})(?::?([0-5]\d))?$", re.I)


def windows_from_text(text: str) -> list[list[str]]:
    """Read ``18:00–22:30, 7–9`` as daily windows; ``always`` or nothing as none.

    Raises
    ------
    DocumentError
        Names the part that is not a span of the day.
    """
    if text.strip().casefold() in ("", "always"):
        return []
    windows = []
    for part in re.split(r"[,;]|\band\b", text):
        found = _SPAN.match(part.strip())
        if not found:
            raise DocumentError(
                "use", f"“{part.strip()[:30]}” is not a span of the day such as 18:00–22:30"
            )
        start_h, start_m, end_h, end_m = (int(one or 0) for one in found.groups())
        if start_h > 23 or end_h > 24 or (end_h == 24 and end_m):
            raise DocumentError("use", f"“{part.strip()}” goes beyond 24:00")
        windows.append([f"{start_h:02d}:{start_m:02d}", f"{end_h % 24:02d}:{end_m:02d}"])
    parse_windows(windows, "use", UTC)
    return windows
