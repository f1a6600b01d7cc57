"""Scoring of a drill's answer: a proper score for ranges, time used, and mistakes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from needle.document import DocumentError, Reader
from needle.drill.answer import DrillAnswer, answered, drawn_hours, the_clients
from needle.drill.drill import Drill
from needle.drill.session import Mistake, Session
from needle.drill.truth import truth_of
from needle.fields import Fields, Flag, Number
from needle.message import AsText, message

#: A range is to hold the truth eight times in ten.
_ALPHA = 0.2
#: A floor that differs by less is the same.
_FLOOR_OFF = 0.005
SCORE_WORDS = (
    "Score: the width of the range plus ten times what it misses the true value by, divided by the "
    "true value. Less is better; too wide and too narrow both cost."
)


@dataclass(frozen=True)
class Verdict:
    """The result of a drill.

    Attributes
    ----------
    truth : float
        The true value, in the unit of the question.
    answer : DrillAnswer
    held, right : bool
        Whether the range contained the truth, and whether yes or no was right.
    score : float
        See :func:`interval_score`; lower is better.
    tool : DrillAnswer
        The program's answer from the same readings.
    tool_score : float
    minutes : float
        Simulated time used, min.
    mistakes : list of Mistake
    """

    truth: float
    answer: DrillAnswer
    held: bool
    right: bool
    score: float
    tool: DrillAnswer
    tool_score: float
    minutes: float
    mistakes: list[Mistake]


def interval_score(low: float, high: float, truth: float) -> float:
    """The interval score of a central 80 % range, relative to the truth.

    S = (u − l) + (2/α) (l − x)⁺ + (2/α) (x − u)⁺, α = 0.2; proper: it is lowest, on average, for
    the range that one really believes (R. L. Winkler, J. Am. Stat. Assoc. 67, 187, 1972; T.
    Gneiting and A. E. Raftery, J. Am. Stat. Assoc. 102, 359, 2007, eq. 43).
    """
    missed = max(0.0, low - truth) + max(0.0, truth - high)
    return (high - low + 2 / _ALPHA * missed) / max(1e-9, abs(truth))


def judged(session: Session, answer: DrillAnswer) -> Verdict:
    """Compare an answer with the truth."""
    drill = session.drill
    truth, tool = truth_of(drill), answered(session)
    mistakes = list(session.mistakes)
    for load in drill.loads:
        if len(session.readings[load.name]) == 1:
            said = message("not-measured", load=load.name, label_factor=load.label_factor)
            mistakes.append(Mistake(-1, said))
    mistakes += _of_the_plan(session)
    drained = any(test["type"] == "capacity" for test in session.tests)
    if drill.supply is not None and drill.can_drain and not drained:
        mistakes.append(Mistake(-1, message("not-drained", holds=drill.supply.holds)))
    return Verdict(
        truth=truth,
        answer=answer,
        held=answer.low <= truth <= answer.high,
        right=answer.yes == (truth > drill.limit),
        score=interval_score(answer.low, answer.high, truth),
        tool=tool,
        tool_score=interval_score(tool.low, tool.high, truth),
        minutes=session.minutes,
        mistakes=mistakes,
    )


def _of_the_plan(session: Session) -> list[Mistake]:
    """Differences between the learner's plan and the client's question."""
    drawn = session.plan
    if drawn is None:
        return []
    wanted = the_clients(session.drill)
    mistakes = []
    for load in session.drill.loads:
        if drawn.uses[load.name] != load.between:
            code = "load-left-out" if drawn.uses[load.name] is None else "at-other-hours"
            mistakes.append(Mistake(-1, message(code, load=load.name, between=load.between)))
    if abs(drawn.floor - wanted.floor) > _FLOOR_OFF:
        said = message("other-floor", floor=drawn.floor, wanted=wanted.floor)
        mistakes.append(Mistake(-1, said))
    return mistakes


ANSWER_FIELDS: Fields = {
    "low": Number("low end of the range", least=-1e9, most=1e9, needed=True),
    "high": Number("high end", least=-1e9, most=1e9, needed=True),
    "yes": Flag("answer to the client's question"),
}


def parse_answer(data: Any) -> DrillAnswer:
    """Parse an answer: ``low``, ``high``, ``yes``.

    Raises
    ------
    DocumentError
    """
    reader = Reader(data, "answer", ANSWER_FIELDS)
    low, high = reader.number("low"), reader.number("high")
    if low > high:
        raise DocumentError("answer.high", f"{high:g} lies under the low {low:g}")
    return DrillAnswer(low, high, reader.flag("yes"))


def as_document(verdict: Verdict, drill: Drill) -> dict[str, Any]:
    """Return the result as ``needle drill`` prints it."""
    return {
        "unit": drill.unit,
        "truth": verdict.truth,
        "held": verdict.held,
        "right": verdict.right,
        "score": verdict.score,
        "answer": _told(verdict.answer),
        "tool": _told(verdict.tool),
        "tool_score": verdict.tool_score,
        "minutes": verdict.minutes,
        "mistakes": [
            {"doing": mistake.doing, "why": AsText(mistake.said)} for mistake in verdict.mistakes
        ],
    }


def _told(answer: DrillAnswer) -> dict[str, Any]:
    return {"low": answer.low, "high": answer.high, "yes": answer.yes}


def readings_document(session: Session) -> dict[str, Any]:
    """Readings so far, by load, and the time left."""
    readings: dict[str, Sequence[dict[str, Any]]] = dict(session.readings)
    hours = drawn_hours(session)
    plan = None if hours is None else dict(zip(("low", "value", "high"), hours, strict=True))
    return {
        "minutes": session.minutes,
        "left_min": session.left_min,
        "readings": readings,
        "plan_h": plan,
    }
