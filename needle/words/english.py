"""All sentences by the code of their message, in English."""

from __future__ import annotations

from collections.abc import Mapping

from needle.words import (
    advice,
    capture,
    decide,
    drill,
    house,
    known,
    ledger,
    plan,
    profile,
    round,
    supply,
    trial,
    watch,
)
from needle.words.figures import Sentence

_TABLES = (
    ledger,
    known,
    decide,
    drill,
    house,
    advice,
    capture,
    profile,
    supply,
    plan,
    round,
    trial,
    watch,
)

SENTENCES: Mapping[str, Sentence] = {
    code: sentence for table in _TABLES for code, sentence in table.SENTENCES.items()
}
