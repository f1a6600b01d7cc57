"""What would help a plan, in words: hours won, and the odds of holding where they move."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from needle.plan.suggestions import LEAST_H, LEAST_ODDS, Change, Suggestion
from needle.quantity import chance_text, hours_text


@dataclass(frozen=True)
class Help:
    """A change, the hours it likely wins with their span, and its odds; empty where it moves none.

    ``change`` is what "Do it" stores.
    """

    change: Change
    won: str
    span: str
    odds: str

    @property
    def words(self) -> str:
        """In one line."""
        won = self.won
        if self.won and not self.odds:
            won = f"{self.won} ({self.span})"
        return f"{self.change.what}, {'; '.join(part for part in (won, self.odds) if part)}"


def helps_of(suggestions: Sequence[Suggestion]) -> list[Help]:
    return [_help(suggestion) for suggestion in suggestions]


def _help(suggestion: Suggestion) -> Help:
    won = span = odds = ""
    if suggestion.value > LEAST_H:
        more = "at least +" if suggestion.at_least else "+"
        won = f"{more}{hours_text(suggestion.value)}"
        span = f"{hours_text(max(0.0, suggestion.low))} to {hours_text(suggestion.high)}"
    before, after = map(chance_text, (suggestion.odds_before, suggestion.odds_after))
    if suggestion.odds_won >= LEAST_ODDS and after != before:
        odds = f"raises the chance from {before} to {after}"
    return Help(suggestion.change, won, span, odds)
