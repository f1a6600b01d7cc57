"""Strict parsing of open documents: unknown keys, wrong types and absurd values are refused.

All JSON in the core is read by a :class:`Reader`, so that the site, the headless commands and
imports refuse the same values with the same messages.
"""

from __future__ import annotations

import difflib
import json
import math
from collections.abc import Iterable
from typing import Any, overload


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
    """Reads the values of one JSON object, key by key.

    Parameters
    ----------
    data : object
        The parsed JSON; anything but an object is refused.
    path : str
        Path in the document, for messages.
    known : iterable of str
        All keys that may occur.
    """

    def __init__(self, data: Any, path: str, known: Iterable[str]) -> None:
        if not isinstance(data, dict):
            raise DocumentError(path, "must be an object with named values")
        self.data, self.path = data, path
        names = list(known)
        for key in data:
            if key not in names:
                near = difflib.get_close_matches(str(key), names, 1, 0.4)
                hint = f"; did you mean “{near[0]}”?" if near else f"; known: {', '.join(names)}"
                raise DocumentError(self.at(str(key)[:40]), f"unknown key{hint}")

    def at(self, key: str) -> str:
        return f"{self.path}.{key}" if self.path else key

    def has(self, key: str) -> bool:
        return self.data.get(key) is not None

    @overload
    def number(
        self, key: str, least: float = ..., most: float = ..., above: bool = ..., *, default: float
    ) -> float: ...

    @overload
    def number(
        self,
        key: str,
        least: float = ...,
        most: float = ...,
        above: bool = ...,
        default: None = ...,
    ) -> float | None: ...

    def number(
        self,
        key: str,
        least: float = 0.0,
        most: float = math.inf,
        above: bool = False,
        default: float | None = None,
    ) -> float | None:
        """A finite number within bounds, or the default where the key is absent.

        ``above`` makes the lower bound exclusive.
        """
        if self.data.get(key) is None:
            return default
        value = self._finite(key)
        if value < least or (above and value == least):
            word = "above" if above else "at least"
            raise DocumentError(self.at(key), f"{value:g} is too small: {word} {least:g}")
        if value > most:
            raise DocumentError(self.at(key), f"{value:g} is too large: at most {most:g}")
        return value

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

    def need(
        self, key: str, least: float = 0.0, most: float = math.inf, above: bool = False
    ) -> float:
        value = self.number(key, least, most, above)
        if value is None:
            raise DocumentError(self.at(key), "is needed")
        return value

    def text(self, key: str, default: str = "", most: int = 200) -> str:
        value = self.data.get(key)
        if value is None:
            return default
        if not isinstance(value, str):
            raise DocumentError(self.at(key), f"must be text, not {str(value)[:40]!r}")
        if len(value) > most:
            raise DocumentError(self.at(key), f"is too long: at most {most} characters")
        return value

    def flag(self, key: str, default: bool = False) -> bool:
        """True or false; ``default`` if the key is missing."""
        value = self.data.get(key, default)
        if value is not None and not isinstance(value, bool):
            raise DocumentError(self.at(key), f"must be true or false, not {str(value)[:40]!r}")
        return bool(value)

    def choice(self, key: str, choices: Iterable[str], default: str | None = None) -> str:
        value = self.data.get(key, default)
        names = list(choices)
        if not isinstance(value, str) or value not in names:
            near = difflib.get_close_matches(str(value), names, 1, 0.4)
            hint = f"did you mean “{near[0]}”? " if near else ""
            shown = "is needed" if value is None else f"{str(value)[:40]!r} is not known"
            raise DocumentError(self.at(key), f"{shown}; {hint}one of {', '.join(names)}")
        return str(value)

    def items(self, key: str, most: int = 10_000) -> list[Any]:
        value = self.data.get(key)
        if value is None:
            return []
        if not isinstance(value, list):
            raise DocumentError(self.at(key), "must be a list")
        if len(value) > most:
            raise DocumentError(self.at(key), f"has {len(value)} entries: at most {most}")
        return value
