"""Interval files of a utility's meter: the whole house, by the quarter or half hour.

The format is ESPI, an Atom feed of XML (NAESB REQ.21, *Energy Services Provider Interface*;
namespace ``http://naesb.org/espi``). Of it these are used:

- ``IntervalReading``: ``timePeriod`` (``start``, seconds since 1970 UTC; ``duration``, s) and
  ``value``;
- ``ReadingType``: ``uom`` (72 is Wh, 38 is W), ``powerOfTenMultiplier``, ``flowDirection`` (1 is
  delivered to the house, 19 received from it), ``accumulationBehaviour`` (4 is the difference over
  the interval, 3 a counter), ``intervalLength``;
- links of entries, where a file has more than one reading type.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any
from xml.etree.ElementTree import Element, ParseError

import numpy as np
from defusedxml import DefusedXmlException
from defusedxml.ElementTree import fromstring

from needle.document import DocumentError
from needle.message import Message, message

WH, W = 72, 38
DELIVERED, RECEIVED = 1, 19
COUNTER = 3
MOST_INTERVALS = 1_000_000
#: Moments that a meter may speak of: 2000 to 2100, s; and the longest time of one file, s.
FIRST_S, LAST_S, LONGEST_S = 946_684_800.0, 4_102_444_800.0, 6 * 366 * 86_400.0
#: Mean power of one interval that is no misread file, W.
MOST_W = 1e6
SECONDS_PER_HOUR = 3600.0


@dataclass(frozen=True)
class Intervals:
    """Energy by intervals, in order and without overlaps.

    Attributes
    ----------
    start_s : ndarray of shape (n,)
        Seconds since 1970, UTC.
    duration_s : ndarray of shape (n,)
    wh : ndarray of shape (n,)
        Energy delivered in each, Wh.
    notices : tuple of Message
    """

    start_s: np.ndarray
    duration_s: np.ndarray
    wh: np.ndarray
    notices: tuple[Message, ...] = ()


@dataclass(frozen=True)
class _Type:
    """A reading type: what one unit of a value is."""

    uom: int = WH
    multiplier: int = 0
    direction: int = DELIVERED
    accumulation: int = 4
    length_s: float = 0.0


def read_intervals(content: bytes) -> Intervals:
    """Parse an interval file.

    Raises
    ------
    DocumentError
        It is no such file, or has no energy that was delivered.
    """
    try:
        root = fromstring(content, forbid_dtd=True)
    except DefusedXmlException:
        raise DocumentError("", "holds a document type, which no interval file needs") from None
    except (ParseError, ValueError, LookupError):
        raise DocumentError("", "is not XML") from None
    blocks = list(_blocks(root))
    if not blocks:
        raise DocumentError("", "has no IntervalBlock: is it an ESPI interval file?")
    rows: list[tuple[float, float, float]] = []
    left_out: dict[str, int] = {}
    for kind, block in blocks:
        why = _why_not(kind)
        readings = block.findall("{*}IntervalReading")
        if why:
            left_out[why] = left_out.get(why, 0) + len(readings)
            continue
        first = len(rows)
        rows.extend(_row(reading, kind, first + number) for number, reading in enumerate(readings))
        if len(rows) > MOST_INTERVALS:
            raise DocumentError("", f"has more than {MOST_INTERVALS} intervals")
    notices = [message(why, intervals=count) for why, count in left_out.items()]
    if not rows:
        raise DocumentError("", "has no interval with energy that was delivered to the house")
    return _in_order(np.array(rows), notices)


def _why_not(kind: _Type) -> str:
    """Code of why intervals of a type are left out; empty if they count."""
    if kind.uom not in (WH, W):
        return "intervals-not-energy"
    if kind.direction == RECEIVED:
        return "intervals-fed-in"
    return "intervals-counter" if kind.accumulation == COUNTER else ""


def _blocks(root: Element) -> Iterator[tuple[_Type, Element]]:
    """Interval blocks with their reading types."""
    entries = root.findall(".//{*}entry")
    types = {
        _link(entry, "self"): _type(kind)
        for entry in entries
        if (kind := entry.find(".//{*}ReadingType")) is not None
    }
    only = next(iter(types.values())) if len(types) == 1 else None
    # A meter reading relates its type and, under the same address, its blocks.
    of_reading = {
        _link(entry, "self"): types[related]
        for entry in entries
        if entry.find(".//{*}MeterReading") is not None
        for related in _links(entry, "related")
        if related in types
    }
    for entry in entries:
        for block in entry.findall(".//{*}IntervalBlock"):
            above = _link(entry, "up") or _link(entry, "self")
            related = (kind for link, kind in of_reading.items() if link and link in above)
            known = only or next(related, None)
            if known is None and types:
                raise DocumentError("", "does not say which ReadingType its blocks have")
            yield known or _Type(), block


def _links(entry: Element, relation: str) -> list[str]:
    return [
        link.get("href", "") for link in entry.findall("{*}link") if link.get("rel") == relation
    ]


def _link(entry: Element, relation: str) -> str:
    return next(iter(_links(entry, relation)), "")


def _type(element: Element) -> _Type:
    return _Type(
        int(_number(element, "uom", WH)),
        int(_number(element, "powerOfTenMultiplier", 0)),
        int(_number(element, "flowDirection", DELIVERED)),
        int(_number(element, "accumulationBehaviour", 4)),
        _number(element, "intervalLength", 0.0),
    )


def _number(element: Element, name: str, otherwise: float | None = None, where: str = "") -> float:
    text = (element.findtext(f"{{*}}{name}") or "").strip()
    if not text and otherwise is not None:
        return otherwise
    try:
        number = float(text)
    except ValueError:
        raise DocumentError(where or name, f"“{text[:30]}” is not a number") from None
    if not np.isfinite(number):
        raise DocumentError(where or name, f"“{text[:30]}” is not a number")
    return number


def _row(reading: Element, kind: _Type, number: int) -> tuple[float, float, float]:
    """Start (s), duration (s) and energy (Wh) of a reading."""
    where = f"interval {number + 1}"
    period = reading.find("{*}timePeriod")
    if period is None:
        raise DocumentError(where, "has no timePeriod")
    start = _number(period, "start", where=where)
    duration = _number(period, "duration", kind.length_s or None, where)
    if not 0 < duration <= LONGEST_S:
        raise DocumentError(where, f"{duration:g} s is no interval")
    if not FIRST_S <= start <= LAST_S:
        raise DocumentError(where, f"begins at {start:g}, which are no seconds since 1970")
    value = _number(reading, "value", where=where) * 10.0**kind.multiplier
    hours = duration / SECONDS_PER_HOUR
    wh = value * hours if kind.uom == W else value
    if not 0 <= wh / hours <= MOST_W:
        raise DocumentError(where, f"{wh:g} Wh in {hours:g} h is no house")
    return start, duration, wh


def _in_order(rows: np.ndarray, notices: list[Message]) -> Intervals:
    """Intervals by time; of those that overlap the first counts."""
    rows = rows[np.argsort(rows[:, 0], kind="stable")]
    if rows[-1, 0] - rows[0, 0] > LONGEST_S:
        raise DocumentError("", "covers more than six years: split it")
    ends = np.maximum.accumulate(rows[:, 0] + rows[:, 1])
    fresh = np.concatenate(([True], rows[1:, 0] >= ends[:-1] - 1.0))
    if not fresh.all():
        notices.append(message("intervals-twice", intervals=int((~fresh).sum())))
    kept: Any = rows[fresh]
    return Intervals(kept[:, 0], kept[:, 1], kept[:, 2], tuple(notices))
