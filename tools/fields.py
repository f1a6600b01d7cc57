"""Writes ``docs/fields.md`` from the fields that are declared for open documents.

``make fields`` after a declaration was changed; a test compares the two.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from pathlib import Path

from needle.drill.drill import DRILL_FIELDS
from needle.drill.judge import ANSWER_FIELDS
from needle.drill.session import ACTION_FIELDS
from needle.fields import (
    AnyValue,
    Choice,
    Field,
    Fields,
    Flag,
    Items,
    Number,
    Part,
    Parts,
    Rows,
    Text,
)
from needle.measure import readings
from needle.measure.meters import METER_FIELDS
from needle.plan.documents.load import LOAD_FIELDS as PLAN_LOAD_FIELDS
from needle.plan.documents.parse import PLAN_FIELDS
from needle.plan.sources.registry import COMMON_FIELDS as SOURCE_FIELDS
from needle.plan.sources.registry import KINDS as SOURCES
from needle.profile.document import LOAD_FIELDS
from needle.supply import supply_tests
from needle.supply.battery import BATTERY_FIELDS
from needle.supply.charging import INPUT_FIELDS
from needle.supply.inverter import INVERTER_FIELDS
from needle.supply.outputs import OUTPUT_FIELDS
from needle.supply.supply import SUPPLY_FIELDS
from needle.trial.trial import CHECK_IN_FIELDS, TRIAL_FIELDS

FILE = Path(__file__).parents[1] / "docs" / "fields.md"
_HEAD = """# Fields of the open documents

Made by `make fields` from the declarations in the code; what documents are for, and what the
commands answer, stands in [formats.md](formats.md). A key that is not listed is refused with the
nearest known one. Units sit in a key's suffix where it has one; a share is 0…1; a relative spread
is a standard deviation over the value. A value of null is as if the key were absent. `[]` marks the
objects of a list, `.` the fields of an object.
"""
_TABLE = "| key | value | where absent | meaning |\n|---|---|---|---|\n"


def documents() -> Iterator[tuple[str, Fields]]:
    """Titles and fields of all documents, in the order in which they are shown."""
    yield "load", LOAD_FIELDS
    yield "meter", METER_FIELDS
    yield "reading: every type", readings.COMMON_FIELDS
    for name, kind in readings.TYPES.items():
        yield f"reading: {name}", kind.fields
    yield "plan", PLAN_FIELDS
    yield "plan: load", PLAN_LOAD_FIELDS
    yield "plan: source of every kind", SOURCE_FIELDS
    for name, source in SOURCES.items():
        yield f"plan: source, {name}", source.FIELDS
    yield "supply", SUPPLY_FIELDS
    yield "supply: battery", BATTERY_FIELDS
    yield "supply: inverter", INVERTER_FIELDS
    yield "supply: output", OUTPUT_FIELDS
    yield "supply: input", INPUT_FIELDS
    yield "supply test: every type", supply_tests.COMMON_FIELDS
    for name, test in supply_tests.TYPES.items():
        yield f"supply test: {name}", test.fields
    yield "trial", TRIAL_FIELDS
    yield "trial: check-in", CHECK_IN_FIELDS
    yield "drill", DRILL_FIELDS
    yield "drill: action", ACTION_FIELDS
    yield "drill: answer", ANSWER_FIELDS


def as_markdown() -> str:
    """The whole page."""
    parts = [_HEAD]
    for title, fields in documents():
        parts.append(
            f"\n## {title}\n\n| key | value | where absent | meaning |\n|---|---|---|---|\n"
        )
        parts.extend(_rows(fields, ""))
    return "".join(parts)


def _rows(fields: Fields, path: str) -> Iterator[str]:
    for key, field in fields.items():
        yield f"| `{path}{key}` | {_value(field)} | {_absent(field)} | {field.meaning} |\n"
        if isinstance(field, Part):
            marks = "[]." if isinstance(field, Parts) else "."
            yield from _rows(field.fields, f"{path}{key}{marks}")


def _value(field: Field) -> str:
    """What a value of the field is, with its bounds."""
    match field:
        case Number():
            return _number(field)
        case Flag():
            return "true or false"
        case Choice():
            return _choices(field)
        case Text():
            return f"text, at most {_figure(field.most)} characters"
        case Rows():
            columns = ", ".join(
                f"{column.meaning}: {_number(column)}" for column in field.columns.values()
            )
            return f"list of rows [{columns}], at most {_figure(field.most)}"
        case Items():
            return f"list `{field.form}`, at most {_figure(field.most)}"
        case Parts():
            return f"list of {_see(field)}, at most {_figure(field.most)}"
        case Part():
            return _see(field)
        case AnyValue():
            return f"`{field.form}`"
    raise TypeError(type(field).__name__)


def _choices(field: Choice) -> str:
    words = [f"`{word}`" if word else "empty" for word in field.choices]
    return ", ".join(words) if words else "text"


def _see(field: Part) -> str:
    return f"“{field.see}” below" if field.see else "object"


def _number(field: Number) -> str:
    kind = "whole number" if field.whole else "number"
    if field.least > -1e9 or field.most < 1e9:
        low = f"{'above' if field.above else 'from'} {_figure(field.least)}"
        high = "" if math.isinf(field.most) else f" to {_figure(field.most)}"
        kind = f"{kind} {low}{high}"
    return f"{kind}, {field.unit}" if field.unit else kind


def _absent(field: Field) -> str:
    """What is taken where the field is absent."""
    if field.otherwise:
        return field.otherwise
    match field:
        case Number(needed=True) | Text(needed=True):
            return "needed"
        case Number(default=float() | int() as default):
            return _figure(default)
        case Choice(default=None):
            return "needed"
        case Choice() | Text() if field.default:
            return f"`{field.default}`"
        case Flag():
            return "true" if field.default else "false"
        case AnyValue(default=str()):
            return f"`{field.default}`"
    return "–"


def _figure(value: float) -> str:
    return f"{value:,.10g}".replace("-", "−")


if __name__ == "__main__":
    FILE.write_text(as_markdown(), "utf-8")
    print(f"{FILE.name} is written")
