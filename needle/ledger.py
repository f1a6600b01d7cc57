"""Ledger of an answer: what it used and what it did not, entry by entry.

Every figure that somebody entered is either used, or listed here with the reason why it is not used
and what would make it count. An entry refers to a path in the document: a whole object, or a key.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from needle.message import Message

#: Codes of entries without an effect on figures, such as names and notes.
TOLD = ("name", "note")


@dataclass(frozen=True)
class LedgerEntry:
    """One value or object that was entered.

    Attributes
    ----------
    where : str
        Its path in the document: ``"loads[0].profile.readings[2].hz"``.
    used : bool
    said : Message
        What it is used for; or why it is unused, and what would make it count.
    """

    where: str
    used: bool
    said: Message

    def under(self, path: str) -> LedgerEntry:
        """The same entry for a document that is part of another."""
        return replace(self, where=f"{path}.{self.where}" if self.where else path)


def covers(entry: LedgerEntry, path: str) -> bool:
    """Whether an entry refers to a path, or to an object that contains it."""
    return path == entry.where or path.startswith((f"{entry.where}.", f"{entry.where}["))
