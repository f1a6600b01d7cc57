"""Captures: recorded series of readings, parsed from the CSV files of any logger.

Nothing is guessed: every cell is either parsed or counted in a notice.
"""

from __future__ import annotations

import csv
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, tzinfo
from typing import TYPE_CHECKING, Any

import numpy as np

from needle.document import DocumentError
from needle.measure.table import MISSING, as_text, read_table, separator_of
from needle.measure.times import numeric_times, read_times
from needle.message import Message, message

if TYPE_CHECKING:
    import pandas as pd

COLUMNS = ("watts", "volts", "amps", "va", "pf", "hz", "wh")
#: Other names that loggers give the columns, without case or units.
_NAMES = {
    "w": "watts",
    "power": "watts",
    "active power": "watts",
    "real power": "watts",
    "watt": "watts",
    "v": "volts",
    "voltage": "volts",
    "volt": "volts",
    "a": "amps",
    "current": "amps",
    "amp": "amps",
    "ampere": "amps",
    "amperes": "amps",
    "apparent power": "va",
    "volt-amperes": "va",
    "power factor": "pf",
    "frequency": "hz",
    "hertz": "hz",
    "energy": "wh",
    "timestamp": "time",
    "datetime": "time",
    "date time": "time",
    "date/time": "time",
    "t": "time",
    "seconds": "time",
    "time (s)": "time",
}
#: Factors of the units that headers carry.
_SCALES = {"kw": 1000.0, "kwh": 1000.0, "ma": 0.001, "mv": 0.001, "kva": 1000.0, "%": 0.01}
#: Median intervals beyond which missing rows are a gap.
GAP_INTERVALS = 5.0
#: What no meter shows, whatever the unit.
MOST_VALUE = 1e9
#: Code of watts that were logged themselves.
WATTS_LOGGED = "watts-logged"


@dataclass(frozen=True)
class Capture:
    """Columns of a capture, in order of time.

    Attributes
    ----------
    time_s : ndarray
        Seconds since the first row, increasing.
    columns : dict of ndarray
        Any of :data:`COLUMNS` in W, V, A, VA, share, Hz, Wh; NaN for missing cells.
    start : datetime or None
        Time of the first row, if the file has it.
    notices : tuple of Message
        Anomalies, columns not used, and the number of cells that could not be parsed.
    """

    time_s: np.ndarray
    columns: dict[str, np.ndarray] = field(default_factory=dict)
    start: datetime | None = None
    notices: tuple[Message, ...] = ()

    def watts(self, volts: float | None = None) -> tuple[np.ndarray, Message]:
        """Real power, W, from the best columns available, and how; VA as a last resort.

        Parameters
        ----------
        volts : float or None
            Used if only amps were recorded.

        Raises
        ------
        DocumentError
            No column gives a power.
        """
        columns = self.columns
        if "watts" in columns:
            return columns["watts"], message(WATTS_LOGGED)
        va, how = self.volt_amperes(volts)
        if va is not None and "pf" in columns:
            return va * columns["pf"], message("va-times-pf", va=how)
        if "wh" in columns:
            return _from_counter(self.time_s, columns["wh"]), message("watts-from-counter")
        if va is not None:
            return va, message("va-for-watts", va=how)
        raise DocumentError("columns", "no watts, VA, amps or Wh: name the column that holds them")

    def volt_amperes(self, volts: float | None = None) -> tuple[np.ndarray | None, Message]:
        """Apparent power, VA, as recorded or from V·A; None if unknown."""
        columns = self.columns
        if "va" in columns:
            return columns["va"], message("va-logged")
        if "amps" in columns and "volts" in columns:
            return columns["amps"] * columns["volts"], message("volts-times-amps")
        if "amps" in columns and volts is not None:
            return columns["amps"] * volts, message("amps-times-volts", volts=volts)
        return None, message("va-unknown")

    def interval_s(self) -> float:
        """Median interval between rows, s."""
        return float(np.median(np.diff(self.time_s))) if len(self.time_s) > 1 else 0.0


def _from_counter(time_s: np.ndarray, wh: np.ndarray) -> np.ndarray:
    """Mean W between rows of a counter; resets are gaps."""
    step, span = np.diff(wh, prepend=wh[:1]), np.diff(time_s, prepend=time_s[:1])
    with np.errstate(divide="ignore", invalid="ignore"):
        watts = step * 3600.0 / span
    watts[(step < 0) | (span <= 0)] = np.nan
    return watts


