"""What an answer rests on and what it left out, entry by entry.

Every figure that somebody entered is either used, or named here with the reason why it is not and
what would make it count. An entry speaks of a place in the document: a whole object, or a key.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

#: Codes of what is only told: no figure rests on a name or a note.
TOLD = ("name", "note")


@dataclass(frozen=True)
class LedgerEntry:
    """One thing that was entered.

    Attributes
    ----------
    where : str
        Its place in the document: ``"loads[0].profile.readings[2].hz"``.
    used : bool
    code : str
        Why it was left out, or the sort of thing that it is used for.
    text : str
        What it is used as; or why it was left out, and what would make it count.
    """

    where: str
    used: bool
    code: str
    text: str

    def under(self, path: str) -> LedgerEntry:
        """The same of a document that stands within another."""
        return replace(self, where=f"{path}.{self.where}" if self.where else path)

    def as_document(self) -> dict[str, Any]:
        """The entry as the open documents write it."""
        said = {"as": self.text} if self.used else {"why": self.text}
        return {"where": self.where, "used": self.used, "code": self.code, **said}


def as_document(entries: Iterable[LedgerEntry]) -> list[dict[str, Any]]:
    """Entries as the open documents write them."""
    return [entry.as_document() for entry in entries]


def covers(entry: LedgerEntry, path: str) -> bool:
    """Whether an entry speaks of a place, or of what the place stands in."""
    return path == entry.where or path.startswith((f"{entry.where}.", f"{entry.where}["))
