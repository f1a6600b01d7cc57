"""Long lists: their first rows, and the rest on request."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from django.http import HttpRequest

#: Rows that a page shows of a list before the rest is asked for.
MOST_ROWS = 100


@dataclass(frozen=True)
class Folded:
    """What a page shows of a list.

    Attributes
    ----------
    rows : sequence
    total : int
        Length of the whole list.
    """

    rows: Sequence[Any]
    total: int

    @property
    def is_folded(self) -> bool:
        return len(self.rows) < self.total


def folded(rows: Any, request: HttpRequest) -> Folded:
    """The first rows of a list or query, or all of them if the request has ``all=1``."""
    total = rows.count() if hasattr(rows, "query") else len(rows)
    most = total if request.GET.get("all") == "1" else MOST_ROWS
    return Folded(list(rows[:most]), total)
