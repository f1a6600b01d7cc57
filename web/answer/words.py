"""The answer bar's sentences and dial, from an answer."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from django.urls import reverse
from django.utils import timezone
from django.utils.safestring import SafeString

from needle.decide.starting import RANK
from needle.moments import moment_after, when_text
from needle.plan.plan import Plan as CorePlan
from needle.plan.simulate import Outcome
from needle.plan.starts import PlannedStart
from needle.plan.verdict import Trouble, Verdict, verdict_of
from needle.quantity import chance_text, hours_text
from web.drawing.dial import dial, empty_dial
from web.jobs.actions import just_added
from web.jobs.models import Job
from web.loads.models import Load
from web.plans.helps import helps_of
from web.plans.models import Plan, PlanEntry
from web.plans.outcomes import Answer, answer_draft
from web.plans.steadies import steadies

#: What is said of the loads of a safety class beside an answer.
_CAUTIONS = {
    "life": "never rely on an estimate alone; keep a second means at hand.",
    "store": "keep the range that the maker or authority states.",
}
#: Where the way out of each trouble lies: address and words of the button.
_WAYS = {
    "loads": ("loads:survey", "Add a load"),
    "evidence": ("loads:survey", "Open the survey"),
    "supply": ("supplies:list", "Add a supply"),
    "output": ("supplies:list", "Open the supplies"),
    "refused": ("plans:current", "Open the plan"),
}


@dataclass(frozen=True)
class Bar:
    """What the answer bar shows.

    ``covers`` is "yes", "no", "unsure" or "" for its word and shape; the rest are sentences, the
    dial's markup, where a button leads, and where a pending answer is fetched. ``joined`` tells
    what the load that was just added makes of the plan's hours, ``caveat`` stands
    beside what helps, ``caution`` wherever a life or contents hang on a load of the plan.
    """

    dial: SafeString
    headline: str
    detail: str
    covers: str
    steadies: str
    steadies_url: str
    suggestions: str
    plan_words: str
    plan_url: str
    way_url: str = ""
    way_words: str = ""
    fetch_url: str = ""
    note: str = ""
    joined: str = ""
    caveat: str = ""
    caution: str = ""


def bar_of(answer: Answer, job: Job) -> Bar:
    """Put an answer into words."""
    plan_url = reverse("plans:plan", args=[job.pk, answer.plan.pk or 0])
    if answer.pending:
        return _pending(answer, job, plan_url)
    if answer.outcome is None or answer.supply is None:
        name, words = _WAYS[answer.trouble]
        return Bar(
            dial=empty_dial("No answer yet"),
            headline="No answer yet",
            detail=answer.words,
            covers="",
            steadies="",
            steadies_url="",
            suggestions="",
            plan_words=_plan_words(answer.plan),
            plan_url=plan_url,
            way_url=reverse(name, args=[job.pk]),
            way_words=words,
        )
    outcome = answer.outcome
    low, mid, high = outcome.runtime
    needed = outcome.plan.needed_hours
    steadies, steadies_url = _steadies(answer)
    verdict = verdict_of(outcome)
    return Bar(
        dial=dial((low, mid, high), needed, _tick, "Hours covered", _said(outcome)),
        headline=_headline(answer.supply.name, outcome, verdict),
        detail=f"{_range(outcome, verdict)} {trouble_sentence(outcome, verdict)}".strip(),
        covers=covers(verdict),
        steadies=steadies,
        steadies_url=steadies_url,
        suggestions=_suggestions(answer),
        plan_words=_plan_words(answer.plan),
        plan_url=plan_url,
        note=f"{len(outcome.runtime_h)} runs while it moves" if answer.quick else "",
        joined=_joined(answer, job),
        caveat=answer.suggestions[0].change.caveat if answer.suggestions else "",
        caution=caution_of(outcome.plan),
    )


def _joined(answer: Answer, job: Job) -> str:
    """What a load that was just added makes of the plan's hours; "" for none, or the only one."""
    added = just_added(job, Load)
    new = [used for used in answer.used if used.load.pk in added and used.counted]
    if not new or answer.outcome is None or answer.quick:
        return ""
    draft = answer.draft
    for used in new:
        draft = draft.with_entry(PlanEntry(plan=answer.plan, load=used.load, taken_in=False))
    before = answer_draft(draft).outcome
    if before is None:
        return ""
    names = ", ".join(used.name for used in new)
    after, without = _span(answer.outcome), _span(before)
    return f"{names} joined this plan: with it {after}, without it {without}."


