"""Downloadable responses."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable, Sequence
from typing import Any

from django.http import HttpResponse

from needle.words import worded

CSV_TYPE = "text/csv; charset=utf-8"


def attachment(
    content: str | bytes, content_type: str, filename: str, inline: bool = False
) -> HttpResponse:
    """A response that the browser saves under a name, or shows if ``inline``."""
    disposition = f'{"inline" if inline else "attachment"}; filename="{filename}"'
    return HttpResponse(
        content, content_type=content_type, headers={"Content-Disposition": disposition}
    )


def json_attachment(document: Any, filename: str) -> HttpResponse:
    return attachment(json.dumps(worded(document), indent=1), "application/json", filename)


def csv_attachment(rows: Iterable[Sequence[Any]], filename: str) -> HttpResponse:
    text = io.StringIO()
    csv.writer(text).writerows(rows)
    return attachment(text.getvalue(), CSV_TYPE, filename)


def svg_attachment(drawing: str, filename: str) -> HttpResponse:
    return attachment(drawing, "image/svg+xml", filename)
