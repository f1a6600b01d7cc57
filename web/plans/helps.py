"""Suggestions for a plan, in words: hours gained, and the change of the chance."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from needle.plan.advice.suggestions import LEAST_CHANCE, LEAST_H, Change, Suggestion
from needle.quantity import chance_text, hours_range_text, hours_text
from web.common.units import said


@dataclass(frozen=True)
class Help:
    """A suggestion and its gains, empty if there are none; ``change`` is what "Do it" stores.

    ``longer`` is the likely gain with its ``span``; ``runs`` the loads that can run with it;
    ``chance`` what it does to the chance.
    """

    change: Change
    longer: str
    at_least: bool
    span: str
    chance: str
    runs: str = ""

    @property
    def won(self) -> str:
        """The hours as shown in a list: ``+2 h``."""
        return f"{'at least ' if self.at_least else ''}+{self.longer}" if self.longer else ""

    @property
    def words(self) -> str:
        """In one line: ``Leave off Lamp: lasts 47 min longer``."""
        gains = [self.runs] if self.runs else []
        if self.longer:
            span = "" if gains or self.chance or self.at_least else f" ({self.span})"
            gains.append(f"lasts {'at least ' if self.at_least else ''}{self.longer} longer{span}")
        gains += [self.chance] if self.chance else []
        what = said(self.change.what)
        return f"{what[:1].upper()}{what[1:]}: {', '.join(gains)}"


def helps_of(suggestions: Sequence[Suggestion]) -> list[Help]:
    return [_help(suggestion) for suggestion in suggestions]


def _help(suggestion: Suggestion) -> Help:
    longer = span = chance = runs = ""
    if suggestion.value > LEAST_H:
        longer = hours_text(suggestion.value)
        span = hours_range_text(max(0.0, suggestion.low), suggestion.high)
    before, after = map(chance_text, (suggestion.chance_before, suggestion.chance_after))
    if suggestion.chance_gained >= LEAST_CHANCE and after != before:
        chance = f"raises the chance from {before} to {after}"
    if suggestion.fixes:
        what = "everything else" if suggestion.change.kind == "leave_off" else "everything"
        runs = f"{what} then runs" if suggestion.all_run else "fewer loads are too large then"
    return Help(suggestion.change, longer, suggestion.at_least, span, chance, runs)
