"""Recorded series of readings: a CSV file, however a logger wrote it, as clean columns.

What cannot be read is never guessed: every cell is either read or counted in a notice.
"""

from __future__ import annotations

import codecs
import csv
import io
import threading
import warnings
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, tzinfo
from typing import Any

import numpy as np
import pandas as pd
from pandas.tseries.api import guess_datetime_format

from needle.document import DocumentError

COLUMNS = ("watts", "volts", "amps", "va", "pf", "hz", "wh")
#: Other names that loggers give the columns, without case or units.
_NAMES = {
    "w": "watts", "power": "watts", "active power": "watts", "real power": "watts",
    "watt": "watts", "v": "volts", "voltage": "volts", "volt": "volts", "a": "amps",
    "current": "amps", "amp": "amps", "ampere": "amps", "amperes": "amps",
    "apparent power": "va", "volt-amperes": "va", "power factor": "pf", "frequency": "hz",
    "hertz": "hz", "energy": "wh", "timestamp": "time", "datetime": "time", "date time": "time",
    "date/time": "time", "t": "time", "seconds": "time", "time (s)": "time",
}  # fmt: skip
#: Factors of the units that headers carry.
_SCALES = {"kw": 1000.0, "kwh": 1000.0, "ma": 0.001, "mv": 0.001, "kva": 1000.0, "%": 0.01}
_MISSING = frozenset(("", "--", "nan", "-", "null", "none", "n/a", "na"))
_SEPARATORS = (";", "\t", ",")
#: A hole of more than so many median intervals is a gap.
GAP_INTERVALS = 5.0
#: Most cells of a file (ten columns of a fortnight at 1 Hz), columns, and characters of a line.
MOST_CELLS, MOST_COLUMNS, MOST_LINE = 12_500_000, 200, 10_000
#: What no meter shows, whatever the unit; and what no clock shows, s either side of 1970.
MOST_VALUE, MOST_TIME = 1e9, 1e13
#: What a file loses is told by a warning, and who listens for warnings is global to a process.
_ONE_AT_A_TIME = threading.Lock()
#: Rows whose way of writing times is tried on all, and rows that are read one by one.
_EXAMPLES, _READ_ONE_BY_ONE = 20, 5_000
_CHECKED_BYTES = 1_000_000
_HOUR_S = 3600.0
#: Dates outside these years are taken for something else.
YEARS = (1990, 2100)
_MILLISECONDS_FROM = 1e11


@dataclass(frozen=True)
class Capture:
    """A capture's columns, in time order.

    Attributes
    ----------
    time_s : ndarray
        Seconds since the first row, rising.
    columns : dict of ndarray
        Any of :data:`COLUMNS` in W, V, A, VA, share, Hz, Wh; not-a-number where a cell is missing.
    start : datetime or None
        Moment of the first row, where the file tells it.
    notices : tuple of str
        What was odd, what was left aside, how many cells could not be read.
    """

    time_s: np.ndarray
    columns: dict[str, np.ndarray] = field(default_factory=dict)
    start: datetime | None = None
    notices: tuple[str, ...] = ()

    def watts(self, volts: float | None = None) -> tuple[np.ndarray, str]:
        """True power, W, by the best way the columns allow, and how; VA in its place at worst.

        Parameters
        ----------
        volts : float or None
            Stands in where only amps were logged.

        Raises
        ------
        DocumentError
            Nothing to go by.
        """
        found = self.columns
        if "watts" in found:
            return found["watts"], "watts as logged"
        va, how = self.volt_amperes(volts)
        if va is not None and "pf" in found:
            return va * found["pf"], f"{how} times PF"
        if "wh" in found:
            return _from_counter(self.time_s, found["wh"]), "watts from the counter's steps"
        if va is not None:
            return va, f"{how}: volt-amperes, an upper bound of watts"
        raise DocumentError("columns", "no watts, VA, amps or Wh: name the column that holds them")

    def volt_amperes(self, volts: float | None = None) -> tuple[np.ndarray | None, str]:
        """Apparent power, VA, logged or from V·A; None where it is not known."""
        found = self.columns
        if "va" in found:
            return found["va"], "VA as logged"
        if "amps" in found and "volts" in found:
            return found["amps"] * found["volts"], "V times A"
        if "amps" in found and volts is not None:
            return found["amps"] * volts, f"A times {volts:g} V"
        return None, ""

    def interval_s(self) -> float:
        """Median interval between rows, s."""
        return float(np.median(np.diff(self.time_s))) if len(self.time_s) > 1 else 0.0


