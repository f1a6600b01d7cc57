"""The card for the wall, as it is printed."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import timedelta
from math import floor

from django.utils import timezone
from django.utils.safestring import SafeString

from needle.document import DocumentError
from needle.plan.load import PlanLoad
from needle.watch.card import Card, bars_for
from needle.watch.not_run import not_run_notices
from web.background.questions import AnswerPending
from web.common.units import clock, day_clock, said
from web.drawing.card import card_picture
from web.jobs.models import Job
from web.plans.draft import draft_of
from web.plans.models import Plan
from web.plans.outcomes import answer_draft, current_plan
from web.plans.used import UsedLoad, names_not_counted
from web.watch.page import PAGE_WAIT_S, card_for

#: Bars that a display without percent usually has.
BARS = 5


@dataclass(frozen=True)
class CardRowText:
    """A row of the card: its time, and what runs from which charge on.

    ``minute`` is that of the day; ``all_share`` and ``shoulds_share`` are the charges for the
    page's script, "" for never.
    """

    at: str
    all_from: str
    shoulds_from: str
    bars: str
    minute: int = 0
    all_share: str = ""
    shoulds_share: str = ""


@dataclass(frozen=True)
class CardPage:
    """The card of a plan; ``words`` say why there is none."""

    plan: Plan
    card: Card | None
    rows: Sequence[CardRowText] = ()
    words: str = ""
    lives: Sequence[str] = ()
    contents: Sequence[str] = ()
    not_run: Sequence[str] = ()
    not_counted: Sequence[str] = ()
    generators: Sequence[str] = ()
    carries: str = ""
    pending: bool = False


def card_page(job: Job, wait_s: float = PAGE_WAIT_S, plan: Plan | None = None) -> CardPage:
    """The card of one of a job's plans, or of its current one."""
    plan = plan or current_plan(job)
    plan.job = job
    draft = draft_of(plan)
    answer = answer_draft(draft, wait_s)
    if answer.outcome is None:
        return CardPage(plan, None, words=answer.words, pending=answer.pending)
    try:
        card = card_for(plan, wait_s)
    except AnswerPending:
        return CardPage(plan, None, pending=True)
    except DocumentError as error:
        return CardPage(plan, None, words=error.sentence)
    loads = answer.outcome.plan.loads
    return CardPage(
        plan=plan,
        card=card,
        rows=[_row(plan, row.hour, row.all_from, row.shoulds_from) for row in card.rows],
        lives=_of_class(loads, draft.used, "life"),
        contents=_of_class(loads, draft.used, "store"),
        not_run=[said(notice) for notice in not_run_notices(card.cannot_run)],
        not_counted=names_not_counted(draft.used),
        generators=[source.name for source in answer.outcome.plan.sources if burns(source)],
        carries=_carries(card),
    )


def _of_class(loads: Iterable[PlanLoad], used: Iterable[UsedLoad], safety: str) -> list[str]:
    """Names of a plan's loads of a safety class, also of those that it does not count."""
    left_out = [one.name for one in used if one.why_not_counted and one.load.safety_class == safety]
    return [*(load.name for load in loads if load.safety_class == safety), *left_out]


def picture_of(job: Job, page: CardPage) -> SafeString:
    """The card as a picture for a phone."""
    assert page.card is not None
    card = page.card
    before = [f"{job.name}, {page.plan.name}."]
    if page.lives:
        before.append(f"Never off: {', '.join(page.lives)}. Know the second means.")
    before += page.not_run
    if page.not_counted:
        before.append(f"Not counted: {', '.join(page.not_counted)}. If on, it is over sooner.")
    after = [
        "Below the last of these only what must run stays on.",
        f"Must run: {', '.join(card.musts) or 'none'}.",
        f"Should run: {', '.join(card.shoulds) or 'none'}.",
        f"Nice to have, off first: {', '.join(card.nice) or 'none'}.",
    ]
    if page.generators:
        after.append(f"{', '.join(page.generators)}: outdoors, with an alarm indoors.")
    after.append("Estimates, not promises.")
    rows = [(row.at, row.all_from, row.bars, row.shoulds_from) for row in page.rows]
    heads = ("at", "all, from", "bars of 5", "must and should, from")
    return card_picture("What can run, by the charge", heads, rows, before, after)


def burns(source: object) -> bool:
    """Whether a source burns fuel."""
    return getattr(source, "litres_per_kwh", 0.0) > 0


def _row(plan: Plan, hour: float, all_from: float | None, shoulds: float | None) -> CardRowText:
    moment = timezone.localtime(plan.start) + timedelta(hours=hour)
    at = day_clock(moment) if hour >= 24 else clock(moment)
    lit = None if all_from is None else bars_for(all_from, BARS)
    bars = "–" if lit is None else f"{lit} of {BARS}"
    return CardRowText(
        at,
        _percent(all_from),
        _percent(shoulds),
        bars,
        minute=60 * moment.hour + moment.minute,
        all_share="" if all_from is None else f"{all_from:.4f}",
        shoulds_share="" if shoulds is None else f"{shoulds:.4f}",
    )


def _percent(share: float | None) -> str:
    return "never" if share is None else f"{share * 100:.0f} %"


def _carries(card: Card) -> str:
    """How many evenings of ten it carries, against no rule at all."""
    by_card, all_on = (floor(10 * share) for share in (card.carries, card.carries_all_on))
    got, without = (round(100 * share) for share in (card.served, card.served_all_on))
    return (
        f"By this card, what must run lasts through {by_card} in 10 such outages, and the rest "
        f"gets {got} % of its hours. "
        f"If everything runs until it stops: {all_on} in 10, and {without} %."
    )
