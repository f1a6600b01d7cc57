"""Times of a capture's rows: seconds, dates in many forms, clock changes."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime, tzinfo
from typing import TYPE_CHECKING

import numpy as np

from needle.document import DocumentError
from needle.measure.table import as_text
from needle.message import Message, message
from needle.moments import FIRST_YEAR

if TYPE_CHECKING:
    import pandas as pd

#: Rows whose way of writing times is tried on all, and rows that are read one by one.
_EXAMPLES, _READ_ONE_BY_ONE = 20, 5_000
_HOUR_S = 3600.0
#: What no clock shows, s either side of 1970.
MOST_TIME = 1e13
#: Dates outside these years are taken for something else.
YEARS = (1990, 2100)
_MILLISECONDS_FROM = 1e11


def read_times(
    table: pd.DataFrame,
    columns: Mapping[str, tuple[int, float]],
    zone: tzinfo,
    zone_known: bool,
    notices: list[Message],
) -> tuple[np.ndarray, datetime | None]:
    """Seconds since the first readable row (NaN if unreadable), and its time if known."""
    import pandas as pd

    column = table[columns["time"][0]]
    if "date" in columns:
        column = as_text(table[columns["date"][0]]) + " " + as_text(column)
    if column.dtype.kind in "fi":
        return numeric_times(column.to_numpy(dtype=np.float64), notices)
    text = as_text(column)
    numbers = pd.to_numeric(text.str.replace(",", ".", regex=False), errors="coerce")
    if numbers.notna().sum() > 0.5 * len(text):
        unread = int(numbers.isna().sum())
        if unread:
            notices.append(message("rows-without-time", rows=unread))
        return numeric_times(numbers.to_numpy(dtype=np.float64), notices, told=True)
    return _written_times(text, zone, zone_known, notices)


def numeric_times(
    seconds: np.ndarray, notices: list[Message], told: bool = False
) -> tuple[np.ndarray, datetime | None]:
    usable = np.abs(seconds) < MOST_TIME
    if not told and not usable.all():
        notices.append(message("rows-without-time", rows=int((~usable).sum())))
    if not usable.any():
        raise DocumentError("time", "no row has a readable time")
    seconds = np.where(usable, seconds, np.nan)
    first = float(np.nanmin(seconds))
    if first > _MILLISECONDS_FROM:
        seconds, first = seconds / 1000.0, first / 1000.0
        notices.append(message("times-in-milliseconds"))
    start = None
    if 1e8 < first < 1e10:
        start = datetime.fromtimestamp(first, UTC)
    return seconds - first, start


def _written_times(
    text: pd.Series, zone: tzinfo, zone_known: bool, notices: list[Message]
) -> tuple[np.ndarray, datetime | None]:
    """Dates with times: ISO 8601, else in the form of the first row."""
    has_offset = bool(text.head(50).str.contains(r"(?:Z|[+-]\d\d:?\d\d)$", regex=True).any())
    moments = _moments(text)
    year = moments.dt.year
    moments = moments.where((year >= YEARS[0]) & (year <= YEARS[1]))
    unread = int(moments.isna().sum())
    if unread == len(text):
        raise DocumentError("time", f"“{text.iloc[0][:40]}” is not a time that can be read")
    if unread:
        notices.append(message("rows-without-time", rows=unread))
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
            notices.append(message("times-as-utc"))
        first = datetime.fromtimestamp(float(np.nanmin(seconds)), UTC).replace(tzinfo=zone)
    else:
        first = datetime.fromtimestamp(float(np.nanmin(seconds)), UTC)
    return seconds - float(np.nanmin(seconds)), first


def _moments(text: pd.Series) -> pd.Series:
    """Times in ISO 8601, else in the form of some rows; a few row by row, which is slow."""
    import pandas as pd
    from pandas.tseries.api import guess_datetime_format

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
        read = pd.to_datetime(text[some], **mixed)
        # "2,5" is read as a day of the year 1, which no meter saw and this column cannot hold.
        moments[some] = read.where(read.dt.year.between(FIRST_YEAR, 2200)).dt.as_unit("ns")
    return moments


def _located(moments: pd.Series, zone: tzinfo) -> pd.Series | None:
    """Local times in their zone, including clock changes; None if ambiguous."""
    try:
        local = moments.dt.tz_localize(None).dt.tz_localize(
            zone, ambiguous="infer", nonexistent="shift_forward"
        )
    except (ValueError, TypeError):
        return None
    return local.dt.tz_convert("UTC")


def _mend_clock_change(seconds: np.ndarray, notices: list[Message]) -> np.ndarray:
    """Treat a single jump back by an hour of local time as a clock change."""
    step = np.diff(seconds)
    if not np.isfinite(step).any():
        return seconds
    usual = float(np.nanmedian(np.abs(step)))
    back = np.flatnonzero(np.abs(step + _HOUR_S) < max(3 * usual, 2.0) + usual)
    if len(back) == 1 and int(np.nansum(step < 0)) == 1:
        notices.append(message("clock-went-back"))
        seconds = seconds.copy()
        seconds[back[0] + 1 :] += _HOUR_S
    return seconds
