"""On and off times as people note them."""

from __future__ import annotations

import re

from needle.document import DocumentError
from needle.quantity import QuantityError, parse

_MOMENT = re.compile(r"^(on|off)\s*(?:at|=|:|@|-)?\s*(.+)$", re.IGNORECASE)
_CLOCK = re.compile(r"^(?:(\d{1,3}):)?(\d{1,3}):([0-5]\d)$")
_DAY_S = 86_400.0


def parse_moments(text: str) -> list[tuple[str, float]]:
    """Parse lines such as ``on 0:00``, ``off 6:50``, ``on 14:21:30``, ``off 410 s``.

    Two numbers are minutes and seconds since the start, three are hours, minutes and seconds (since
    the start, or of the clock; midnight may pass in between). A bare number is seconds.

    Returns
    -------
    list of ("on" or "off", seconds)
        As written, in seconds since the first time.

    Raises
    ------
    DocumentError
        The message names the line.
    """
    edges: list[tuple[str, float]] = []
    parts = [part.strip() for part in re.split(r"[\n,;]+", text) if part.strip()]
    for number, part in enumerate(parts, 1):
        match = _MOMENT.match(part)
        if not match:
            raise DocumentError(
                "edges", f"moment {number}, “{part[:30]}”, is not like “on 0:00” or “off 6:50”"
            )
        seconds, of_clock = _seconds(match[2].strip(), number)
        last = edges[-1][1] if edges else 0.0
        if edges and of_clock and seconds < last:
            seconds += _DAY_S
        if edges and seconds < last:
            raise DocumentError(
                "edges", f"moment {number}, “{part[:30]}”, comes before the one above it"
            )
        edges.append((match[1].lower(), seconds))
    first = edges[0][1] if edges else 0.0
    return [(name, seconds - first) for name, seconds in edges]


def _seconds(text: str, number: int) -> tuple[float, bool]:
    """Seconds, and whether they may be clock time."""
    if clock := _CLOCK.match(text):
        hours, minutes, seconds = (int(part or 0) for part in clock.groups())
        return hours * 3600.0 + minutes * 60.0 + seconds, clock[1] is not None
    try:
        return parse(text, "s").value, False
    except QuantityError as error:
        raise DocumentError("edges", f"moment {number}: {error}") from None


def written(edges: tuple[tuple[str, float], ...]) -> str:
    """The times in the form that :func:`parse_moments` reads, one per line."""
    lines = []
    for name, at in edges:
        minutes, seconds = divmod(round(at), 60)
        lines.append(f"{name} {minutes // 60}:{minutes % 60:02d}:{seconds:02d}")
    return "\n".join(lines)