def _pending(answer: Answer, job: Job, plan_url: str) -> Bar:
    """A bar that fetches its answer once the page stands."""
    return Bar(
        dial=empty_dial("Working it out"),
        headline="Working it out…",
        detail="It takes a moment; this fills in by itself.",
        covers="",
        steadies="",
        steadies_url="",
        suggestions="",
        plan_words=_plan_words(answer.plan),
        plan_url=plan_url,
        fetch_url=reverse("answer:bar", args=[job.pk]),
    )


def caution_of(plan: CorePlan) -> str:
    """What must be said beside any advice on a plan that a life, or contents, hang on."""
    cautions = []
    for safety_class, rest in _CAUTIONS.items():
        names = [load.name for load in plan.loads if load.safety_class == safety_class]
        if names:
            cautions.append(f"{', '.join(names)}: {rest}")
    return " ".join(cautions)


#: The states of a verdict for the mark beside it.
_COVERS = {"covers": "yes", "likely": "unsure", "does not": "no"}


def covers(verdict: Verdict) -> str:
    """Whether the plan holds: "yes" at the odds wanted, "unsure" from even odds on, else "no"."""
    return _COVERS[verdict.state]


def _tick(hours: float) -> str:
    return f"{hours:.3g}"


def _beyond(outcome: Outcome, hours: float) -> bool:
    return hours >= outcome.plan.hours - 1e-6


def _said(outcome: Outcome) -> str:
    low, mid, high = outcome.runtime
    return f"likely {hours_text(mid)}, between {hours_text(low)} and {hours_text(high)}"


def _headline(supply: str, outcome: Outcome, verdict: Verdict) -> str:
    _, mid, _ = verdict.lasts_h
    needed = hours_text(outcome.plan.needed_hours)
    if verdict.state == "covers":
        # How far beyond is looked no further than, the line below says.
        likely = "" if _beyond(outcome, mid) else f": {hours_text(mid)} likely"
        return f"{supply} covers the {needed} needed{likely}"
    if verdict.state == "likely":
        wanted = odds_wanted(verdict.wanted)
        if verdict.of_battery and not _beyond(outcome, mid):
            return f"{supply} likely covers {hours_text(mid)}, the {needed} not at {wanted}"
        return f"{supply} likely covers the {needed}, but not at {wanted}"
    if verdict.trouble is not None and not verdict.of_battery:
        return f"{supply} does not carry {verdict.trouble.load}"
    if hours_text(mid) == needed:
        return f"{supply} stops just short of the {needed} needed"
    return f"{supply} covers {hours_text(mid)} of the {needed} needed"


def odds_wanted(wanted: float) -> str:
    """Odds as they are asked for."""
    tenths = 10 * wanted
    return f"{tenths:.0f} in 10" if abs(tenths - round(tenths)) < 1e-6 else f"{100 * wanted:.0f} %"


def _range(outcome: Outcome, verdict: Verdict) -> str:
    """How long it lasts, and the chance to reach the hours needed."""
    low = outcome.runtime[0]
    chance = chance_text(outcome.chance)
    if verdict.state == "likely" and chance == odds_wanted(outcome.plan.odds):
        chance = f"just under {chance}"  # rounded it would look like what is wanted
    needed = hours_text(outcome.plan.needed_hours)
    reaches = f"Chance of reaching {needed}: {chance}."
    if _beyond(outcome, low):
        return f"Does not run empty within {hours_text(low)}. {reaches}"
    return f"Lasts {_span(outcome)}. {reaches}"


