"""Validation of addresses and fields that no form checks."""

from __future__ import annotations

import math
from collections.abc import Iterable
from urllib.parse import urlsplit

from django.urls import Resolver404, resolve

#: Longest number of a record.
_DIGITS = 15


def key_of(text: str) -> int | None:
    """A record's primary key from text; None if it is not one."""
    return int(text) if text.isascii() and text.isdigit() and len(text) <= _DIGITS else None


def keys_of(texts: Iterable[str]) -> list[int]:
    """Primary keys from texts; invalid ones are dropped."""
    return [key for text in texts if (key := key_of(text)) is not None]


def number_of(text: str) -> float | None:
    """A number in a query; None if it is none, or not finite."""
    try:
        number = float(text)
    except ValueError:
        return None
    return number if math.isfinite(number) else None


def own_path(text: str) -> str:
    """A path of this site to return to, with its query; empty for anything else."""
    try:
        parts = urlsplit(text)
    except ValueError:
        return ""
    if parts.scheme or parts.netloc or not parts.path.startswith("/") or len(text) > 2000:
        return ""
    if not text.isascii() or not text.isprintable() or text.startswith(("//", "/\\")):
        return ""
    try:
        resolve(parts.path)
    except (Resolver404, ValueError):
        return ""
    return text
