"""Sentences on supplies and their tests."""

from __future__ import annotations

from collections.abc import Mapping

from needle.words.figures import Sentence

SENTENCES: Mapping[str, Sentence] = {
    "pair-suspect": (
        "The pair {ac_w:g} W AC, {dc_w:g} W DC does not fit the others: read it again."
    ),
    "no-pair-at-little-load": (
        "No pair at little load: the idle draw is only carried over from the rest."
    ),
}
