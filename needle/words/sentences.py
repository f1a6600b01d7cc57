"""Sentences made of messages."""

from __future__ import annotations

from dataclasses import asdict, is_dataclass
from datetime import date
from typing import Any

from needle.ledger import LedgerEntry
from needle.message import AsText, Message, from_stored
from needle.words.english import SENTENCES
from needle.words.figures import USUAL, FigureFormatter, Units


def text_of(message: Message | AsText | str | None, units: Units = USUAL) -> str:
    """Return the sentence of a message, empty for None.

    A text is somebody's own, and stays as it is. A message that came with somebody's document and
    has no sentence, or other figures than its sentence, is given by its code.
    """
    if isinstance(message, AsText):
        message = message.said
    if message is None or isinstance(message, str):
        return message or ""
    try:
        return _sentence(message, units)
    except (AttributeError, KeyError, TypeError, ValueError):
        return message.code


def _sentence(message: Message, units: Units) -> str:
    figures = {
        name: text_of(value, units)
        if isinstance(value, Message)
        else [text_of(item, units) for item in value]
        if isinstance(value, tuple) and any(isinstance(item, Message) for item in value)
        else value
        for name, value in message.figures
    }
    sentence = SENTENCES[message.code]
    if callable(sentence):
        return sentence(units, **figures)
    return FigureFormatter(units).format(sentence, **figures)


def is_stored(value: Any) -> bool:
    """Whether a value is a stored message that has a sentence, or a text of an older package."""
    if isinstance(value, str):
        return True
    if not isinstance(value, dict) or value.get("code") not in SENTENCES:
        return False
    try:
        said = from_stored(value)
        return isinstance(said, Message) and bool(_sentence(said, USUAL))
    except (AttributeError, KeyError, TypeError, ValueError):
        return False


def worded(value: Any) -> Any:
    """Return a document with each message as its code, its figures and its text."""
    if isinstance(value, Message):
        figures = {name: as_plain(figure) for name, figure in value.figures}
        return {"code": value.code, "figures": figures, "text": text_of(value)}
    if isinstance(value, LedgerEntry):
        said = worded(value.said)
        role = "as" if value.used else "why"
        return {"where": value.where, "used": value.used, **said, role: said["text"]}
    if isinstance(value, AsText):
        return text_of(value.said)
    if isinstance(value, dict):
        said = worded(value["said"]) if isinstance(value.get("said"), Message) else {}
        return {
            **said,
            **{key: worded(item) for key, item in value.items() if not said or key != "said"},
        }
    if isinstance(value, list | tuple):
        return [worded(item) for item in value]
    return value


def as_plain(value: Any) -> Any:
    """A figure of a message as JSON has it."""
    if isinstance(value, Message):
        return worded(value)
    if isinstance(value, date):
        return value.isoformat()
    if isinstance(value, list | tuple):
        return [as_plain(item) for item in value]
    return asdict(value) if is_dataclass(value) and not isinstance(value, type) else value
