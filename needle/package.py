"""A job as a tabular data package: a zip with ``datapackage.json`` and one CSV for each table.

The descriptor follows the Data Package and Table Schema specifications (Frictionless Data, v1).
Reading is strict, since files come from anywhere: what is too large, points outside the zip, or
does not match its schema is refused in one sentence.
"""

from __future__ import annotations

import csv
import io
import json
import math
import zipfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from needle.document import DocumentError

NAME = "datapackage.json"
PROFILE = "tabular-data-package"
#: Most bytes when unpacked, of one file and of all, and most files and rows of a table.
MOST_FILE, MOST_ALL, MOST_FILES, MOST_ROWS = 100_000_000, 300_000_000, 2000, 1_000_000
_FORMULA = ("=", "@", "\t", "\r")
_GUARDED = (*_FORMULA, "+", "-")
Row = dict[str, Any]


@dataclass(frozen=True)
class Table:
    """A resource: its name, path in the zip, fields as (name, type), and rows of typed values."""

    name: str
    path: str
    fields: tuple[tuple[str, str], ...]
    rows: list[Row]


@dataclass(frozen=True)
class Package:
    """A title, what else the descriptor says, and tables by name."""

    title: str
    tables: dict[str, Table]
    extra: Mapping[str, Any] = field(default_factory=dict)


def write(package: Package) -> bytes:
    """The package as a zip."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as folder:
        folder.writestr(NAME, json.dumps(_descriptor(package), indent=1, ensure_ascii=False))
        for table in package.tables.values():
            folder.writestr(table.path, _as_csv(table))
    return buffer.getvalue()


def _descriptor(package: Package) -> dict[str, Any]:
    return {
        "profile": PROFILE,
        "name": "steady-needle-job",
        "title": package.title,
        **package.extra,
        "resources": [
            {
                "name": one.name,
                "path": one.path,
                "profile": "tabular-data-resource",
                "encoding": "utf-8",
                "schema": {
                    "fields": [{"name": name, "type": kind} for name, kind in one.fields],
                    "missingValues": [""],
                },
            }
            for one in package.tables.values()
        ],
    }


def _as_csv(table: Table) -> str:
    text = io.StringIO()
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
    """Read and check a package.

    Raises
    ------
    DocumentError
        Names the file, row and field.
    """
    try:
        folder = zipfile.ZipFile(io.BytesIO(content))
    except (zipfile.BadZipFile, OSError, ValueError):
        raise DocumentError("", "is not a whole zip file: fetch it again") from None
    with folder:
        _check_folder(folder)
        descriptor = _json(_unpacked(folder, NAME))
        resources = descriptor.get("resources")
        if not isinstance(resources, list) or not resources:
            raise DocumentError(f"{NAME}: resources", "is empty: this is no job")
        tables: dict[str, Table] = {}
        for index, item in enumerate(resources):
            table = _table(folder, item, f"{NAME}: resources[{index}]")
            if table.name in tables:
                raise DocumentError(NAME, f"two resources are called “{table.name}”")
            tables[table.name] = table
    known = {"profile", "name", "title", "resources"}
    extra = {key: value for key, value in descriptor.items() if key not in known}
    return Package(str(descriptor.get("title", ""))[:200], tables, extra)


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
    if sum(item.file_size for item in items) > MOST_ALL:
        raise DocumentError("", f"is larger than {MOST_ALL // 1_000_000} MB when unpacked")


def _unpacked(folder: zipfile.ZipFile, path: str) -> str:
    """A file's text, never more than it may hold, whatever its header says."""
    try:
        with folder.open(path) as file:
            content = file.read(MOST_FILE + 1)
    except KeyError:
        raise DocumentError(path[:80], "is not in the package") from None
    except (zipfile.BadZipFile, OSError, EOFError, NotImplementedError, RuntimeError, ValueError):
        raise DocumentError(path[:80], "is damaged: fetch the package again") from None
    if len(content) > MOST_FILE:
        raise DocumentError(path[:80], f"is larger than {MOST_FILE // 1_000_000} MB when unpacked")
    try:
        return content.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise DocumentError(path[:80], "is not UTF-8 text") from None


def _json(text: str) -> dict[str, Any]:
    try:
        found = json.loads(text)
    except (json.JSONDecodeError, RecursionError):
        raise DocumentError(NAME, "is not JSON") from None
    if not isinstance(found, dict):
        raise DocumentError(NAME, "must be an object")
    return found


def _table(folder: zipfile.ZipFile, item: Any, where: str) -> Table:
    if not isinstance(item, dict) or not isinstance(item.get("name"), str):
        raise DocumentError(where, "needs a name")
    path = item.get("path")
    if not isinstance(path, str) or ".." in path.split("/") or path.startswith("/"):
        raise DocumentError(f"{where}.path", "must be a file of the package")
    schema = item.get("schema")
    listed = schema.get("fields") if isinstance(schema, dict) else None
    if not isinstance(listed, list):
        raise DocumentError(f"{where}.schema.fields", "is needed")
    fields = []
    for one in listed:
        if not isinstance(one, dict) or not isinstance(one.get("name"), str):
            raise DocumentError(f"{where}.schema.fields", "each needs a name")
        kind = one.get("type", "string")
        if kind not in _READERS:
            raise DocumentError(f"{where}: {one['name']}", f"{str(kind)[:30]!r} is no known type")
        fields.append((one["name"], kind))
    return Table(item["name"], path, tuple(fields), _rows(_unpacked(folder, path), path, fields))


def _rows(text: str, path: str, fields: Sequence[tuple[str, str]]) -> list[Row]:
    lines = csv.reader(io.StringIO(text, newline=""))
    rows: list[Row] = []
    try:
        head = next(lines, None)
        if head != [name for name, _ in fields]:
            raise DocumentError(path, "its first row does not name the fields of its schema")
        for number, line in enumerate(lines, 2):
            if len(rows) >= MOST_ROWS:
                raise DocumentError(path, f"has more than {MOST_ROWS:,} rows")
            if len(line) != len(fields):
                raise DocumentError(
                    f"{path} row {number}", f"has {len(line)} cells, not {len(fields)}"
                )
            row = {}
            for cell, (name, kind) in zip(line, fields, strict=True):
                try:
                    row[name] = None if cell == "" else _READERS[kind](cell)
                except (ValueError, RecursionError) as error:
                    said = str(error) if isinstance(error, _Refused) else f"is not a {kind}"
                    raise DocumentError(
                        f"{path} row {number}, {name}", f"{cell[:30]!r} {said}"
                    ) from None
            rows.append(row)
    except csv.Error as error:
        raise DocumentError(path, f"is not CSV: {error}") from None
    return rows


class _Refused(ValueError):
    """A cell that is refused for what it may do."""


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
    """What ``needle package --check`` prints: whether it is valid, its resources, what is wrong."""
    try:
        found = read(content)
    except DocumentError as error:
        return {"valid": False, "resources": [], "errors": [str(error)]}
    resources = [
        {"name": one.name, "path": one.path, "rows": len(one.rows)} for one in found.tables.values()
    ]
    return {"valid": True, "resources": resources, "errors": []}
