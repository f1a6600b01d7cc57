"""What the core has to say: a code, and the figures that it speaks of.

The core decides and computes; :mod:`needle.words` makes sentences of it. Nothing that is stored or
compared is a sentence.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any


@dataclass(frozen=True)
class Message:
    """Something to be said.

    Attributes
    ----------
    code : str
        Key of its sentence in :data:`needle.words.SENTENCES`.
    figures : tuple of (name, value)
        Numbers in the unit of their suffix, names, moments, or messages.
    """

    code: str
    figures: tuple[tuple[str, Any], ...] = ()


def message(code: str, **figures: Any) -> Message:
    """Return a message with these figures."""
    return Message(code, tuple(figures.items()))


@dataclass(frozen=True)
class AsText:
    """A message of which a document has the text alone; None for an empty one."""

    said: Message | None


def as_stored(said: Message) -> dict[str, Any]:
    """A message as JSON keeps it: ``{"code", "figures"}``."""
    return {"code": said.code, "figures": {name: kept(value) for name, value in said.figures}}


def from_stored(stored: dict[str, Any] | str) -> Message | str:
    """A kept message; a text, as older packages have it, stays one.

    Raises
    ------
    KeyError, TypeError, ValueError
        It is none.
    """
    if isinstance(stored, str):
        return stored
    figures = stored["figures"].items()
    said = Message(str(stored["code"]), tuple((name, unkept(value)) for name, value in figures))
    hash(said)  # What holds a list or an object is no figure.
    return said


def kept(value: Any) -> Any:
    """A value as JSON keeps it, with all messages in it."""
    if isinstance(value, AsText):
        return {"as_text": kept(value.said)}
    if isinstance(value, Message):
        return as_stored(value)
    if isinstance(value, datetime):
        return {"moment": value.isoformat()}
    if isinstance(value, dict):
        return {key: kept(item) for key, item in value.items()}
    return [kept(item) for item in value] if isinstance(value, list | tuple) else value


def unkept(value: Any) -> Any:
    """A value as it was before :func:`kept`; lists come back as tuples."""
    if not isinstance(value, dict):
        return tuple(map(unkept, value)) if isinstance(value, list) else value
    if value.keys() == {"as_text"}:
        return AsText(unkept(value["as_text"]))
    if value.keys() == {"moment"}:
        return datetime.fromisoformat(value["moment"])
    if value.keys() == {"code", "figures"}:
        return from_stored(value)
    return {key: unkept(item) for key, item in value.items()}
