"""Strict parsing of open documents: unknown keys, wrong types and absurd values are refused.

All JSON in the core is read by a :class:`Reader` from the fields that are declared for it
(:mod:`needle.fields`), so that the site, the headless commands and imports refuse the same values
with the same messages.
"""

from __future__ import annotations

import difflib
import json
import math
from collections.abc import Iterable
from typing import Any, TypeVar

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

_FieldType = TypeVar("_FieldType", bound=Field)


class DocumentError(ValueError):
    """Raised for an invalid document; ``path`` names the key, the message says what is accepted."""

    def __init__(self, path: str, message: str) -> None:
        super().__init__(f"{path}: {message}" if path else message)
        self.path = path
        self.message = message

    @property
    def sentence(self) -> str:
        """The message as a sentence of its own."""
        return f"{self.message[:1].upper()}{self.message[1:].rstrip('.')}."

    def under(self, path: str) -> DocumentError:
        """The same error for a document that is part of another."""
        return DocumentError(f"{path}.{self.path}" if self.path else path, self.message)

    def __reduce__(self) -> tuple[Any, ...]:
        # It travels between processes.
        return type(self), (self.path, self.message)


def parse_json(content: bytes, path: str) -> Any:
    """Parse JSON text.

    Raises
    ------
    DocumentError
        The text is not JSON; the message names ``path`` and the line.
    """
    try:
        return json.loads(content.decode("utf-8-sig"))
    except UnicodeDecodeError:
        raise DocumentError(path, "is not UTF-8 text") from None
    except RecursionError:
        raise DocumentError(path, "is nested too deeply") from None
    except json.JSONDecodeError as error:
        raise DocumentError(
            path, f"is not JSON (line {error.lineno}: {error.msg}); check commas and quotes"
        ) from None
    except ValueError:  # a whole number of thousands of digits
        raise DocumentError(path, "holds a number that is too long") from None


