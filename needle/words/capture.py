"""Sentences on captures: what reading and analysing a file found."""

from __future__ import annotations

from collections.abc import Mapping

from needle.words.figures import Sentence, Units


def _cells_not_numbers(_: Units, cells: int, column: str, example: str = "") -> str:
    such = f" (such as “{example}”)" if example else ""
    return f"{cells} cells of {column} are not numbers{such}: left out."


def _cycles_interrupted(_: Units, cycles: int) -> str:
    noun, verb = ("cycle", "does") if cycles == 1 else ("cycles", "do")
    return f"{cycles} {noun} with a gap or a rarer state in between {verb} not count for the duty."


SENTENCES: Mapping[str, Sentence] = {
    "refused": "{why}",
    "rows-without-time": "{rows} rows have no readable time: left out.",
    "times-in-milliseconds": "Times are milliseconds since 1970.",
    "times-as-utc": "Times carry no offset: taken as UTC.",
    "clock-went-back": "The clock went back by an hour during the capture: corrected.",
    "rows-too-wide": "{rows} rows have more cells than the header's {columns}: left out.",
    "intervals-not-energy": "{intervals} intervals are no energy: left out.",
    "intervals-fed-in": "{intervals} intervals are of energy that the house gave away: left out.",
    "intervals-counter": "{intervals} intervals are a counter's readings: left out.",
    "intervals-twice": "{intervals} intervals overlap others: left out.",
    "columns-left-aside": "Left aside: {columns}.",
    "cells-not-numbers": _cells_not_numbers,
    "cells-beyond-meters": "{cells} cells of {column} are beyond any meter: left out.",
    "rows-sorted": "Rows were out of order: sorted by time.",
    "rows-repeated": "{rows} rows were repeated: dropped.",
    "rows-spread-out": "{rows} rows share a moment with another: spread out.",
    "watts-logged": "watts as logged",
    "va-times-pf": "{va} times PF",
    "watts-from-counter": "watts from the counter's steps",
    "va-for-watts": "{va}: volt-amperes, an upper bound of watts",
    "va-logged": "VA as logged",
    "volts-times-amps": "V times A",
    "amps-times-volts": "A times {volts:g} V",
    "va-unknown": "not known",
    "power-is": "Power is {how}.",
    "gaps": "{gaps} gaps of {seconds:.0f} s together are not counted.",
    "cycles-interrupted": _cycles_interrupted,
}