def _from_counter(time_s: np.ndarray, wh: np.ndarray) -> np.ndarray:
    """Mean W between rows of a counter; its resets are holes."""
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
    """Read a capture file.

    Parameters
    ----------
    text : str or bytes
        The file's content, UTF-8.
    meanings : mapping, optional
        Corrections: header as written → one of :data:`COLUMNS`, ``time``, or "" to leave aside.
    zone : tzinfo, optional
        Of times that carry no offset; UTC where it is not given.

    Raises
    ------
    DocumentError
        Not a table, no time column, or no row that can be used.
    """
    table, header, notices = _table(text)
    del text  # a long file need not lie beside its columns
    columns, aside = _meanings(header, meanings or {})
    if "time" not in columns and "date" not in columns:
        raise DocumentError("time", f"no time column among {', '.join(header)[:200]}")
    if aside:
        notices.append(f"Left aside: {', '.join(aside)[:200]}.")
    seconds, start = _times(table, columns, zone or UTC, zone is not None, notices)
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


def _table(text: str | bytes) -> tuple[pd.DataFrame, list[str], list[str]]:
    """The table, its header and what was odd; on bytes, as text takes more room."""
    data = text.encode() if isinstance(text, str) else bytes(text)
    del text
    _check_text(data)
    data = data.removeprefix(b"\xef\xbb\xbf")
    if b"\r" in data:
        # Lines end with CR LF, or with a CR alone.
        data = data.replace(b"\r\n", b"\n").replace(b"\r", b"\n")
    first = data[:100_000].lstrip(b"\n").split(b"\n", 1)[0].decode(errors="replace")
    if not first.strip():
        raise DocumentError("file", "is empty")
    separator = _separator(first)
    width = len(next(csv.reader([first], delimiter=separator)))
    _check_size(data, separator, width)
    table, too_wide = _parsed(data, separator)
    if too_wide:
        # Loggers that end each row with a separator: the extra cells are empty.
        mark = separator.encode()
        trimmed = b"\n".join(line.rstrip(mark) for line in data.split(b"\n"))
        table, too_wide = _parsed(trimmed, separator)
    if too_wide:
        raise _too_wide(width)
    if table.empty:
        raise DocumentError("file", "has a header and no rows")
    header = [str(one).strip() for one in table.columns]
    table.columns = pd.Index(range(len(header)))
    notices = []
    lost = _data_lines(data) - len(table)
    if lost > 0:
        notices.append(f"{lost} rows have more cells than the header's {width}: left out.")
    return table, header, notices


def _check_text(data: bytes) -> None:
    decoder = codecs.getincrementaldecoder("utf-8")()
    for place in range(0, len(data) + 1, _CHECKED_BYTES):
        try:
            decoder.decode(data[place : place + _CHECKED_BYTES])
        except UnicodeDecodeError as error:
            raise DocumentError(
                "file", f"is not UTF-8 text (byte {place + error.start}); save it as UTF-8 CSV"
            ) from None
    if b"\x00" in data:
        raise DocumentError("file", "holds NUL bytes; this is not a CSV file")


def _check_size(data: bytes, separator: str, width: int) -> None:
    """Refuse what would take long, by counting before anything is parsed."""
    if width > MOST_COLUMNS:
        raise DocumentError("file", f"has {width} columns: at most {MOST_COLUMNS}")
    lines = data.count(b"\n") + 1
    cells = data.count(separator.encode()) + lines
    if cells > MOST_CELLS:
        raise DocumentError(
            "file",
            f"has about {cells / 1e6:.0f} million cells: at most {MOST_CELLS / 1e6:.3g} million; "
            "split it, or log less often",
        )
    if cells > lines * (2 * width + 20):
        raise _too_wide(width)
    ends = np.flatnonzero(np.frombuffer(data, np.uint8) == ord("\n"))
    longest = int(np.diff(np.concatenate(([-1], ends, [len(data)]))).max()) - 1
    if longest > MOST_LINE:
        raise DocumentError("file", f"has a line of {longest} characters: at most {MOST_LINE}")


def _too_wide(width: int) -> DocumentError:
    return DocumentError(
        "file",
        f"rows have more cells than the header's {width}; a decimal comma needs semicolons or "
        "tabs between the cells",
    )


