"""A job as a tabular data package: a zip with ``datapackage.json`` and one CSV per table.

The descriptor follows the Data Package and Table Schema specifications (Frictionless Data, v1).
Parsing is strict, since files come from anywhere: anything that is too large, points outside the
zip, or does not match its schema is refused in one sentence. Sizes are checked while reading, so
that a small file cannot cause a lot of work.
"""

from __future__ import annotations

import csv
import io
import json
import math
import struct
import zipfile
import zlib
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import IO, Any

import numpy as np

from needle.document import DocumentError, parse_json

NAME = "datapackage.json"
PROFILE = "tabular-data-package"
#: Most bytes when unpacked, of one file and of all, and most files.
MOST_FILE, MOST_ALL, MOST_FILES = 100_000_000, 300_000_000, 2000
#: Most bytes of a picture, and most pictures: each is drawn anew.
MOST_PICTURE, MOST_PICTURES = 5_000_000, 500
#: Most bytes of the descriptor.
MOST_DESCRIPTOR = 2_000_000
#: Most records and cells of them, and most cells of recorded series, in all tables together.
MOST_RECORDS, MOST_CELLS, MOST_SAMPLES = 50_000, 1_000_000, 10_000_000
#: Most columns of a table, and of a recorded series.
MOST_FIELDS, MOST_COLUMNS = 100, 12
#: Ratio of unpacked to packed size of a file that is no table, and the size from which it counts.
_TIGHTEST, _TIGHT_FROM = 200, 1_000_000
_CHUNK_ROWS = 100_000
_JPEG = "image/jpeg"
_FORMULA = ("=", "@", "\t", "\r")
_GUARDED = (*_FORMULA, "+", "-")
Row = dict[str, Any]


@dataclass(frozen=True)
class Table:
    """A resource: its name, path in the zip, fields as (name, type), and data.

    Records are ``rows`` of typed values; a series of numbers is ``columns`` in the fields' order,
    NaN for missing cells.
    """

    name: str
    path: str
    fields: tuple[tuple[str, str], ...]
    rows: list[Row] = field(default_factory=list)
    columns: dict[str, np.ndarray] = field(default_factory=dict)

    @property
    def length(self) -> int:
        """Number of rows."""
        return len(next(iter(self.columns.values()), self.rows))


@dataclass(frozen=True)
class Package:
    """A title, further descriptor keys, tables by name, and JPEG pictures by name."""

    title: str
    tables: dict[str, Table]
    extra: Mapping[str, Any] = field(default_factory=dict)
    pictures: dict[str, bytes] = field(default_factory=dict)


