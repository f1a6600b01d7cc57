"""Parsing of a logger's CSV, with any separator, decimal mark and line ends.

The size is checked before parsing, since files come from anywhere.
"""

from __future__ import annotations

import codecs
import csv
import io
import threading
import warnings
from typing import TYPE_CHECKING

import numpy as np

from needle.document import DocumentError
from needle.message import Message, message

if TYPE_CHECKING:
    import pandas as pd

#: Cells that say nothing.
MISSING = frozenset(("", "--", "nan", "-", "null", "none", "n/a", "na"))
_SEPARATORS = (";", "\t", ",")
#: Most cells of a file (ten columns of a fortnight at 1 Hz), columns, and characters of a line.
MOST_CELLS, MOST_COLUMNS, MOST_LINE = 12_500_000, 200, 10_000
#: Lost rows are reported by warnings, and filters of warnings are global to a process.
_ONE_AT_A_TIME = threading.Lock()
_CHECKED_BYTES = 1_000_000


def read_table(text: str | bytes) -> tuple[pd.DataFrame, list[str], list[Message]]:
    """Parse a table; return it with its header and notices."""
    import pandas as pd

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
    separator = separator_of(first)
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
    header = [str(column).strip() for column in table.columns]
    table.columns = pd.Index(range(len(header)))
    notices: list[Message] = []
    lost = _data_lines(data) - len(table)
    if lost > 0:
        notices.append(message("rows-too-wide", rows=lost, columns=width))
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
    """Refuse tables that are too large, before anything is parsed."""
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


def separator_of(first: str) -> str:
    return max(
        _SEPARATORS, key=lambda separator: (first.count(separator), -_SEPARATORS.index(separator))
    )


def _parsed(data: bytes, separator: str) -> tuple[pd.DataFrame, bool]:
    """The table, and whether cells were lost because rows are wider than the header."""
    import pandas as pd

    comma = separator != "," and _has_decimal_comma(data)
    with _ONE_AT_A_TIME, warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always", pd.errors.ParserWarning)
        # Read in blocks, a column may come out mixed; each cell is judged later anyway.
        warnings.simplefilter("ignore", pd.errors.DtypeWarning)
        try:
            table = pd.read_csv(
                io.BytesIO(data),
                sep=separator,
                header=0,
                index_col=False,
                keep_default_na=False,
                na_values=sorted(MISSING - {"none", "null"}),
                skipinitialspace=True,
                on_bad_lines="skip",
                decimal="," if comma else ".",
            )
        except (pd.errors.ParserError, pd.errors.EmptyDataError, ValueError, csv.Error) as error:
            raise DocumentError("file", f"is not a table: {str(error)[:120]}") from None
    wide = any("loss of data" in str(bad.message) for bad in caught)
    return table, wide


def _data_lines(data: bytes) -> int:
    """Non-empty lines after the header."""
    lines = data.count(b"\n") + (not data.endswith(b"\n"))
    if b"\n\n" in data or data.startswith(b"\n"):
        lines = sum(1 for line in data.splitlines() if line.strip())
    return lines - 1


def _has_decimal_comma(data: bytes) -> bool:
    """Whether cells of the first rows use the comma as their decimal mark."""
    sample = data[:20_000].split(b"\n")[1:200]
    return any(b"," in line for line in sample)


def as_text(column: pd.Series) -> pd.Series:
    """Cells as stripped text; missing cells are empty."""
    return column.astype(object).where(column.notna(), "").astype(str).str.strip()