def _separator(first: str) -> str:
    return max(_SEPARATORS, key=lambda one: (first.count(one), -_SEPARATORS.index(one)))


def _parsed(data: bytes, separator: str) -> tuple[pd.DataFrame, bool]:
    """The table, and whether cells were lost because rows are wider than the header."""
    comma = separator != "," and _has_decimal_comma(data)
    with _ONE_AT_A_TIME, warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always", pd.errors.ParserWarning)
        # Read in blocks, a column may come out mixed; each cell is judged later anyway.
        warnings.simplefilter("ignore", pd.errors.DtypeWarning)
        try:
            table = pd.read_csv(
                io.BytesIO(data), sep=separator, header=0, index_col=False,
                keep_default_na=False, na_values=sorted(_MISSING - {"none", "null"}),
                skipinitialspace=True, on_bad_lines="skip",
                decimal="," if comma else ".",
            )  # fmt: skip
        except (pd.errors.ParserError, pd.errors.EmptyDataError, ValueError, csv.Error) as error:
            raise DocumentError("file", f"is not a table: {str(error)[:120]}") from None
    wide = any("loss of data" in str(one.message) for one in caught)
    return table, wide


def _data_lines(data: bytes) -> int:
    """Lines with anything on them after the header."""
    lines = data.count(b"\n") + (not data.endswith(b"\n"))
    if b"\n\n" in data or data.startswith(b"\n"):
        lines = sum(1 for line in data.splitlines() if line.strip())
    return lines - 1


def _has_decimal_comma(data: bytes) -> bool:
    """Whether cells of the first rows use the comma as their decimal mark."""
    sample = data[:20_000].split(b"\n")[1:200]
    return any(b"," in line for line in sample)


def _meanings(
    header: Sequence[str], corrections: Mapping[str, str]
) -> tuple[dict[str, tuple[int, float]], list[str]]:
    """Which column means what: name → (place, factor); and the names of the rest."""
    found: dict[str, tuple[int, float]] = {}
    aside = []
    for place, written in enumerate(header):
        name, scale = _meaning(written)
        if written in corrections:
            name = corrections[written]
        if name in (*COLUMNS, "time", "date") and name not in found:
            found[name] = (place, scale)
        else:
            aside.append(written)
    if "date" in found and "time" not in found:
        found["time"] = found.pop("date")
    return found, aside


def _meaning(written: str) -> tuple[str, float]:
    """A header's column name and the factor of its unit."""
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


def _as_text(column: pd.Series) -> pd.Series:
    """Cells as stripped text; missing ones empty."""
    return column.astype(object).where(column.notna(), "").astype(str).str.strip()


def _numbers(column: pd.Series, name: str, scale: float, notices: list[str]) -> np.ndarray:
    """A column as floats; what cannot be read is missing, and counted."""
    if column.dtype.kind in "fi":
        values = column.to_numpy(dtype=np.float64)
    elif column.dtype.kind == "b":
        values = np.full(len(column), np.nan)
        notices.append(f"{len(column)} cells of {name} are not numbers: left out.")
    else:
        text = _as_text(column)
        missing = text.str.casefold().isin(_MISSING)
        plain = text.str.replace(",", ".", regex=False) if text.str.contains(",").any() else text
        values = pd.to_numeric(plain.where(~missing), errors="coerce").to_numpy(dtype=np.float64)
        unread = int(np.isnan(values).sum() - missing.sum())
        if unread > 0:
            example = text[np.isnan(values) & ~missing.to_numpy()].iloc[0]
            notices.append(
                f"{unread} cells of {name} are not numbers (such as “{example[:20]}”): left out."
            )
    return _within(values * scale if scale != 1.0 else values, name, notices)


def _within(values: np.ndarray, name: str, notices: list[str]) -> np.ndarray:
    """A column without what no meter shows."""
    absurd = np.abs(values) > MOST_VALUE
    if not absurd.any():
        return values
    notices.append(f"{int(absurd.sum())} cells of {name} are beyond any meter: left out.")
    return np.where(absurd, np.nan, values)


