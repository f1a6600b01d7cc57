"""What would help a plan, in words: hours won, and the odds of holding where they move."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from needle.plan.suggestions import LEAST_H, LEAST_ODDS, Change, Suggestion
from needle.quantity import chance_text, hours_range_text, hours_text


@dataclass(frozen=True)
class Help:
    """A change, the hours it likely wins with their span, and its odds; empty where it moves none.

    ``change`` is what "Do it" stores; ``mends``: a load that could not run is out of the way.
    """

    change: Change
    won: str
    span: str
    odds: str
    mends: bool = False

    @property
    def words(self) -> str:
        """In one line: ``Leave off Lamp: lasts 47 min longer``."""
        gains = []
        if self.mends:
            gains.append("everything else then runs")
        if self.won:
            at_least = "at least " if self.won.startswith("at least") else ""
            span = "" if self.odds or self.mends or at_least else f" ({self.span})"
            gains.append(f"lasts {at_least}{self.won.removeprefix(at_least)[1:]} longer{span}")
        gains += [self.odds] if self.odds else []
        return f"{self.change.what[:1].upper()}{self.change.what[1:]}: {', '.join(gains)}"


def helps_of(suggestions: Sequence[Suggestion]) -> list[Help]:
    return [_help(suggestion) for suggestion in suggestions]


def _help(suggestion: Suggestion) -> Help:
    won = span = odds = ""
    if suggestion.value > LEAST_H:
        more = "at least +" if suggestion.at_least else "+"
        won = f"{more}{hours_text(suggestion.value)}"
        span = hours_range_text(max(0.0, suggestion.low), suggestion.high)
    before, after = map(chance_text, (suggestion.odds_before, suggestion.odds_after))
    if suggestion.odds_won >= LEAST_ODDS and after != before:
        odds = f"raises the chance from {before} to {after}"
    return Help(suggestion.change, won, span, odds, suggestion.mends)
