"""A log of a run: one row per check-in, with time, charge, Wh, W and a note."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Sequence
from datetime import datetime, timedelta, tzinfo
from typing import Any

from needle import quantity
from needle.document import DocumentError
from needle.trial.trial import MOST_H

MOST_ROWS = 5000
#: What a row says, by key and unit.
Named = dict[tuple[str, str], str]
#: Columns where the first row does not name them.
USUAL = ("time", "percent", "wh", "watts", "note")
#: What columns are called, and the key and unit that a check-in has for them.
_NAMES = {
    "time": ("time", ""),
    "h": ("time", ""),
    "hours": ("time", ""),
    "elapsed": ("time", ""),
    "when": ("time", ""),
    "charge": ("percent", ""),
    "percent": ("percent", ""),
    "%": ("percent", ""),
    "soc": ("percent", ""),
    "bars": ("percent", ""),
    "wh": ("wh", "Wh"),
    "energy": ("wh", "Wh"),
    "counted": ("wh", "Wh"),
    "ah": ("ah", "Ah"),
    "w": ("watts", "W"),
    "watts": ("watts", "W"),
    "drawn": ("watts", "W"),
    "power": ("watts", "W"),
    "w in": ("watts_in", "W"),
    "wh in": ("wh_in", "Wh"),
    "v": ("volts", "V"),
    "volts": ("volts", "V"),
    "a": ("amps", "A"),
    "amps": ("amps", "A"),
    "room": ("room_c", "°C"),
    "°c": ("room_c", "°C"),
    "leg": ("leg", ""),
    "note": ("note", ""),
    "notes": ("note", ""),
    "display says": ("display_h", "h"),
    "display_says": ("display_h", "h"),
}
#: A charge in bars: ``3 of 4``, ``3/4 bars``.
_BARS = re.compile(r"^(\d{1,3})\s*(?:/|of|out of)\s*(\d{1,3})(?:\s*bars?)?$", re.I)
MOST_BARS = 100
_EMPTY = ("", "-", "–", "—", "--", "nan")
#: A row as people write it: a time, figures with their units, and a note.
_TIME_FIRST = re.compile(
    r"^(?P<time>(?:[a-zäöü]{2,9}\.?,?\s+)?(?:\d{1,2}\s*d(?:ays?)?\s*)?"
    r"(?:\d{4}-\d\d-\d\d[t ])?(?:\d{1,3}:\d\d(?::\d\d)?(?:\s*h)?"
    r"|\d+(?:[.,]\d+)?\s*h(?:ours?|rs?|[0-5]?\d|\s*[0-5]?\d\s*min)?|\d+\s*min))\s+(?=\S)",
    re.I,
)
_FIGURE = re.compile(
    r"^(?:(?P<bars>\d{1,3}\s*(?:/|of|out of)\s*\d{1,3}(?:\s*bars?)?)"
    r"|(?P<figure>-?\d+(?:[.,]\d+)?\s*(?P<unit>%|[km]?wh|m?ah|k?w|v|a|°c)))(?=[\s,.]|$)[,.]?\s*",
    re.I,
)
_DAY_AND_TIME = re.compile(r"^(?:([a-zäöü]{2,9})\.?,?\s+)?(\d{1,2}):([0-5]\d)(?::[0-5]\d)?$", re.I)
_DAYS = ("mo", "tu", "we", "th", "fr", "sa", "su")


def check_ins_of_log(text: str, start: datetime | None = None) -> list[dict[str, Any]]:
    """Parse a log into check-ins.

    Parameters
    ----------
    text : str
        Rows of cells separated by tab, semicolon or comma. The first row may name the columns;
        else they are time, charge, Wh, W, note. Or rows as people write them, each figure with its
        unit: ``6h 88 % 22 Ah, cloudy``.
    start : datetime or None
        Start of the run, if times are clock times: ``14:20`` (after midnight on the next day),
        ``Tue 14:20``, or ISO 8601. None if times count from the start: ``1:30``, ``2 d
        4:10``, ``90 min``.

    Returns
    -------
    list of dict
        Check-ins as in the trial document.

    Raises
    ------
    DocumentError
        The message names the row, its text, and what would be accepted.
    """
    check_ins: list[dict[str, Any]] = []
    last: datetime | None = start
    for number, named in _with_units(text) or _by_columns(text):
        written = named.pop(("time", ""), "")
        if start is None:
            hours = _elapsed(written, number)
        else:
            assert last is not None
            last = _clock(written, last, number)
            hours = (last - start).total_seconds() / 3600
        if not 0 <= hours <= MOST_H:
            raise DocumentError("log", f"row {number}: “{written[:30]}” is not within the run")
        check_ins.append({"h": round(hours, 5), **_figures(named, number)})
    return check_ins


def _with_units(text: str) -> list[tuple[int, Named]]:
    """Rows in which each figure has its unit; empty if the first is none."""
    rows: list[tuple[int, Named]] = []
    lines = [line.strip() for line in text.strip().splitlines() if line.strip()]
    if not lines or len(lines) > MOST_ROWS or re.search("[;\t]", lines[0]):
        return []
    for number, line in enumerate(lines, 1):
        named = _row_with_units(line, number)
        if number == 1 and not named.keys() - {("time", ""), ("note", "")}:
            return []
        rows.append((number, named))
    return rows


def _row_with_units(line: str, number: int) -> Named:
    begins = _TIME_FIRST.match(line)
    rest = line[begins.end() :] if begins else ""
    named: Named = {("time", ""): begins["time"] if begins else line}
    while found := _FIGURE.match(rest):
        key = _NAMES[(found["unit"] or "%").casefold().removeprefix("k").removeprefix("m")]
        if key in named:
            raise DocumentError("log", f"row {number}: gives {key[0]} twice")
        named[key] = found["bars"] or found["figure"]
        rest = rest[found.end() :]
    return {**named, ("note", ""): rest}


def _by_columns(text: str) -> list[tuple[int, Named]]:
    """Rows of a table, by the keys and units of their columns."""
    keys, rows = _columns(_rows(text))
    return [(number, dict(zip(keys, cells, strict=False))) for number, cells in rows]


def _rows(text: str) -> list[tuple[int, list[str]]]:
    lines = [line for line in text.strip().splitlines() if line.strip()]
    if not lines:
        raise DocumentError("log", "is empty: a row for each look, such as “1:30; 92 %; 120; 80”")
    if len(lines) > MOST_ROWS:
        raise DocumentError("log", f"has {len(lines)} rows: at most {MOST_ROWS}")
    comma = next((mark for mark in ("\t", ";", ",") if mark in lines[0]), ",")
    try:
        parsed = list(csv.reader(io.StringIO("\n".join(lines)), delimiter=comma))
    except csv.Error as error:
        raise DocumentError("log", f"is no table: {error}") from None
    return [(number, [cell.strip() for cell in row]) for number, row in enumerate(parsed, 1)]


def _columns(
    rows: Sequence[tuple[int, list[str]]],
) -> tuple[list[tuple[str, str]], Sequence[tuple[int, list[str]]]]:
    """Keys and units of the columns, and the rows below them."""
    first = [re.sub(r"[\[(].*$|,? in .*$", "", cell.casefold()).strip() for cell in rows[0][1]]
    if not any(name in _NAMES for name in first):
        return [_NAMES.get(key, (key, "")) for key in USUAL], rows
    if unknown := set(first) - {"", *_NAMES}:
        known = "time, charge, Wh, Ah, W, V, A, note"
        raise DocumentError("log", f"column “{min(unknown)[:30]}” is not known: {known}")
    keys = [_NAMES.get(name, ("", "")) for name in first]
    if ("time", "") not in keys:
        raise DocumentError("log", "has no column “time”")
    if len(rows) < 2:
        raise DocumentError("log", "has no row beneath its names")
    return keys, rows[1:]


def _elapsed(written: str, number: int) -> float:
    try:
        return quantity.parse(written, "h").value
    except quantity.QuantityError:
        raise DocumentError(
            "log", f"row {number}: “{written[:30]}” is no time since the start, such as 1:30"
        ) from None


def _clock(written: str, last: datetime, number: int) -> datetime:
    """The first moment with a time of day at or after the last one."""
    match = _DAY_AND_TIME.match(written)
    if match is None:
        return _iso(written, last.tzinfo, number)
    day, hour, minute = match[1], int(match[2]), int(match[3])
    if hour > 23 or (day and day[:2].casefold() not in _DAYS):
        raise DocumentError("log", f"row {number}: “{written[:30]}” is no time of day")
    moment = last.replace(hour=hour, minute=minute, second=0, microsecond=0)
    # A start within the same minute: seconds are not written down.
    if moment < last.replace(second=0, microsecond=0):
        moment += timedelta(days=1)
    if day:
        moment += timedelta(days=(_DAYS.index(day[:2].casefold()) - moment.weekday()) % 7)
    return max(moment, last)


def _iso(written: str, zone: tzinfo | None, number: int) -> datetime:
    try:
        moment = datetime.fromisoformat(written)
    except ValueError:
        raise DocumentError(
            "log", f"row {number}: “{written[:30]}” is no time: write 14:20, Tue 14:20 or a date"
        ) from None
    return moment if moment.tzinfo is not None else moment.replace(tzinfo=zone)


def _figures(named: dict[tuple[str, str], str], number: int) -> dict[str, Any]:
    figures: dict[str, Any] = {}
    for (key, unit), written in named.items():
        if not key or written.casefold() in _EMPTY:
            continue
        if key in ("note", "leg"):
            figures[key] = written[:120]
        elif key == "percent":
            figures |= _shown(written, number)
        else:
            try:
                figures[key] = quantity.parse(written, unit).value
            except quantity.QuantityError as error:
                raise DocumentError("log", f"row {number}: {error}") from None
    return figures


def _shown(written: str, number: int) -> dict[str, Any]:
    try:
        return charge_of(written)
    except DocumentError as error:
        raise DocumentError("log", f"row {number}: {error.message}") from None


def charge_of(written: str) -> dict[str, Any]:
    """Parse a charge as a display shows it: ``61``, ``61 %``, ``3 of 4``, ``3/4 bars``.

    Returns ``percent``, or ``bars`` and ``of``, as in a check-in.

    Raises
    ------
    DocumentError
    """
    if match := _BARS.match(written.strip()):
        lit, of = int(match[1]), int(match[2])
        if not 0 < of <= MOST_BARS or lit > of:
            raise DocumentError("charge", f"“{written[:30]}” is no number of bars")
        return {"bars": lit, "of": of}
    try:
        share = float(written.replace("%", "").replace(",", ".").strip())
    except ValueError:
        share = -1.0
    if not 0 <= share <= 100:
        words = "is no charge: a percentage, or bars such as 3 of 4"
        raise DocumentError("charge", f"“{written[:30]}” {words}")
    return {"percent": share}