def _span(outcome: Outcome) -> str:
    """The range of a plan's hours."""
    low, _, high = outcome.runtime
    if _beyond(outcome, low):
        return f"{hours_text(low)} or more"
    upper = f"{hours_text(high)} or more" if _beyond(outcome, high) else hours_text(high)
    return f"{hours_text(low)} to {upper}"


#: What fails first, as a sentence goes on after "in 3 of 10".
_TROUBLES = {
    "empty": "the battery is empty",
    "cutoff": "the battery's volts fall under its cut-off",
    "overload": "{load} and what runs with it overload it",
    "start": "the start of {load} trips it",
    "output": "{load} asks for more than its output gives",
    "volts": "{load} wants other volts than it is given",
    "rest": "{load} has no power: the inverter rests then",
}


def trouble_sentence(outcome: Outcome, verdict: Verdict) -> str:
    """What fails first, when, and in how many of ten; or that every load starts."""
    trouble = verdict.trouble
    if trouble is None:
        return _dropped(outcome) or starts_sentence(outcome)
    words = _TROUBLES[trouble.why].format(load=trouble.load)
    when = when_text(moment_of(outcome, trouble), outcome.plan.start)
    first = f"Fails first, in {chance_text(trouble.chance)}: {words}, about {when}."
    return f"{first} {_dropped(outcome)}".strip()


def moment_of(outcome: Outcome, trouble: Trouble) -> datetime:
    """When a trouble comes, as every page says it.

    Where the supply stops, that is the likely end; else the middle of when it comes first.
    """
    stops = trouble.why in ("empty", "cutoff") and not outcome.capped
    hours = outcome.runtime[1] if stops else trouble.minute / 60
    return moment_after(outcome.plan.start, hours, 10)


def _dropped(outcome: Outcome) -> str:
    """Loads that are only nice to have and are dropped in most runs."""
    nice = {load.name for load in outcome.plan.loads if load.may_be_dropped}
    dropped = [trip.load for trip in outcome.trips if trip.load in nice and trip.chance > 0.5]
    if not dropped:
        return ""
    names = ", ".join(dict.fromkeys(dropped))
    return f"Dropped, as only nice to have: {names}."


def _doubt(start: PlannedStart) -> tuple[int, float]:
    """How much a start is in doubt: its word first, then its odds."""
    chance = 1.0 if start.verdict.chance is None else start.verdict.chance
    return RANK[start.verdict.verdict], -chance


def starts_sentence(outcome: Outcome) -> str:
    """Whether everything starts, in one sentence."""
    worst = max(outcome.starts, key=_doubt, default=None)
    if worst is None or worst.verdict.verdict == "holds":
        return "Every load starts." if outcome.starts else ""
    names = ", ".join(
        start.load for start in outcome.starts if start.verdict.verdict == worst.verdict.verdict
    )
    if worst.verdict.verdict == "trips":
        return f"{names} would trip it at the worst moment."
    odds = ""
    if worst.verdict.chance is not None:
        odds = f" (chance that it does: {chance_text(worst.verdict.chance)})"
    return f"{worst.load} may not start{odds}: test it."


def _steadies(answer: Answer) -> tuple[str, str]:
    """What would narrow the range most, how, and by how much."""
    if answer.quick:
        return "", ""
    best = next(iter(steadies(answer)), None)
    if best is None:
        return "nothing much: the range is as narrow as its evidence allows", ""
    return best.sentence, best.url


def _suggestions(answer: Answer) -> str:
    if not answer.suggestions:
        return ""
    return helps_of(answer.suggestions[:1])[0].words


def _plan_words(plan: Plan) -> str:
    start = timezone.localtime(plan.start)
    room = f", {plan.room_c:.3g} °C indoors" if plan.room_c is not None else ""
    return f"{plan.name}, from {start:%a %H:%M}{room}"