def _times(
    table: pd.DataFrame,
    columns: Mapping[str, tuple[int, float]],
    zone: tzinfo,
    zone_known: bool,
    notices: list[str],
) -> tuple[np.ndarray, datetime | None]:
    """Seconds since the first readable row (NaN where unreadable), and its moment if told."""
    column = table[columns["time"][0]]
    if "date" in columns:
        column = _as_text(table[columns["date"][0]]) + " " + _as_text(column)
    if column.dtype.kind in "fi":
        return _numeric_times(column.to_numpy(dtype=np.float64), notices)
    text = _as_text(column)
    numbers = pd.to_numeric(text.str.replace(",", ".", regex=False), errors="coerce")
    if numbers.notna().sum() > 0.5 * len(text):
        unread = int(numbers.isna().sum())
        if unread:
            notices.append(f"{unread} rows have no readable time: left out.")
        return _numeric_times(numbers.to_numpy(dtype=np.float64), notices, told=True)
    return _written_times(text, zone, zone_known, notices)


def _numeric_times(
    seconds: np.ndarray, notices: list[str], told: bool = False
) -> tuple[np.ndarray, datetime | None]:
    usable = np.abs(seconds) < MOST_TIME
    if not told and not usable.all():
        notices.append(f"{int((~usable).sum())} rows have no readable time: left out.")
    if not usable.any():
        raise DocumentError("time", "no row has a readable time")
    seconds = np.where(usable, seconds, np.nan)
    first = float(np.nanmin(seconds))
    if first > _MILLISECONDS_FROM:
        seconds, first = seconds / 1000.0, first / 1000.0
        notices.append("Times are milliseconds since 1970.")
    start = None
    if 1e8 < first < 1e10:
        start = datetime.fromtimestamp(first, UTC)
    return seconds - first, start


def _written_times(
    text: pd.Series, zone: tzinfo, zone_known: bool, notices: list[str]
) -> tuple[np.ndarray, datetime | None]:
    """Dates with times, ISO 8601 first, then as the first row writes them."""
    has_offset = bool(text.head(50).str.contains(r"(?:Z|[+-]\d\d:?\d\d)$", regex=True).any())
    moments = _moments(text)
    year = moments.dt.year
    moments = moments.where((year >= YEARS[0]) & (year <= YEARS[1]))
    unread = int(moments.isna().sum())
    if unread == len(text):
        raise DocumentError("time", f"“{text.iloc[0][:40]}” is not a time that can be read")
    if unread:
        notices.append(f"{unread} rows have no readable time: left out.")
    if zone_known and not has_offset:
        located = _located(moments, zone)
        if located is not None:
            first = located.min().to_pydatetime()
            seconds = (located - located.min()).dt.total_seconds().to_numpy()
            return seconds, first.astimezone(zone)
    microseconds = moments.dt.as_unit("us").astype("int64").to_numpy()
    seconds = np.where(moments.isna(), np.nan, microseconds / 1e6)
    if not has_offset:
        seconds = _mend_clock_change(seconds, notices)
        if not zone_known:
            notices.append("Times carry no offset: taken as UTC.")
        first = datetime.fromtimestamp(float(np.nanmin(seconds)), UTC).replace(tzinfo=zone)
    else:
        first = datetime.fromtimestamp(float(np.nanmin(seconds)), UTC)
    return seconds - float(np.nanmin(seconds)), first


