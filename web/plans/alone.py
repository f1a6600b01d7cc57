"""How long each load runs alone on a supply."""

from __future__ import annotations

from dataclasses import dataclass, replace

from needle.plan.advice.alone import Alone
from needle.plan.answering import each_alone
from needle.plan.documents.measured import steps_of
from needle.quantity import hours_text
from web.background.asking import worked_out
from web.background.questions import Urgency
from web.loads.models import Load
from web.plans.draft import Draft, document
from web.plans.models import PlanEntry
from web.plans.outcomes import PAGE_WAIT_S, key_of
from web.plans.used import UsedLoad

#: Why a load does not run by itself, in words.
WHY_NOT = {
    "start": "its start trips it",
    "overload": "more than the inverter carries",
    "output": "more than the output gives",
    "volts": "wants other volts than it is given",
    "no-ac": "runs on AC, and there is no inverter",
}


@dataclass(frozen=True)
class AloneRow:
    """A load on a route, in words.

    Attributes
    ----------
    load : Load
    route : str
    lasts, span : str
        Hours or tasks: likely, and low to high; or why it cannot run.
    runs : bool
    wh_per_day : (low, likely, high)
    better : bool
        Whether it runs longer than on the previous route.
    """

    load: Load
    route: str
    lasts: str
    span: str
    runs: bool
    wh_per_day: tuple[float, float, float]
    better: bool = False


def alone_rows(draft: Draft, wait_s: float = PAGE_WAIT_S) -> list[AloneRow]:
    """Return all loads of the job with evidence, on the draft's supply.

    Raises
    ------
    AnswerPending
        It takes longer than ``wait_s``.
    DocumentError
    """
    everything = _with_all_taken_in(draft)
    if not any(used.counted for used in everything.used):
        return []
    doc = document(everything)
    key = f"alone:{key_of(doc)}"
    answers = worked_out(
        key, ("alone", draft.plan.job.owner_id), wait_s, each_alone, doc, urgency=Urgency.LATER
    )
    known = {used.name: used for used in everything.used}
    rows: list[AloneRow] = []
    likely_before: dict[str, float] = {}
    for answer in answers:
        reached = answer.hours or answer.tasks
        likely = reached[1] if reached else 0.0
        better = answer.load in likely_before and likely > likely_before[answer.load]
        likely_before.setdefault(answer.load, likely)
        rows.append(_row(answer, known[answer.load], better))
    return rows


def _with_all_taken_in(draft: Draft) -> Draft:
    """The draft with every load included; task times do not matter here."""
    entries = {}
    for used in draft.used:
        entry = used.entry
        if not entry.taken_in:
            entry = PlanEntry(plan=draft.plan, load=used.load)
        if not used.use_known and used.profile is not None and steps_of(used.profile):
            entry = PlanEntry(plan=draft.plan, load=used.load, moments=["12:00"], route=entry.route)
        entries[used.load.pk] = entry
    return replace(draft, entries=entries, sources=[])


def _row(answer: Alone, used: UsedLoad, better: bool) -> AloneRow:
    load = used.load
    route = "AC" if answer.route == "ac" else answer.route
    if answer.why_not:
        words = WHY_NOT.get(answer.why_not, answer.why_not)
        return AloneRow(load, route, words, "", False, answer.wh_per_day)
    if answer.tasks is not None:
        low, likely, high = answer.tasks
        word = "task" if used.entry.charge is None else "charge"
        least, lasts = f"{low}", f"{likely} {word}{'' if likely == 1 else 's'}"
        span = f"{low} to {high}" if low != high else ""
    else:
        assert answer.hours is not None
        least, lasts, most = map(hours_text, answer.hours)
        span = f"{least} to {most}"
    if answer.capped:
        # The likely outlasts two weeks; the low end of its range may not.
        lasts, span = f"more than {lasts}", f"{least} or more"
    return AloneRow(load, route, lasts, span, True, answer.wh_per_day, better)
