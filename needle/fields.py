"""Declarations of the fields of open documents.

A field is declared once, with its meaning, unit, bounds and default. The declaration is what
:class:`needle.document.Reader` reads by, what unknown keys are compared with, and what
``docs/fields.md`` is made from (``python -m tools.fields``).
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import KW_ONLY, dataclass, field


@dataclass(frozen=True)
class Field:
    """A field of a document.

    Attributes
    ----------
    meaning : str
    otherwise : str
        What is taken where the field is absent, in words; empty where the default says it.
    label : str
        What a form made from the declaration calls it; empty where it has no field in one.
    """

    meaning: str
    _: KW_ONLY
    otherwise: str = ""
    label: str = ""


@dataclass(frozen=True)
class Number(Field):
    """A finite number.

    Attributes
    ----------
    unit : str
        Empty for a plain number; ``"share"`` for 0…1.
    least, most : float
        Bounds, both allowed unless ``above`` excludes the lower one.
    default : float or None
        Value where it is absent.
    needed : bool
        Whether a document without it is refused.
    whole : bool
        Whether only whole numbers are accepted.
    """

    _: KW_ONLY
    unit: str = ""
    least: float = 0.0
    most: float = math.inf
    above: bool = False
    default: float | None = None
    needed: bool = False
    whole: bool = False


@dataclass(frozen=True)
class Text(Field):
    """A text of at most ``most`` characters; one that is ``needed`` must be there."""

    _: KW_ONLY
    default: str = ""
    most: int = 200
    needed: bool = False


@dataclass(frozen=True)
class Flag(Field):
    """True or false."""

    _: KW_ONLY
    default: bool = False


@dataclass(frozen=True)
class Choice(Field):
    """One of some words; without a default it is needed.

    ``choices`` are empty where only the document tells them (the outputs of a supply).
    """

    _: KW_ONLY
    choices: Iterable[str] = ()
    default: str | None = None


@dataclass(frozen=True)
class Items(Field):
    """A list of at most ``most`` items; ``form`` shows what they look like."""

    _: KW_ONLY
    form: str = ""
    most: int = 10_000


@dataclass(frozen=True)
class Windows(Items):
    """A list of windows: of every day, or once from a moment to a moment (ISO 8601)."""

    _: KW_ONLY
    form: str = '[["18:00", "22:30"], …]'


@dataclass(frozen=True)
class Rows(Field):
    """A list of rows, each a list of numbers in the order of ``columns``."""

    _: KW_ONLY
    columns: Mapping[str, Number] = field(default_factory=dict)
    most: int = 10_000


@dataclass(frozen=True)
class Part(Field):
    """An object with fields of its own; ``see`` names a document that is described by itself."""

    _: KW_ONLY
    fields: Fields = field(default_factory=dict)
    see: str = ""


@dataclass(frozen=True)
class Parts(Part):
    """A list of at most ``most`` objects."""

    _: KW_ONLY
    most: int = 10_000


@dataclass(frozen=True)
class AnyValue(Field):
    """A value of several forms, shown by ``form``; its reader is written by hand."""

    _: KW_ONLY
    form: str = ""
    default: object = None


#: The fields of an object, by key, in the order in which documents show them.
Fields = Mapping[str, Field]
