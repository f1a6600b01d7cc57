"""Sizes for a plan, which need many simulations, cached."""

from __future__ import annotations

from needle.plan.answering import Sizes, size_up
from web.background.asking import worked_out
from web.background.questions import Urgency
from web.plans.draft import document
from web.plans.outcomes import PAGE_WAIT_S, Answer, key_of


def sizes_of(answer: Answer, wait_s: float = PAGE_WAIT_S) -> Sizes | None:
    """Sizes for an answered plan; None without an answer.

    Raises
    ------
    AnswerPending
        It takes longer than ``wait_s``.
    """
    if answer.outcome is None:
        return None
    labels, wanted = _labels_w(answer), answer.plan.odds
    key = f"sizes:{wanted}:{labels}:{key_of(document(answer.draft))}"
    owner = ("sizes", answer.plan.job.owner_id)
    return worked_out(
        key, owner, wait_s, size_up, answer.outcome, wanted, labels, urgency=Urgency.LATER
    )


def _labels_w(answer: Answer) -> float | None:
    labels = [
        max(
            (
                reading.data.get("watts") or 0.0
                for reading in used.load.known_readings()
                if reading.type == "label"
            ),
            default=0.0,
        )
        * used.entry.count
        for used in answer.used
        if used.counted
    ]
    return sum(labels) if labels and all(labels) else None
