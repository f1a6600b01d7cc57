"""Times in plans: daily windows and moments, as text and in minutes."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta, tzinfo
from typing import Any

import numpy as np

from needle.document import DocumentError

DAY_MIN = 1440
#: Years that a plan or a trial may lie in: a calendar's ends leave no room for its hours.
FIRST_YEAR, LAST_YEAR = 1971, 2399
_CLOCK = re.compile(r"([01]?\d|2[0-3]):([0-5]\d)|24:00")
#: A moment: minutes after midnight for every day, or once.
Moment = int | datetime
#: Between these hours tasks that are only counted by the day are spread out.
_WAKING = (8 * 60, 20 * 60)


@dataclass(frozen=True)
class Window:
    """A period of time: daily (minutes after midnight), or once (datetimes)."""

    start: Moment
    end: Moment


def day_text(day: str) -> str:
    """An ISO 8601 day as people write it: ``27 Sep 2026``."""
    moment = datetime.fromisoformat(day[:10])
    return f"{moment.day} {moment:%b %Y}"


def in_windows(windows: Sequence[Window], start: datetime, minutes: int) -> np.ndarray:
    """Minutes of a plan that are within windows, boolean, shape (minutes,)."""
    mask = np.zeros(minutes, dtype=bool)
    clock = (start.hour * 60 + start.minute + np.arange(minutes)) % DAY_MIN
    for window in windows:
        if isinstance(window.start, datetime) and isinstance(window.end, datetime):
            first, last = (minute_of(moment, start) for moment in (window.start, window.end))
            mask[max(0, first) : max(0, last)] = True
        elif isinstance(window.start, int) and isinstance(window.end, int):
            after, before = clock >= window.start, clock < window.end
            mask |= (after & before) if window.start < window.end else (after | before)
    return mask


def minute_of(moment: datetime, start: datetime) -> int:
    """Whole minutes from a plan's start to a moment."""
    return round((moment - start).total_seconds() / 60)


def occurrences(moments: Sequence[Moment], start: datetime, minutes: int) -> list[int]:
    """Minutes of a plan at which moments occur, in order."""
    clock = start.hour * 60 + start.minute
    starts: set[int] = set()
    for moment in moments:
        if isinstance(moment, datetime):
            starts.add(minute_of(moment, start))
        else:
            starts.update(range((moment - clock) % DAY_MIN, minutes, DAY_MIN))
    return sorted(start for start in starts if 0 <= start < minutes)


def spread_over_day(count: int) -> tuple[int, ...]:
    """Minutes after midnight of a number of tasks per day, evenly over waking hours."""
    first, last = _WAKING
    return tuple(round(first + (last - first) * (n + 0.5) / count) for n in range(count))


def parse_moment(text: Any, path: str, zone: tzinfo | None) -> Moment:
    """Parse ``"HH:MM"`` as minutes after midnight, or ISO 8601 as a datetime."""
    if isinstance(text, str):
        if _CLOCK.fullmatch(text.strip()):
            hours, minutes = text.strip().split(":")
            return int(hours) * 60 + int(minutes)
        try:
            moment = datetime.fromisoformat(text)
        except ValueError:
            pass
        else:
            if not FIRST_YEAR <= moment.year <= LAST_YEAR:
                raise DocumentError(
                    path, f"{text[:40]!r} lies out of the years {FIRST_YEAR} to {LAST_YEAR}"
                )
            return moment if moment.tzinfo else moment.replace(tzinfo=zone or UTC)
    raise DocumentError(
        path, f'{str(text)[:40]!r} is not a time: write "18:30" or "2027-02-09 18:30"'
    )


def parse_windows(items: Sequence[Any], path: str, zone: tzinfo | None) -> tuple[Window, ...]:
    """Parse a list of [from, to]; they must not overlap."""
    windows: list[Window] = []
    for index, item in enumerate(items):
        where = f"{path}[{index}]"
        if not isinstance(item, list | tuple) or len(item) != 2:
            raise DocumentError(where, 'must be ["18:00", "22:30"]')
        start, end = (parse_moment(end, where, zone) for end in item)
        if type(start) is not type(end):
            raise DocumentError(where, "must be two times of day, or two dates with times")
        if start == end:
            raise DocumentError(where, "begins and ends at the same time")
        if isinstance(start, datetime) and isinstance(end, datetime) and end < start:
            raise DocumentError(where, "ends before it begins")
        window = Window(start, end)
        if clash := next((other for other in windows if _overlap(other, window)), None):
            raise DocumentError(where, f"overlaps {_span_text(clash)}: join them into one")
        windows.append(window)
    return tuple(windows)


def _overlap(first: Window, second: Window) -> bool:
    if isinstance(first.start, int) != isinstance(second.start, int):
        return False
    if isinstance(first.start, int):
        day = datetime(2000, 1, 1, tzinfo=UTC)
        masks = [in_windows([window], day, DAY_MIN) for window in (first, second)]
        return bool((masks[0] & masks[1]).any())
    return bool(first.start < second.end and second.start < first.end)  # type: ignore[operator]


def _span_text(window: Window) -> str:
    def text(moment: Moment) -> str:
        if isinstance(moment, datetime):
            return moment.isoformat(timespec="minutes")
        return f"{moment // 60:02d}:{moment % 60:02d}"

    return f"{text(window.start)}–{text(window.end)}"


def parse_moments(items: Sequence[Any], path: str, zone: tzinfo | None) -> tuple[Moment, ...]:
    """Parse a list of moments."""
    return tuple(parse_moment(item, f"{path}[{index}]", zone) for index, item in enumerate(items))


def moment_after(start: datetime, hours: float, to_min: int = 1) -> datetime:
    """The moment some hours into a plan, rounded to a number of minutes."""
    return start + timedelta(minutes=to_min * round(hours * 60 / to_min))
