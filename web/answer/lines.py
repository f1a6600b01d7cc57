"""The four lines that open every answer: how long, what cannot run, what to change and measure."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from needle.decide.starting import RANK
from needle.plan.advice.suggestions import Suggestion
from needle.plan.energy.simulate import Outcome
from needle.plan.limits.starts import PlannedStart
from needle.plan.plan import AC
from needle.plan.verdict import BlockedLoad, Verdict, verdict_of
from needle.quantity import as_read, chance_text, hours_range_text, hours_text, with_unit
from web.common.units import said
from web.plans.helps import helps_of
from web.plans.measurement_tips import measurement_tips
from web.plans.outcomes import Answer

#: Loads of which it is said why they cannot run, before the rest is only named.
EXPLAINED = 2
#: From this chance on a load that cannot run is said to be one without more words.
NEARLY_ALL = 0.9


@dataclass(frozen=True)
class Line:
    """One line: its topic, sentence, link, and caution."""

    label: str
    words: str
    url: str = ""
    caveat: str = ""


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
        lasts=lasts_sentence(outcome),
        runs=runs_line(outcome, verdict),
        change=None if answer.quick else _change(outcome, verdict, answer.suggestions),
        measure=None if answer.quick else _measure(answer),
    )


def beyond(outcome: Outcome, hours: float) -> bool:
    """Whether hours are beyond the end of a plan's simulation."""
    return hours >= outcome.plan.hours - 1e-6


def lasts_sentence(outcome: Outcome) -> str:
    """How long the supply lasts: ``Lasts 10 to 16 h, most likely 11 h 40 min``."""
    low, mid, high = outcome.runtime
    if beyond(outcome, low):
        return f"Lasts {hours_text(low)} or more"
    if hours_text(low) == hours_text(high):
        return f"Lasts {hours_text(mid)}"
    likely = "" if beyond(outcome, mid) else f", most likely {hours_text(mid)}"
    return f"Lasts {span_text(outcome)}{likely}"


def span_text(outcome: Outcome) -> str:
    """The range of a plan's hours."""
    low, _, high = outcome.runtime
    if beyond(outcome, low):
        return f"{hours_text(low)} or more"
    if beyond(outcome, high):
        return f"{hours_range_text(low, high)} or more"
    return hours_range_text(low, high)


def runs_line(outcome: Outcome, verdict: Verdict) -> Line:
    """What cannot run and why; what may fail; or that everything runs."""
    blocked_loads = sorted(verdict.blocked_loads, key=lambda blocked: not blocked.wanted)
    if blocked_loads:
        said = [blocked_sentence(blocked) for blocked in blocked_loads[:EXPLAINED]]
        others = ", ".join(blocked.load for blocked in blocked_loads[EXPLAINED:])
        said += [f"Nor can {others}."] if others else []
        return Line("Cannot run", " ".join(said))
    doubt = _doubtful(outcome, verdict)
    return Line("May not run", doubt) if doubt else Line("Runs", "everything")


_GIVER = {AC: "the inverter"}


def blocked_sentence(blocked: BlockedLoad) -> str:
    """Which load is too large, by what: ``Kettle needs 2.2 kW; the inverter gives 1 kW.``"""
    giver = _GIVER.get(blocked.route, blocked.route)
    if blocked.why == "rest":
        return f"{blocked.load} has no power while the inverter rests."
    needs, limit = (
        with_unit(blocked.needs, blocked.unit, 2),
        as_read(blocked.limit, blocked.unit),
    )
    if needs == limit:
        needs = f"a little more than {needs}"
    subject, what = f"{blocked.load} needs", needs
    if blocked.why == "start":
        what = f"{needs} to start"
    if not blocked.alone:
        subject = f"{blocked.load} and what runs with it need"
    # Where some runs go well, that is said; nearly all is said as it is.
    likely = f" (fails in {chance_text(blocked.chance)})" if blocked.chance < NEARLY_ALL else ""
    return f"{subject} {what}; {giver} gives {limit}{likely}."


#: How a load may fail, with the chance of it.
_MAY = {
    "overload": "{load} and what runs with it may overload the inverter",
    "start": "{load}: its start may trip the inverter",
    "output": "{load} may ask for more than its output gives",
}


def _doubtful(outcome: Outcome, verdict: Verdict) -> str:
    """What fails in some runs, but not in most; "" if nothing."""
    failure = verdict.first_failure
    if failure is not None and failure.why in _MAY:
        return (
            f"{_MAY[failure.why].format(load=failure.load)} (chance {chance_text(failure.chance)})."
        )
    worst = max(outcome.starts, key=_doubt, default=None)
    if worst is None or worst.verdict.verdict == "holds":
        return ""
    chance = worst.verdict.chance
    likely = "" if chance is None else f" (chance that it does: {chance_text(chance)})"
    return f"{worst.load} may not start{likely}: test it."


def _doubt(start: PlannedStart) -> tuple[int, float]:
    """Sort key for how uncertain a start is: its verdict, then its chance."""
    chance = 1.0 if start.verdict.chance is None else start.verdict.chance
    return RANK[start.verdict.verdict], -chance


def _change(outcome: Outcome, verdict: Verdict, suggestions: Sequence[Suggestion]) -> Line | None:
    """The most useful change for the verdict; None if nothing needs to change."""
    wanted = [blocked for blocked in verdict.blocked_loads if blocked.wanted]
    first = suggestions[0] if suggestions else None
    if wanted and not (first is not None and first.fixes):
        return Line("Change", _larger(wanted[0]))
    if first is None:
        return None
    helped = helps_of([first])[0]
    return Line("Change", f"{helped.words}.", caveat=said(first.change.caveat))


def _larger(blocked: BlockedLoad) -> str:
    """What a load that must run, and cannot here, needs."""
    giver = "an inverter" if blocked.route == AC else f"an output other than {blocked.route}"
    if blocked.why == "volts":
        return f"{blocked.load} needs {giver} with other volts."
    if blocked.why == "rest":
        return f"Let the inverter run while {blocked.load} needs it."
    # Its middle would be too little in half of all cases.
    most = with_unit(blocked.needs_high, blocked.unit, 2)
    times = " for its start" if blocked.why == "start" else ""
    return f"{blocked.load} needs {giver} that gives at least {most}{times}; or leave it off."


def _measure(answer: Answer) -> Line | None:
    best = next(iter(measurement_tips(answer)), None)
    if best is None:
        return Line("Measure next", "Nothing: the range is as narrow as its evidence allows.")
    return Line("Measure next", best.sentence, best.url)