class Reader:
    """Reads one JSON object by the fields declared for it.

    Parameters
    ----------
    data : object
        The parsed JSON; anything but an object is refused.
    path : str
        Path in the document, for messages.
    fields : Fields
        Its fields by key; a key that is not among them is refused.
    """

    def __init__(self, data: Any, path: str, fields: Fields) -> None:
        if not isinstance(data, dict):
            raise DocumentError(path, "must be an object with named values")
        self.data, self.path, self.fields = data, path, fields
        for key in data:
            if key not in fields:
                near = _nearest(str(key), fields)
                hint = f"did you mean “{near}”?" if near else f"known: {', '.join(fields)}"
                raise DocumentError(self.at(str(key)[:40]), f"unknown key; {hint}")

    def at(self, key: str) -> str:
        """Path of one of its values."""
        return f"{self.path}.{key}" if self.path else key

    def has(self, key: str) -> bool:
        """Whether a value is given; null is none."""
        self._field(key, Field)
        return self.data.get(key) is not None

    def _field(self, key: str, kind: type[_FieldType]) -> _FieldType:
        field = self.fields[key]
        if not isinstance(field, kind):
            raise TypeError(f"{self.at(key)} is declared as {type(field).__name__}")
        return field

    def number(self, key: str, default: float | None = None) -> float:
        """A number as given, else ``default``, else its declared default.

        Raises
        ------
        DocumentError
            Also where there is none of the three.
        """
        value = self.number_or_none(key)
        if value is not None:
            return value
        default = self._field(key, Number).default if default is None else default
        if default is None:
            raise DocumentError(self.at(key), "is needed")
        return default

    def number_or_none(self, key: str) -> float | None:
        """A finite number within its declared bounds, or None where it is absent."""
        field = self._field(key, Number)
        if not self.has(key):
            return None
        value = self._finite(key)
        if value < field.least or (field.above and value == field.least):
            word = "above" if field.above else "at least"
            raise DocumentError(self.at(key), f"{value:g} is too small: {word} {field.least:g}")
        if value > field.most:
            raise DocumentError(self.at(key), f"{value:g} is too large: at most {field.most:g}")
        if field.whole and value != int(value):
            raise DocumentError(self.at(key), f"{value:g} must be a whole number")
        return value

    def whole(self, key: str, default: float | None = None) -> int:
        """A whole number, as :meth:`number`."""
        return int(self.number(key, default))

    def _finite(self, key: str) -> float:
        value = self.data[key]
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise DocumentError(self.at(key), f"must be a number, not {str(value)[:40]!r}")
        try:
            value = float(value)
        except OverflowError:
            value = math.inf
        if not math.isfinite(value):
            raise DocumentError(self.at(key), f"must be finite, not {value}")
        return value

    def text(self, key: str, default: str | None = None) -> str:
        """A text as given, else ``default``, else its declared default."""
        field, value = self._field(key, Text), self.data.get(key)
        if value is None and field.needed and default is None:
            raise DocumentError(self.at(key), "is needed")
        if value is None:
            return field.default if default is None else default
        if not isinstance(value, str):
            raise DocumentError(self.at(key), f"must be text, not {str(value)[:40]!r}")
        if len(value) > field.most:
            raise DocumentError(self.at(key), f"is too long: at most {field.most} characters")
        return value

    def flag(self, key: str, default: bool | None = None) -> bool:
        """True or false as given, else ``default``, else its declared default."""
        field, value = self._field(key, Flag), self.data.get(key)
        if value is None:
            return field.default if default is None else default
        if not isinstance(value, bool):
            raise DocumentError(self.at(key), f"must be true or false, not {str(value)[:40]!r}")
        return value

    def choice(
        self, key: str, choices: Iterable[str] | None = None, default: str | None = None
    ) -> str:
        """One of the declared choices, or of ``choices`` where the document itself tells them."""
        field = self._field(key, Choice)
        value = self.data.get(key, field.default if default is None else default)
        names = list(field.choices if choices is None else choices)
        if not isinstance(value, str) or value not in names:
            near = _nearest(str(value), names)
            hint = f"did you mean “{near}”? " if near else ""
            shown = "is needed" if value is None else f"{str(value)[:40]!r} is not known"
            raise DocumentError(self.at(key), f"{shown}; {hint}one of {', '.join(names)}")
        return value

    def items(self, key: str) -> list[Any]:
        """The items of a list; empty where it is absent."""
        return self._listed(key, self._field(key, Items).most)

    def rows(self, key: str) -> list[Reader]:
        """The rows of a table, each read by the names of its columns."""
        field = self._field(key, Rows)
        rows = []
        for index, item in enumerate(self._listed(key, field.most)):
            path = f"{self.at(key)}[{index}]"
            if not isinstance(item, list | tuple) or len(item) != len(field.columns):
                meanings = ", ".join(column.meaning for column in field.columns.values())
                raise DocumentError(path, f"must be [{meanings}]")
            rows.append(Reader(dict(zip(field.columns, item, strict=True)), path, field.columns))
        return rows

    def parts(self, key: str) -> list[Reader]:
        """The objects of a list."""
        field = self._field(key, Parts)
        return [
            Reader(item, f"{self.at(key)}[{index}]", field.fields)
            for index, item in enumerate(self._listed(key, field.most))
        ]

    def part(self, key: str) -> Reader | None:
        """An object within this one, or None where it is absent."""
        field = self._field(key, Part)
        return Reader(self.data[key], self.at(key), field.fields) if self.has(key) else None

    def documents(self, key: str) -> list[Any]:
        """The items of a list that are documents of their own, not read yet."""
        return self._listed(key, self._field(key, Parts).most)

    def document(self, key: str) -> Any:
        """A document within this one, not read yet; None where it is absent."""
        self._field(key, Part)
        return self.data.get(key)

    def value(self, key: str) -> Any:
        """A value of several forms, as it stands."""
        return self.data.get(key, self._field(key, AnyValue).default)

    def _listed(self, key: str, most: int) -> list[Any]:
        value = self.data.get(key)
        if value is None:
            return []
        if not isinstance(value, list):
            raise DocumentError(self.at(key), "must be a list")
        if len(value) > most:
            raise DocumentError(self.at(key), f"has {len(value)} entries: at most {most}")
        return value


def kind_of(data: Any, path: str, key: str, kinds: Iterable[str]) -> str:
    """Which of some kinds an object says it is, read before the fields of that kind."""
    if not isinstance(data, dict):
        raise DocumentError(path, "must be an object with named values")
    return Reader({key: data.get(key)}, path, {key: Choice("", choices=kinds)}).choice(key)


def _nearest(word: str, known: Iterable[str]) -> str | None:
    """The most similar of some known words, if one is near."""
    near = difflib.get_close_matches(word, list(known), 1, 0.4)
    return near[0] if near else None
