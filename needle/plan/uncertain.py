"""What is uncertain in a plan, each under a key of its kind and its name among its kind.

Nothing is drawn under a display name alone: a load may be called "battery".
"""

from __future__ import annotations

from typing import NamedTuple

CAPACITY, INVERTER_IDLE, INVERTER_EFFICIENCY = "battery", "inverter idle", "inverter efficiency"
OUTPUT, LOAD, SOURCE = "output", "load", "source"


class InputKey(NamedTuple):
    """Kind of thing, and which of its kind; the supply's battery and inverter need no name."""

    kind: str
    name: str = ""

    @property
    def words(self) -> str:
        """As a person would call it."""
        if self.kind == OUTPUT:
            return f"{self.name} output"
        return self.name or self.kind