def _moments(text: pd.Series) -> pd.Series:
    """Times in ISO 8601, else as some rows write them; row by row, which is slow, only a few."""
    written = text[text != ""]
    examples = written.iloc[:: max(1, len(written) // _EXAMPLES)].head(_EXAMPLES)
    iso = {"errors": "coerce", "utc": True, "format": "ISO8601"}
    moments = pd.Series(pd.NaT, text.index, dtype="datetime64[ns, UTC]")
    if pd.to_datetime(examples, **iso).notna().any():
        moments = pd.to_datetime(text, **iso)
        if moments.isna().mean() <= 0.5:
            return moments
    formats = (guess_datetime_format(example, dayfirst=True) for example in examples)
    for written in dict.fromkeys(filter(None, formats)):
        read = pd.to_datetime(text, format=written, errors="coerce", utc=True)
        moments = moments.fillna(read)
    mixed = {"errors": "coerce", "utc": True, "dayfirst": True, "format": "mixed"}
    if moments.isna().any() and pd.to_datetime(examples, **mixed).notna().any():
        some = text.index[moments.isna()][:_READ_ONE_BY_ONE]
        moments[some] = pd.to_datetime(text[some], **mixed)
    return moments


def _located(moments: pd.Series, zone: tzinfo) -> pd.Series | None:
    """Local times in their zone, clock changes included; None where they cannot be told apart."""
    try:
        local = moments.dt.tz_localize(None).dt.tz_localize(
            zone, ambiguous="infer", nonexistent="shift_forward"
        )
    except (ValueError, TypeError):
        return None
    return local.dt.tz_convert("UTC")


def _mend_clock_change(seconds: np.ndarray, notices: list[str]) -> np.ndarray:
    """Local times that jump back by an hour once were a clock change, not disorder."""
    step = np.diff(seconds)
    if not np.isfinite(step).any():
        return seconds
    usual = float(np.nanmedian(np.abs(step)))
    back = np.flatnonzero(np.abs(step + _HOUR_S) < max(3 * usual, 2.0) + usual)
    if len(back) == 1 and int(np.nansum(step < 0)) == 1:
        notices.append("The clock went back by an hour during the capture: corrected.")
        seconds = seconds.copy()
        seconds[back[0] + 1 :] += _HOUR_S
    return seconds


def tidy(time_s: np.ndarray, columns: Mapping[str, np.ndarray]) -> Capture:
    """A capture of columns that come from elsewhere: in time order, without repeats.

    Parameters
    ----------
    time_s : ndarray
        Seconds; rows without one are left out.
    columns : mapping of ndarray
        Any of :data:`COLUMNS`.

    Raises
    ------
    DocumentError
        Fewer than two moments, or nothing beside them.
    """
    if not columns:
        raise DocumentError("columns", f"none of {', '.join(COLUMNS)} is there")
    notices: list[str] = []
    values = {name: _within(column, name, notices) for name, column in columns.items()}
    seconds, _ = _numeric_times(np.asarray(time_s, dtype=np.float64), notices)
    return _clean(seconds, values, None, notices)


def _clean(
    seconds: np.ndarray, values: dict[str, np.ndarray], start: datetime | None, notices: list[str]
) -> Capture:
    """Put rows in time order, drop repeats, spread rows that share a moment."""
    usable = np.isfinite(seconds)
    if not usable.all():
        seconds = seconds[usable]
        values = {name: column[usable] for name, column in values.items()}
    if len(seconds) < 2:
        raise DocumentError("file", "needs at least two rows with a readable time")
    if (np.diff(seconds) < 0).any():
        notices.append("Rows were out of order: sorted by time.")
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
    seconds: np.ndarray, values: dict[str, np.ndarray], same: np.ndarray, notices: list[str]
) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """Exact repeats go; other rows of one moment are spread over the interval they share."""
    equal = same.copy()
    for column in values.values():
        before = np.concatenate(([np.nan], column[:-1]))
        equal &= (column == before) | (np.isnan(column) & np.isnan(before))
    if equal.any():
        notices.append(f"{int(equal.sum())} rows were repeated: dropped.")
        seconds, same = seconds[~equal], same[~equal]
        values = {name: column[~equal] for name, column in values.items()}
        same = np.diff(seconds, prepend=np.nan) == 0
    if not same.any():
        return seconds, values
    notices.append(f"{int(same.sum())} rows share a moment with another: spread out.")
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
    frame: dict[str, Any] = {"time": capture.time_s[rows]}
    frame |= {name: column[rows] for name, column in capture.columns.items()}
    text: str = pd.DataFrame(frame).to_csv(index=False, float_format="%.6g")
    return text


def header_of(text: str | bytes) -> list[str]:
    """The header as written, for those who correct what its columns mean.

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
    cells = next(csv.reader([lines[0]], delimiter=_separator(lines[0])))
    return [one.strip() for one in cells]


def joined(parts: Sequence[Capture]) -> Capture:
    """Several captures whose ``time_s`` share a clock (since 1970), as one.

    Late, overlapping and repeated rows are sorted out as in a file; a column that a part lacks is
    missing there.

    Raises
    ------
    DocumentError
        Fewer than two moments.
    """
    names = [name for name in COLUMNS if any(name in one.columns for one in parts)]
    seconds = np.concatenate([one.time_s for one in parts])
    values = {
        name: np.concatenate(
            [one.columns.get(name, np.full(len(one.time_s), np.nan)) for one in parts]
        )
        for name in names
    }
    if not len(seconds):
        raise DocumentError("file", "holds no sample")
    start = datetime.fromtimestamp(float(seconds.min()), UTC)
    return _clean(seconds, values, start, [])
