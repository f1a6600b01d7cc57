"""Declared fields as JSON Schema, the dialect that OpenAPI 3.1 uses (draft 2020-12)."""

from __future__ import annotations

import math
from typing import Any

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

Schema = dict[str, Any]


def schema_of(fields: Fields, closed: bool = True) -> Schema:
    """The schema of an object with these fields.

    ``closed`` refuses other keys, as the readers of documents do.
    """
    schema: Schema = {
        "type": "object",
        "properties": {key: _value(field) for key, field in fields.items()},
    }
    if needed := [key for key, field in fields.items() if _is_needed(field)]:
        schema["required"] = needed
    if closed:
        schema["additionalProperties"] = False
    return schema


def _is_needed(field: Field) -> bool:
    match field:
        case Number() | Text():
            return field.needed
        case Choice():
            return field.default is None and not field.otherwise
    return False


def _value(field: Field) -> Schema:
    schema = _of_kind(field)
    schema["description"] = field.meaning
    # A null is as if the key were absent.
    if "type" in schema and not _is_needed(field):
        schema["type"] = [schema["type"], "null"]
        if "enum" in schema:
            schema["enum"] = [*schema["enum"], None]
    return schema


def _of_kind(field: Field) -> Schema:
    match field:
        case Number():
            return _number(field)
        case Text():
            return {"type": "string", "maxLength": field.most}
        case Flag():
            return {"type": "boolean", "default": field.default}
        case Choice():
            words = list(field.choices)
            return {"type": "string", **({"enum": words} if words else {})}
        case Rows():
            columns = [_value(column) for column in field.columns.values()]
            row = {"type": "array", "prefixItems": columns}
            return {"type": "array", "items": row, "maxItems": field.most}
        case Items():
            return {"type": "array", "items": {}, "maxItems": field.most}
        case Parts():
            return {"type": "array", "items": _object(field), "maxItems": field.most}
        case Part():
            return _object(field)
        case AnyValue():
            return {"examples": [field.form]} if field.form else {}
    raise TypeError(type(field).__name__)


def _object(part: Part) -> Schema:
    """An object of its own fields; one that is described by itself is open here."""
    return {"type": "object"} if part.see else schema_of(part.fields)


def _number(field: Number) -> Schema:
    schema: Schema = {"type": "integer" if field.whole else "number"}
    if math.isfinite(field.least):
        schema["exclusiveMinimum" if field.above else "minimum"] = field.least
    if math.isfinite(field.most):
        schema["maximum"] = field.most
    if field.default is not None:
        schema["default"] = field.default
    return schema