def write(package: Package) -> bytes:
    """Return the package as a zip."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as folder:
        folder.writestr(NAME, json.dumps(_descriptor(package), indent=1, ensure_ascii=False))
        for table in package.tables.values():
            folder.writestr(table.path, _as_csv(table))
        for name, content in package.pictures.items():
            folder.writestr(_picture_path(name), content, zipfile.ZIP_STORED)
    return buffer.getvalue()


def _descriptor(package: Package) -> dict[str, Any]:
    return {
        "profile": PROFILE,
        "name": "steady-needle-job",
        "title": package.title,
        **package.extra,
        "resources": [
            {
                "name": table.name,
                "path": table.path,
                "profile": "tabular-data-resource",
                "encoding": "utf-8",
                "schema": {
                    "fields": [{"name": name, "type": kind} for name, kind in table.fields],
                    "missingValues": [""],
                },
            }
            for table in package.tables.values()
        ]
        + [
            {"name": name, "path": _picture_path(name), "mediatype": _JPEG}
            for name in package.pictures
        ],
    }


def _picture_path(name: str) -> str:
    return f"photos/{name}.jpg"


def _as_csv(table: Table) -> str:
    text = io.StringIO()
    if table.columns:
        import pandas as pd

        pd.DataFrame(table.columns).to_csv(text, index=False, lineterminator="\r\n")
        return text.getvalue()
    rows = csv.writer(text, lineterminator="\r\n")
    rows.writerow([name for name, _ in table.fields])
    for row in table.rows:
        rows.writerow([_written(row[name], kind) for name, kind in table.fields])
    return text.getvalue()


def _written(value: Any, kind: str) -> str:
    if value is None:
        return ""
    if kind == "boolean":
        return "true" if value else "false"
    if kind in ("object", "array"):
        return json.dumps(value, ensure_ascii=False, sort_keys=True)
    if kind == "number":
        return repr(float(value))
    if kind != "string":
        return str(value)
    # A text that a spreadsheet would take for a formula is kept from it by an apostrophe.
    return f"'{value}" if value[:1] in (*_GUARDED, "'") else value


def read(content: bytes) -> Package:
    """Parse and check a package.

    Raises
    ------
    DocumentError
        The package is invalid; the message names the file, row and field.
    """
    try:
        folder = zipfile.ZipFile(io.BytesIO(content))
    except (*_DAMAGED, ValueError):
        raise DocumentError("", "is not a whole zip file: fetch it again") from None
    with folder:
        _check_folder(folder)
        with _opened(folder, NAME) as file:
            text = file.read(MOST_DESCRIPTOR + 1)
        if len(text) > MOST_DESCRIPTOR:
            raise DocumentError(NAME, f"is larger than {MOST_DESCRIPTOR // 1_000_000} MB")
        descriptor = parse_json(text, NAME)
        if not isinstance(descriptor, dict):
            raise DocumentError(NAME, "must be an object")
        resources = _resources(descriptor.get("resources"))
        pictures = [item for item in resources if _is_picture(item)]
        return Package(
            str(descriptor.get("title", ""))[:200],
            _tables(folder, [item for item in resources if not _is_picture(item)]),
            {key: value for key, value in descriptor.items() if key not in _OWN_KEYS},
            _pictures(folder, pictures),
        )


def _resources(resources: Any) -> list[Any]:
    if not isinstance(resources, list) or not resources:
        raise DocumentError(f"{NAME}: resources", "is empty: this is no job")
    if len(resources) > MOST_FILES:
        raise DocumentError(f"{NAME}: resources", f"has more than {MOST_FILES} entries")
    return resources


def _is_picture(item: Any) -> bool:
    return isinstance(item, dict) and item.get("mediatype") == _JPEG


def _pictures(folder: zipfile.ZipFile, items: Sequence[Any]) -> dict[str, bytes]:
    """Unchanged pictures by name; callers must re-encode them before showing them."""
    if len(items) > MOST_PICTURES:
        raise DocumentError(NAME, f"lists {len(items)} pictures: at most {MOST_PICTURES}")
    pictures: dict[str, bytes] = {}
    paths: set[str] = set()
    for item in items:
        name, path = str(item.get("name"))[:60], item.get("path")
        if not isinstance(path, str) or name in pictures or path in paths:
            raise DocumentError(
                f"{NAME}: {name}", "each picture needs a name and a path of its own"
            )
        paths.add(path)
        with _opened(folder, path) as file:
            pictures[name] = file.read(MOST_PICTURE + 1)
        if len(pictures[name]) > MOST_PICTURE:
            raise DocumentError(path[:80], f"is larger than {MOST_PICTURE // 1_000_000} MB")
    return pictures


_OWN_KEYS = frozenset(("profile", "name", "title", "resources"))
#: What the zip reader raises for files that are damaged or made by hand.
_DAMAGED = (
    zipfile.BadZipFile,
    zlib.error,
    struct.error,
    OSError,
    EOFError,
    NotImplementedError,
    RuntimeError,
    OverflowError,
)


def _check_folder(folder: zipfile.ZipFile) -> None:
    items = folder.infolist()
    if len(items) > MOST_FILES:
        raise DocumentError("", f"holds {len(items)} files: at most {MOST_FILES}")
    for item in items:
        parts = item.filename.replace("\\", "/").split("/")
        if item.filename.startswith(("/", "\\")) or ".." in parts or ":" in parts[0]:
            raise DocumentError(item.filename[:80], "points outside the package")
        if item.file_size > MOST_FILE:
            raise DocumentError(
                item.filename[:80], f"is larger than {MOST_FILE // 1_000_000} MB when unpacked"
            )
        if item.file_size > max(_TIGHT_FROM, _TIGHTEST * item.compress_size):
            raise DocumentError(item.filename[:80], "is packed tighter than any table can be")
    if sum(item.file_size for item in items) > MOST_ALL:
        raise DocumentError("", f"is larger than {MOST_ALL // 1_000_000} MB when unpacked")


@contextmanager
def _opened(folder: zipfile.ZipFile, path: str) -> Iterator[IO[bytes]]:
    """An opened file of the package; errors become one sentence.

    The reader never returns more than the size that :func:`_check_folder` has accepted.
    """
    try:
        with folder.open(path) as file:
            yield file
    except DocumentError:
        raise
    except KeyError:
        raise DocumentError(path[:80], "is not in the package") from None
    except UnicodeDecodeError:
        raise DocumentError(path[:80], "is not UTF-8 text") from None
    except csv.Error as error:
        raise DocumentError(path[:80], f"is not CSV: {error}") from None
    except (*_DAMAGED, ValueError):
        raise DocumentError(path[:80], "is damaged: fetch the package again") from None


def _tables(folder: zipfile.ZipFile, resources: Sequence[Any]) -> dict[str, Table]:
    """All tables; one limit applies to the cells of all of them."""
    tables: dict[str, Table] = {}
    paths: set[str] = set()
    records = cells = samples = 0
    for index, item in enumerate(resources):
        name, path, fields = _described(item, f"{NAME}: resources[{index}]")
        if name in tables:
            raise DocumentError(NAME, f"two resources are called “{name[:60]}”")
        if path in paths:
            raise DocumentError(NAME, f"two resources name the file “{path[:60]}”")
        paths.add(path)
        with _opened(folder, path) as file:
            if all(kind == "number" for _, kind in fields):
                columns = _columns(file, path, [name for name, _ in fields], MOST_SAMPLES - samples)
                tables[name] = Table(name, path, fields, columns=columns)
                samples += tables[name].length * len(fields)
            else:
                most = min(MOST_RECORDS - records, (MOST_CELLS - cells) // len(fields))
                rows = _rows(file, path, fields, most)
                tables[name] = Table(name, path, fields, rows)
                records, cells = records + len(rows), cells + len(rows) * len(fields)
    return tables


def _described(item: Any, where: str) -> tuple[str, str, tuple[tuple[str, str], ...]]:
    """Name, path and fields of a resource in the descriptor."""
    if not isinstance(item, dict) or not isinstance(item.get("name"), str):
        raise DocumentError(where, "needs a name")
    path = item.get("path")
    if not isinstance(path, str) or ".." in path.split("/") or path.startswith("/"):
        raise DocumentError(f"{where}.path", "must be a file of the package")
    schema = item.get("schema")
    listed = schema.get("fields") if isinstance(schema, dict) else None
    if not isinstance(listed, list) or not listed:
        raise DocumentError(f"{where}.schema.fields", "is needed")
    if len(listed) > MOST_FIELDS:
        raise DocumentError(f"{where}.schema.fields", f"has more than {MOST_FIELDS} entries")
    fields: dict[str, str] = {}
    for described in listed:
        if not isinstance(described, dict) or not isinstance(described.get("name"), str):
            raise DocumentError(f"{where}.schema.fields", "each needs a name")
        name, kind = described["name"], described.get("type", "string")
        if not isinstance(kind, str) or kind not in _READERS:
            raise DocumentError(f"{where}: {name[:60]}", f"{str(kind)[:30]!r} is no known type")
        if name in fields:
            raise DocumentError(f"{where}.schema.fields", f"two are called “{name[:60]}”")
        fields[name] = kind
    return item["name"], path, tuple(fields.items())


def _blocks(file: IO[bytes], path: str, names: list[str], most: int) -> Iterator[np.ndarray]:
    """Blocks of rows of a series, up to the limit of cells."""
    import pandas as pd

    blocks = pd.read_csv(
        file,
        dtype="float64",
        index_col=False,
        na_values=[""],
        keep_default_na=False,
        chunksize=_CHUNK_ROWS,
        skip_blank_lines=False,
        on_bad_lines="error",
    )
    cells = 0
    for block in blocks:
        if list(block.columns) != names:
            raise DocumentError(path[:80], _WRONG_HEAD)
        cells += block.size
        if cells > most:
            limits = f"{MOST_SAMPLES:,} cells together"
            raise DocumentError(path[:80], f"is too long: all series hold at most {limits}")
        yield block.to_numpy()


def _columns(file: IO[bytes], path: str, names: list[str], most: int) -> dict[str, np.ndarray]:
    """A series of numbers, with at most ``most`` cells."""
    import pandas as pd

    if len(names) > MOST_COLUMNS:
        raise DocumentError(path[:80], f"has more than {MOST_COLUMNS} columns of numbers")
    try:
        parts = list(_blocks(file, path, names, most))
    except (pd.errors.ParserError, pd.errors.EmptyDataError, UnicodeDecodeError) as error:
        raise DocumentError(path[:80], f"is not CSV: {str(error)[:80]}") from None
    except ValueError as error:
        if isinstance(error, DocumentError):
            raise
        raise DocumentError(path[:80], f"holds what is not a number: {str(error)[:60]}") from None
    values = np.concatenate(parts) if parts else np.empty((0, len(names)))
    if np.isinf(values).any():
        raise DocumentError(path[:80], "holds a number that is not finite")
    return {name: values[:, place] for place, name in enumerate(names)}


_WRONG_HEAD = "its first row does not name the fields of its schema"


def _rows(file: IO[bytes], path: str, fields: Sequence[tuple[str, str]], most: int) -> list[Row]:
    """Records, at most ``most`` rows."""
    lines = csv.reader(io.TextIOWrapper(file, "utf-8-sig", newline=""))
    if next(lines, None) != [name for name, _ in fields]:
        raise DocumentError(path[:80], _WRONG_HEAD)
    rows: list[Row] = []
    for number, line in enumerate(lines, 2):
        if len(rows) >= most:
            limits = f"{MOST_RECORDS:,} rows and {MOST_CELLS:,} cells"
            raise DocumentError(
                path[:80], f"is too long: all tables hold at most {limits} together"
            )
        where = f"{path[:80]} row {number}"
        if len(line) != len(fields):
            raise DocumentError(where, f"has {len(line)} cells, not {len(fields)}")
        rows.append(
            {
                name: None if cell == "" else _typed(cell, kind, f"{where}, {name}")
                for cell, (name, kind) in zip(line, fields, strict=True)
            }
        )
    return rows


def _typed(cell: str, kind: str, where: str) -> Any:
    try:
        return _READERS[kind](cell)
    except (ValueError, RecursionError) as error:
        refusal = str(error) if isinstance(error, _Refused) else f"is not a {kind}"
        raise DocumentError(where, f"{cell[:30]!r} {refusal}") from None


class _Refused(ValueError):
    """Raised for a cell that is refused for safety."""


def _string(cell: str) -> str:
    if cell.startswith(_FORMULA):
        raise _Refused("looks like a formula: put an apostrophe before it if it is text")
    if cell[:1] == "'" and cell[1:2] in (*_GUARDED, "'"):
        return cell[1:]
    return cell


def _number(cell: str) -> float:
    value = float(cell)
    if not math.isfinite(value):
        raise ValueError(cell)
    return value


def _boolean(cell: str) -> bool:
    return {"true": True, "false": False}[cell] if cell in ("true", "false") else _wrong(cell)


def _wrong(cell: str) -> bool:
    raise ValueError(cell)


def _of(kind: type) -> Any:
    def reader(cell: str) -> Any:
        value = json.loads(cell)
        if not isinstance(value, kind):
            raise ValueError(cell)
        return value

    return reader


_READERS = {
    "string": _string,
    "datetime": _string,
    "number": _number,
    "integer": int,
    "boolean": _boolean,
    "object": _of(dict),
    "array": _of(list),
}


def check(content: bytes) -> dict[str, Any]:
    """Return what ``needle package --check`` prints: validity, resources, and errors."""
    try:
        package = read(content)
    except DocumentError as error:
        return {"valid": False, "resources": [], "errors": [str(error)]}
    resources = [
        {"name": table.name, "path": table.path, "rows": table.length}
        for table in package.tables.values()
    ] + [{"name": name, "path": _picture_path(name)} for name in package.pictures]
    return {"valid": True, "resources": resources, "errors": []}