def read_capture(
    text: str | bytes,
    meanings: Mapping[str, str] | None = None,
    zone: tzinfo | None = None,
) -> Capture:
    """Parse a capture file.

    Parameters
    ----------
    text : str or bytes
        The file's content, UTF-8.
    meanings : mapping, optional
        Corrections: header as written → one of :data:`COLUMNS`, ``time``, or "" to ignore it.
    zone : tzinfo, optional
        Zone of times without an offset; default UTC.

    Raises
    ------
    DocumentError
        The text is not a table, has no time column, or no usable row.
    """
    table, header, notices = read_table(text)
    del text  # a long file need not lie beside its columns
    columns, aside = _meanings(header, meanings or {})
    if "time" not in columns and "date" not in columns:
        raise DocumentError("time", f"no time column among {', '.join(header)[:200]}")
    if aside:
        notices.append(message("columns-left-aside", columns=", ".join(aside)[:200]))
    seconds, start = read_times(table, columns, zone or UTC, zone is not None, notices)
    values = {
        name: _numbers(table[column], name, scale, notices)
        for name, (column, scale) in columns.items()
        if name in COLUMNS
    }
    if not values:
        raise DocumentError(
            "columns", f"none of {', '.join(COLUMNS)} is among {', '.join(header)[:200]}"
        )
    return _clean(seconds, values, start, notices)


def _meanings(
    header: Sequence[str], corrections: Mapping[str, str]
) -> tuple[dict[str, tuple[int, float]], list[str]]:
    """Meaning of each column: name → (index, factor); and the names of the other columns."""
    meanings: dict[str, tuple[int, float]] = {}
    aside = []
    for place, written in enumerate(header):
        name, scale = _meaning(written)
        if written in corrections:
            name = corrections[written]
        if name in (*COLUMNS, "time", "date") and name not in meanings:
            meanings[name] = (place, scale)
        else:
            aside.append(written)
    if "date" in meanings and "time" not in meanings:
        meanings["time"] = meanings.pop("date")
    return meanings, aside


def _meaning(written: str) -> tuple[str, float]:
    """The column name of a header, and the factor of its unit."""
    plain = " ".join(written.casefold().replace("_", " ").split())
    unit = ""
    for opening, closing in (("(", ")"), ("[", "]")):
        if opening in plain and plain.endswith(closing):
            plain, _, unit = plain[:-1].rpartition(opening)
            plain, unit = plain.strip(), unit.strip()
    if plain in ("kw", "kwh", "ma", "kva"):
        return {"kw": "watts", "kwh": "wh", "ma": "amps", "kva": "va"}[plain], _SCALES[plain]
    name = _NAMES.get(plain, plain)
    if name == "watts" and unit in ("va", "kva"):
        name = "va"
    return name, _SCALES.get(unit, 1.0)


def _numbers(column: pd.Series, name: str, scale: float, notices: list[Message]) -> np.ndarray:
    """A column as floats; unreadable cells are missing, and counted."""
    import pandas as pd

    if column.dtype.kind in "fi":
        values = column.to_numpy(dtype=np.float64)
    elif column.dtype.kind == "b":
        values = np.full(len(column), np.nan)
        notices.append(message("cells-not-numbers", cells=len(column), column=name))
    else:
        text = as_text(column)
        missing = text.str.casefold().isin(MISSING)
        plain = text.str.replace(",", ".", regex=False) if text.str.contains(",").any() else text
        values = pd.to_numeric(plain.where(~missing), errors="coerce").to_numpy(dtype=np.float64)
        unread = int(np.isnan(values).sum() - missing.sum())
        if unread > 0:
            example = text[np.isnan(values) & ~missing.to_numpy()].iloc[0]
            notices.append(
                message("cells-not-numbers", cells=unread, column=name, example=example[:20])
            )
    with np.errstate(over="ignore"):
        # What is beyond all numbers is beyond any meter, too.
        return _within(values * scale if scale != 1.0 else values, name, notices)


def _within(values: np.ndarray, name: str, notices: list[Message]) -> np.ndarray:
    """A column without values that no meter shows."""
    absurd = np.abs(values) > MOST_VALUE
    if not absurd.any():
        return values
    notices.append(message("cells-beyond-meters", cells=int(absurd.sum()), column=name))
    return np.where(absurd, np.nan, values)


