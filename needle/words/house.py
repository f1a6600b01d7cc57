"""Sentences on a whole house beside its loads."""

from __future__ import annotations

from collections.abc import Mapping

from needle.profile.whole_house import Range
from needle.quantity import with_unit
from needle.words.figures import Sentence, Units


def span(values: Range, unit: str) -> str:
    """A likely value with its range."""
    low, mid, high = (with_unit(value, unit) for value in values)
    return f"{mid} [{low} to {high}]" if low != high else mid


def _rest(_: Units, loads_wh: Range, rest_wh: Range) -> str:
    loads, rest = span(loads_wh, "Wh"), span(rest_wh, "Wh")
    return f"The loads noted use {loads} a day. {rest} a day is not noted yet."


def _all(_: Units, loads_wh: Range, rest_wh: Range) -> str:
    return f"The loads noted use {span(loads_wh, 'Wh')} a day: about what the house uses."


def _more(_: Units, loads_wh: Range, rest_wh: Range) -> str:
    return (
        f"The loads noted use {span(loads_wh, 'Wh')} a day, which is more than the house uses: "
        "something is entered too high, or is not used so long."
    )


def _always_more(_: Units, always_w: Range, most_w: float) -> str:
    return (
        f"What runs all the time uses {span(always_w, 'W')}, but the house draws no more than "
        f"{with_unit(most_w, 'W')} at its lowest."
    )


def _always_fits(_: Units, always_w: Range, most_w: float) -> str:
    return f"What runs all the time uses {span(always_w, 'W')} of that base load."


SENTENCES: Mapping[str, Sentence] = {
    "house-no-loads": "No load with a known day is noted yet.",
    "house-rest": _rest,
    "house-all": _all,
    "house-more": _more,
    "house-always-more": _always_more,
    "house-always-fits": _always_fits,
    "house-measure-first": "Measure {load} first: it is known least.",
    "house-not-counted": "Not counted, for their day is not known: {loads:list}.",
}
