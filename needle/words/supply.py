"""Sentences on supplies and their tests."""

from __future__ import annotations

from collections.abc import Mapping

from needle.quantity import with_unit
from needle.words.figures import Sentence, Units


def _place(output: str) -> str:
    return "AC" if output == "ac" else output


def _idle_was_read(_: Units, output: str, watts: float) -> str:
    return f"{_place(output)}: {with_unit(watts, 'W')} read directly"


def _idle_by_drop(_: Units, output: str, start: float, end: float, hours: float) -> str:
    return f"{_place(output)}: {start * 100:.3g} → {end * 100:.3g} % in {hours:g} h"


def _drained(
    _: Units, wh: float, behind_inverter: bool, start: float, end: float, hours: float
) -> str:
    where = "behind the inverter" if behind_inverter else "at the battery"
    return f"{with_unit(wh, 'Wh')} {where}, {start * 100:.3g} → {end * 100:.3g} % in {hours:g} h"


SENTENCES: Mapping[str, Sentence] = {
    "idle-was-read": _idle_was_read,
    "idle-by-drop": _idle_by_drop,
    "pairs-read": "{pairs} pairs, up to {most_w:W} AC",
    "drained": _drained,
    "routes-compared": "{load}: AC against {output} over {hours:g} h",
    "ran-together": "{mean_w:W} at the battery over {hours:g} h, with {loads:list}",
    "pair-suspect": (
        "The pair {ac_w:g} W AC, {dc_w:g} W DC does not fit the others: read it again."
    ),
    "no-pair-at-little-load": (
        "No pair at little load: the idle draw is only carried over from the rest."
    ),
}
