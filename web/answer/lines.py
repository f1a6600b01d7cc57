"""The four lines that open every answer: how long, what cannot run, what to change and measure."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from needle.plan.advice.suggestions import Suggestion
from needle.plan.energy.simulate import Outcome
from needle.plan.verdict import Verdict, verdict_of
from needle.words.answer import cannot_run_text, doubt_text, larger_text, lasts_text
from web.common.units import said
from web.plans.helps import helps_of
from web.plans.measurement_tips import measurement_tips
from web.plans.outcomes import Answer
from web.plans.used import names_not_counted

#: Topic of the line that says what to change.
CHANGE = "Change"
#: Loads that a line names.
MOST_NAMES = 3


@dataclass(frozen=True)
class Line:
    """One line: its topic, sentence, link, and caution."""

    label: str
    words: str
    url: str = ""
    caveat: str = ""

    @property
    def sentence(self) -> str:
        """Its words, and its caution where it has one."""
        words = f"{self.words[:1].upper()}{self.words[1:]}"
        return f"{words} {self.caveat[:1].upper()}{self.caveat[1:]}." if self.caveat else words


@dataclass(frozen=True)
class Lines:
    """The four lines of an answer; ``lasts`` is the headline."""

    lasts: str
    runs: Line
    change: Line | None
    measure: Line | None

    @property
    def rest(self) -> list[Line]:
        """All but the headline, in order."""
        return [line for line in (self.runs, self.change, self.measure) if line is not None]


def lines_of(answer: Answer, outcome: Outcome) -> Lines:
    """Return the four lines of an answer with an outcome."""
    verdict = verdict_of(outcome)
    return Lines(
        lasts=lasts_text(outcome),
        runs=runs_line(outcome, verdict, names_not_counted(answer.used)),
        change=None if answer.quick else _change(outcome, verdict, answer.suggestions),
        measure=None if answer.quick else _measure(answer),
    )


def runs_line(outcome: Outcome, verdict: Verdict, left_out: Sequence[str] = ()) -> Line:
    """What cannot run and why; what may fail; or that everything runs; and what is not counted."""
    more = f" Not counted: {_names(left_out)}." if left_out else ""
    if blocked := cannot_run_text(verdict):
        return Line("Cannot run", f"{blocked}{more}")
    if doubt := doubt_text(outcome, verdict):
        return Line("May not run", f"{doubt}{more}")
    return Line("Runs", f"everything that is counted.{more}" if more else "everything")


def _names(names: Sequence[str]) -> str:
    """The first names of a list, and how many more there are."""
    others = len(names) - MOST_NAMES
    words = ", ".join(names[:MOST_NAMES])
    return f"{words} and {others} more" if others > 0 else words


def _change(outcome: Outcome, verdict: Verdict, suggestions: Sequence[Suggestion]) -> Line | None:
    """The most useful change for the verdict; None if nothing needs to change."""
    wanted = [blocked for blocked in verdict.blocked_loads if blocked.wanted]
    first = suggestions[0] if suggestions else None
    if wanted and not (first is not None and first.fixes):
        return Line(CHANGE, larger_text(wanted[0]))
    if first is None:
        return None
    helped = helps_of([first])[0]
    return Line(CHANGE, f"{helped.words}.", caveat=said(first.change.caveat))


def _measure(answer: Answer) -> Line | None:
    best = next(iter(measurement_tips(answer)), None)
    if best is None:
        return Line("Measure next", "Nothing: the range is as narrow as its evidence allows.")
    return Line("Measure next", best.sentence, best.url)