def tidy(time_s: np.ndarray, columns: Mapping[str, np.ndarray]) -> Capture:
    """Return a capture from other columns: in order of time, without duplicates.

    Parameters
    ----------
    time_s : ndarray
        Seconds; rows without a time are dropped.
    columns : mapping of ndarray
        Any of :data:`COLUMNS`.

    Raises
    ------
    DocumentError
        There are fewer than two times, or no values.
    """
    if not columns:
        raise DocumentError("columns", f"none of {', '.join(COLUMNS)} is there")
    notices: list[Message] = []
    values = {name: _within(column, name, notices) for name, column in columns.items()}
    seconds, _ = numeric_times(np.asarray(time_s, dtype=np.float64), notices)
    return _clean(seconds, values, None, notices)


def _clean(
    seconds: np.ndarray,
    values: dict[str, np.ndarray],
    start: datetime | None,
    notices: list[Message],
) -> Capture:
    """Sort rows by time, drop duplicates, and spread rows with equal times."""
    usable = np.isfinite(seconds)
    if not usable.all():
        seconds = seconds[usable]
        values = {name: column[usable] for name, column in values.items()}
    if len(seconds) < 2:
        raise DocumentError("file", "needs at least two rows with a readable time")
    if (np.diff(seconds) < 0).any():
        notices.append(message("rows-sorted"))
        order = np.argsort(seconds, kind="stable")
        seconds = seconds[order]
        values = {name: column[order] for name, column in values.items()}
    if seconds[-1] <= seconds[0]:
        raise DocumentError("time", "all rows are of one moment")
    same = np.diff(seconds, prepend=np.nan) == 0
    if same.any():
        seconds, values = _spread(seconds, values, same, notices)
    capture = Capture(seconds - seconds[0], values, start)
    return replace(capture, notices=tuple(notices))


def _spread(
    seconds: np.ndarray, values: dict[str, np.ndarray], same: np.ndarray, notices: list[Message]
) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """Drop exact duplicates; spread other rows of equal time over their interval."""
    equal = same.copy()
    for column in values.values():
        before = np.concatenate(([np.nan], column[:-1]))
        equal &= (column == before) | (np.isnan(column) & np.isnan(before))
    if equal.any():
        notices.append(message("rows-repeated", rows=int(equal.sum())))
        seconds, same = seconds[~equal], same[~equal]
        values = {name: column[~equal] for name, column in values.items()}
        same = np.diff(seconds, prepend=np.nan) == 0
    if not same.any():
        return seconds, values
    notices.append(message("rows-spread-out", rows=int(same.sum())))
    firsts = np.flatnonzero(~same)
    counts = np.diff(np.append(firsts, len(seconds)))
    moments = seconds[firsts]
    steps = np.diff(moments)
    usual = float(np.median(steps)) if len(steps) else 1.0
    spans = np.minimum(np.append(steps, usual), usual)
    group = np.repeat(np.arange(len(firsts)), counts)
    inside = np.arange(len(seconds)) - firsts[group]
    return seconds + inside * spans[group] / counts[group], values


def as_csv(capture: Capture, rows: slice = slice(None)) -> str:
    """The capture in the open format: seconds and its columns."""
    import pandas as pd

    frame: dict[str, Any] = {"time": capture.time_s[rows]}
    frame |= {name: column[rows] for name, column in capture.columns.items()}
    text: str = pd.DataFrame(frame).to_csv(index=False, float_format="%.6g")
    return text


def header_of(text: str | bytes) -> list[str]:
    """The header as written, for correcting the meaning of columns.

    Raises
    ------
    DocumentError
    """
    head = text[:20_000]
    if isinstance(head, bytes):
        head = head.decode("utf-8-sig", errors="replace")
    lines = head.removeprefix("\ufeff").lstrip("\r\n").splitlines()
    if not lines or not lines[0].strip():
        raise DocumentError("file", "is empty")
    cells = next(csv.reader([lines[0]], delimiter=separator_of(lines[0])))
    return [cell.strip() for cell in cells]


def concatenate(parts: Sequence[Capture]) -> Capture:
    """Several captures with a common clock (``time_s`` since 1970), as one.

    Late, overlapping and duplicate rows are treated as in a file; a column that a part lacks is
    missing there.

    Raises
    ------
    DocumentError
        There are fewer than two times.
    """
    names = [name for name in COLUMNS if any(name in part.columns for part in parts)]
    seconds = np.concatenate([part.time_s for part in parts])
    values = {
        name: np.concatenate(
            [part.columns.get(name, np.full(len(part.time_s), np.nan)) for part in parts]
        )
        for name in names
    }
    if not len(seconds):
        raise DocumentError("file", "holds no sample")
    start = datetime.fromtimestamp(float(seconds.min()), UTC)
    return _clean(seconds, values, start, [])
