"""Single values of an open document, and alternatives to each.

Whether a value matters is found by changing it and comparing the answers.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any

from needle.document import DocumentError
from needle.profile.kinds import KINDS
from needle.supply.chemistry import CHEMISTRIES
from needle.supply.outputs import OUTPUT_KINDS

#: A place in a document: keys of objects, numbers in lists.
Path = tuple[str | int, ...]

#: What else stands under a key that names one of several.
_CHOICES: dict[str, Sequence[str]] = {
    "chemistry": tuple(CHEMISTRIES),
    "waveform": ("sine", "stepped"),
    "instrument": ("clamp", "display", "plug", "shunt"),
    "counted": ("battery", "ac", "dc"),
    "priority": ("must", "should", "nice"),
    "cares": ("", "life", "store", "hard-wired"),
    "why": ("floor", "cutoff", "trip", "by hand"),
    "feel": ("now and then", "nearly always"),
    "start_tested": ("held", "tripped"),
    "state": ("running", "resting", "boost"),
    "pattern": ("steady", "cycling", "modulating", "program"),
    "legs": ("one", "both"),
}
#: Kinds by what they are kinds of: a load, an output; a source is what it is.
_KINDS = {"outputs": tuple(OUTPUT_KINDS), "loads": tuple(KINDS), "profile": tuple(KINDS)}


def path_text(path: Path) -> str:
    """A path as in ledgers: ``loads[0].use.between[1]``."""
    parts = [f"[{part}]" if isinstance(part, int) else f".{part}" for part in path]
    return "".join(parts).lstrip(".")


def leaves(document: Any, path: Path = ()) -> Iterator[tuple[Path, Any]]:
    """Every single value of a document with its path; missing values are skipped."""
    if isinstance(document, Mapping):
        for key, value in document.items():
            yield from leaves(value, (*path, str(key)))
    elif isinstance(document, list | tuple):
        for number, value in enumerate(document):
            yield from leaves(value, (*path, number))
    elif document is not None and document != "":
        yield path, document


def with_value(document: Any, path: Path, value: Any) -> Any:
    """A document with another value at a path."""
    if not path:
        return value
    first, rest = path[0], path[1:]
    if isinstance(document, Mapping):
        return {**document, first: with_value(document[first], rest, value)}
    items = list(document)
    items[first] = with_value(items[first], rest, value)  # type: ignore[index]
    return items


def without(document: Any, path: Path) -> Any:
    """A document without the value at a path."""
    if len(path) > 1:
        first = path[0]
        inner = without(document[first], path[1:])
        return with_value(document, (first,), inner)
    if isinstance(document, Mapping):
        return {key: value for key, value in document.items() if key != path[0]}
    return [item for number, item in enumerate(document) if number != path[0]]


def others(path: Path, value: Any) -> list[Any]:
    """Alternative values: a little more, a little less, much less, other words."""
    key = next((part for part in reversed(path) if isinstance(part, str)), "")
    if isinstance(value, bool):
        return [not value]
    if isinstance(value, int | float):
        whole = isinstance(value, int) and key in ("count", "of", "bars", "runs", "tasks")
        little = [value * 1.13 + 0.011, value * 0.87, value / 2, value / 40]
        near = [value + 1, value - 1] if whole else little
        return [*near, value * 40, 0]
    if not isinstance(value, str):
        return []
    if key == "kind":
        above = next((part for part in reversed(path[:-1]) if part in _KINDS), "profile")
        return [name for name in _KINDS[str(above)] if name != value]
    if key in _CHOICES:
        return [name for name in _CHOICES[key] if name != value]
    return _moved(value)


def _moved(text: str) -> list[str]:
    """A moment, earlier and later; empty if the text is not a moment."""
    if len(text) == 5 and text[2] == ":" and text.replace(":", "").isdecimal():
        minute = int(text[:2]) * 60 + int(text[3:])
        return [f"{m // 60 % 24:02d}:{m % 60:02d}" for m in (minute + 35, minute - 35)]
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        return []
    if len(text) == 10:
        return [(moment + timedelta(days=days)).date().isoformat() for days in (-300, 300, -3000)]
    return [(moment + step).isoformat() for step in (timedelta(hours=5), timedelta(days=-3000))]


def moves(document: Any, path: Path, value: Any, answer: Callable[[Any], Any], before: Any) -> bool:
    """Whether an answer changes with another value; also if no other value is accepted.

    Parameters
    ----------
    document : dict
    path : Path
    value : object
        The value at the path.
    answer : callable
        Function of a document; raises :class:`needle.document.DocumentError` if it is refused.
    before : object
        The answer to the unchanged document.
    """
    taken = False
    for other in others(path, value):
        try:
            after = answer(with_value(document, path, other))
        except (DocumentError, ValueError, KeyError):
            continue
        taken = True
        if after != before:
            return True
    return not taken and bool(others(path, value))
