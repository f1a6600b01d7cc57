"""What the OpenAPI description says beyond what the framework finds by itself.

Documents that go in are described by the declarations that their readers use
(:mod:`needle.json_schema`); what comes out is described by its main keys, as ``docs/formats.md``
has them.
"""

from __future__ import annotations

from typing import Any

from drf_spectacular.extensions import OpenApiAuthenticationExtension
from drf_spectacular.openapi import AutoSchema
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, OpenApiResponse

from needle.json_schema import Schema, schema_of
from needle.measure import readings
from needle.plan.documents.parse import PLAN_FIELDS
from needle.profile.document import LOAD_FIELDS
from needle.supply.supply import SUPPLY_FIELDS
from needle.trial.trial import CHECK_IN_FIELDS, TRIAL_FIELDS

_RANGE = {"$ref": "#/components/schemas/Range"}
_NUMBER, _TEXT = {"type": "number"}, {"type": "string"}
_LIST: Schema = {"type": "array", "items": {}}


def _object(**properties: Schema) -> Schema:
    return {"type": "object", "properties": properties}


def _check_in() -> Schema:
    """A check-in as it is sent: ``at`` in place of the hours since the start."""
    schema = schema_of({key: field for key, field in CHECK_IN_FIELDS.items() if key != "h"})
    schema["properties"]["at"] = {"type": "string", "format": "date-time"}
    return schema


def _reading() -> Schema:
    """A reading of any type, with a note."""
    note = {"note": {"type": "string", "maxLength": 400}}
    kinds = []
    for name, kind in readings.TYPES.items():
        schema = schema_of({**readings.COMMON_FIELDS, **kind.fields})
        schema["properties"] |= {"type": {"const": name}, **note}
        kinds.append({"title": name, **schema, "required": [*schema.get("required", ()), "type"]})
    return {"oneOf": kinds}


def schemas() -> dict[str, Schema]:
    """All schemas by name."""
    return {
        "Range": {
            "type": ["object", "null"],
            "description": "Median, and the 10th and 90th percentile.",
            "properties": {"value": _NUMBER, "low": _NUMBER, "high": _NUMBER},
        },
        "Load": schema_of(LOAD_FIELDS),
        "Reading": _reading(),
        "CheckIn": _check_in(),
        "Supply": schema_of(SUPPLY_FIELDS),
        "Plan": schema_of(PLAN_FIELDS),
        "Trial": schema_of(TRIAL_FIELDS),
        "JobDocument": _object(name=_TEXT, mains={"type": "object"}, owner=_TEXT, role=_TEXT),
        "Profile": _object(
            mean_w=_RANGE, running_w=_RANGE, duty=_RANGE, start_va=_RANGE, grade=_TEXT, how=_LIST
        ),
        "Analysis": _object(samples={"type": "integer"}, energy_wh=_NUMBER, pattern=_TEXT),
        "Answer": _object(
            runtime_h=_RANGE,
            chance=_NUMBER,
            verdict={"type": "object"},
            energy_wh={"type": "object"},
            helps=_LIST,
            measure_next=_LIST,
        ),
        "Forecast": _object(stop_h=_RANGE, remaining_h=_RANGE, charge=_RANGE, mean_w=_RANGE),
        "Watch": _object(watched={"type": "boolean"}, trial={"type": "integer"}),
        "Round": _object(steps=_LIST, states={"type": "object"}),
        "Page": _object(
            count={"type": "integer"},
            next={"type": ["string", "null"]},
            previous={"type": ["string", "null"]},
            results=_LIST,
        ),
        "Working": _object(state=_TEXT, again_in_s=_NUMBER, url=_TEXT),
        "Problem": _object(
            type=_TEXT, title=_TEXT, status={"type": "integer"}, detail=_TEXT, at=_TEXT
        ),
    }


def _ref(name: str) -> Schema:
    return {"$ref": f"#/components/schemas/{name}"}


def _problem(words: str) -> Any:
    return OpenApiResponse(_ref("Problem"), words)


_REFUSED: dict[Any, Any] = {
    (401, "application/problem+json"): _problem("No token, or one that is not known."),
    (429, "application/problem+json"): _problem("Asked too often: wait as Retry-After says."),
}
_NOT_THERE: dict[Any, Any] = {
    (404, "application/problem+json"): _problem("No such thing in the token's job."),
    (409, "application/problem+json"): _problem("Nothing to answer from yet."),
}


def is_document(name: str) -> dict[Any, Any]:
    """Responses of an address that gives this document."""
    return {200: _ref(name), **_REFUSED, **_NOT_THERE}


def of_type(content_type: str) -> dict[Any, Any]:
    return {(200, content_type): OpenApiTypes.STR, **_REFUSED, **_NOT_THERE}


def accepts(name: str) -> Any:
    """A request with this document as JSON."""
    return {"application/json": _ref(name)}


ROWS: dict[Any, Any] = {200: _ref("Page"), **_REFUSED, **_NOT_THERE}
WORKING: dict[Any, Any] = {202: _ref("Working")}
ADDED: dict[Any, Any] = {
    201: OpenApiTypes.OBJECT,
    200: OpenApiResponse(OpenApiTypes.OBJECT, "It was sent before with this key."),
    (403, "application/problem+json"): _problem("This token only reads."),
    (422, "application/problem+json"): _problem("The document is refused; `at` names the key."),
    **_REFUSED,
    **_NOT_THERE,
}
TAKEN: dict[Any, Any] = {
    200: _object(rows={"type": "integer"}),
    (400, "application/problem+json"): _problem("The samples cannot be read."),
    **_REFUSED,
}
PAGE = [
    OpenApiParameter("page", int, description="From 1 on."),
    OpenApiParameter("page_size", int, description="Rows of a page, at most 100."),
]
NAME = OpenApiParameter("name", str, description="What the capture is called.")
KEY = OpenApiParameter(
    "Idempotency-Key",
    str,
    OpenApiParameter.HEADER,
    description="Any text of up to 200 characters: what is sent again with it counts once.",
)


class Operations(AutoSchema):
    """Operations are named after their views: getLoads, getLoadDocument, postReadings."""

    def get_operation_id(self) -> str:
        return f"{self.method.lower()}{type(self.view).__name__}"

    def get_summary(self) -> str:
        described = self.get_description() or ""
        return str(described).split(":")[0].split(".")[0].split(";")[0].strip()

    def get_tags(self) -> list[str]:
        return [self.path.strip("/").split("/")[2]]


class TokenScheme(OpenApiAuthenticationExtension):
    target_class = "web.api.authentication.TokenAuthentication"
    name = "token"

    def get_security_definition(self, auto_schema: Any) -> Schema:
        return {"type": "http", "scheme": "bearer"}


def add_schemas(result: Any, **context: Any) -> Any:
    """Add the schemas of the documents; a hook of the generator."""
    result.setdefault("components", {}).setdefault("schemas", {}).update(schemas())
    return result
