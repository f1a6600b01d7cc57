"""Contents of the sheet: every figure with its range and grade, as text."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db.models import QuerySet
from django.utils import timezone

from needle.estimate import Estimate
from needle.moments import moment_after
from needle.plan.draws.lanes import load_lanes, source_lanes
from needle.plan.energy.simulate import Outcome
from needle.plan.verdict import UNFIT
from needle.quantity import chance_text, hours_text, with_unit
from needle.usage.schedule import text_of_use
from needle.words.answer import wanted_chance_text
from needle.words.plan import start_text
from web.answer.lines import CHANGE, Line
from web.answer.words import bar_of_plan
from web.common.templatetags.words import span_alike
from web.common.units import clock, clocks, moment, said, temperature
from web.jobs.models import Job
from web.loads.models import Load, Photo
from web.loads.words import row_of
from web.plans.again import measure_again
from web.plans.helps import helps_of
from web.plans.measurement_tips import measurement_tips
from web.plans.outcomes import LONG_WAIT_S, Answer, answer_of, energies_until
from web.plans.page import trip_chance_text
from web.plans.rests import Rests, rests_of
from web.plans.used import UsedLoad
from web.sheets.entered_by import entered_by
from web.supplies.models import Supply
from web.trials.models import Trial
from web.trials.page import view_of
from web.watch.card_page import CardPage, card_page

GENERAL_CAUTIONS = (
    "An estimate, never a promise. Local codes and licensed practice come first.",
    "Live panels, hard-wired loads and transfer equipment are for licensed electricians; never "
    "feed a building through an outlet.",
    "Generators run outdoors, far from openings, with a carbon-monoxide alarm indoors.",
    "Fuse batteries at the battery, use wire of the right size, ventilate; do not charge lithium "
    "below freezing.",
)


@dataclass(frozen=True)
class Table:
    """A table: title, headers, rows of text, and columns with figures."""

    title: str
    heads: list[str]
    rows: list[list[str]]
    figures: tuple[int, ...] = ()


@dataclass(frozen=True)
class SheetPhoto:
    """A photo of the annex, and its reading."""

    photo: Photo
    load: Load
    words: str


@dataclass(frozen=True)
class Sheet:
    """The whole sheet; pairs and sentences in printing order.

    ``lines`` say what cannot run, what to change and what to measure; ``first`` is what to do
    first, ``life`` the caution for what keeps somebody alive; both "" if there is none.
    """

    title: str
    made: str
    facts: list[tuple[str, str]]
    headline: str
    detail: str
    lines: Sequence[Line]
    tables: list[Table]
    unproven: list[str]
    cautions: list[str]
    outcome: Outcome | None
    answer: Answer
    photos: list[SheetPhoto]
    has_photos: bool
    has_card: bool = False
    rests: Rests | None = None
    first: str = ""
    life: str = ""


#: Days of a schedule that are printed.
MOST_DAYS = 14
#: Most photos in an annex.
MOST_PHOTOS = 40


def sheet_of(
    job: Job, plan: Any, who: str, wait_s: float, annex: bool = False, with_card: bool = False
) -> Sheet:
    """Return the sheet of a plan, waiting up to ``wait_s`` for its answer.

    ``annex``: with the photos beside the readings of its loads; ``with_card``: with the wall card,
    which is waited for.
    """
    answer = answer_of(plan, wait_s)
    bar = bar_of_plan(answer, job)
    counted = [used_load for used_load in answer.used if used_load.counted]
    tables = [_loads(answer, counted)]
    if answer.supply is not None:
        tables.append(_supply(answer, answer.supply))
    if answer.outcome is not None:
        tables += _day(answer, answer.outcome)
    if trials := _trials(job):
        tables.append(trials)
    if with_card and answer.outcome is not None:
        tables += _card(card_page(job, LONG_WAIT_S, plan))
    cautions = dict.fromkeys(filter(None, (used_load.load.caution for used_load in counted)))
    photos = Photo.objects.live().filter(
        reading__removed_at=None, reading__load__in=[used_load.load for used_load in counted]
    )
    return Sheet(
        title=f"{job.name}: {plan.name}",
        made=f"{_date(timezone.localtime())}, {clock(timezone.localtime())}, by {who}",
        facts=_facts(job, answer),
        headline=bar.headline,
        detail=bar.detail,
        lines=[line for line in bar.lines if line.label != CHANGE],
        tables=tables,
        unproven=[
            *_unproven(answer, counted),
            *(f"{words}: measure it again" for words in measure_again(answer)),
        ],
        cautions=[*cautions, *GENERAL_CAUTIONS],
        outcome=answer.outcome,
        answer=answer,
        photos=_annex(photos) if annex else [],
        has_photos=photos.exists(),
        has_card=with_card,
        rests=None if answer.outcome is None else rests_of(answer.draft),
        first=next((line.sentence for line in bar.lines if line.label == CHANGE), ""),
        life=" ".join(filter(None, (bar.caution, bar.contents))),
    )


def _card(page: CardPage) -> list[Table]:
    """The wall card: what can run by the charge, and what goes off first."""
    if page.card is None:
        return []
    heads = ["look at", "everything, from", "bars of 5", "must and should, from", "below that"]
    rows = [
        [row.at, row.all_from, row.bars, row.shoulds_from, "only what must run"]
        for row in page.rows
    ]
    order = [
        ["Must run", ", ".join(page.card.musts) or "none"],
        ["Should run", ", ".join(page.card.shoulds) or "none"],
        ["Nice to have, off first", ", ".join(page.card.nice) or "none"],
        *(["Does not run on this supply", words] for words in page.not_run),
    ]
    if page.not_counted:
        order.append(["Not counted: if on, it is over sooner", ", ".join(page.not_counted)])
    return [
        Table("Wall card: what can run, by the charge it shows", heads, rows, (1, 2, 3)),
        Table("Wall card: in which order", ["what", "loads"], order),
    ]


def _annex(photos: QuerySet[Photo]) -> list[SheetPhoto]:
    known = photos.select_related("reading__load").order_by("reading__load__name", "pk")
    return [
        SheetPhoto(
            photo,
            photo.reading.load,
            f"{photo.reading.load.name}: {row_of(photo.reading).says}",
        )
        for photo in known[:MOST_PHOTOS]
    ]


def _date(moment: datetime) -> str:
    """A day in words: ``1 Dec 2026``."""
    return f"{moment.day} {moment:%b %Y}"


def _schedule(answer: Answer, outcome: Outcome) -> Table:
    """What runs when, one row per day; permanent loads first."""
    plan = outcome.plan
    by_day: dict[str, list[tuple[int, str]]] = {}
    always = []
    spans = [
        (lane.load.name, use, lane.load.use.moments != ())
        for lane in load_lanes(plan)
        for use in lane.uses
    ] + [(lane.source.name, use, False) for lane in source_lanes(plan) for use in lane.uses]
    for name, use, task in spans:
        if use.index < 0:
            always.append(name)
            continue
        first, last = (moment_after(plan.start, minute / 60) for minute in (use.first, use.last))
        if use.first / 60 < plan.needed_hours:
            times = clock(first) if task else f"{clock(first)}–{clock(last)}"
            day = f"{first:%a} {first.day} {first:%b}"
            by_day.setdefault(day, []).append((use.first, f"{times} {name}"))
    rows = [["all the time", ", ".join(dict.fromkeys(always))]] if always else []
    days = sorted(by_day.items(), key=lambda pair: min(pair[1])[0])
    rows += [[day, "; ".join(words for _, words in sorted(uses))] for day, uses in days[:MOST_DAYS]]
    if len(days) > MOST_DAYS:
        rows.append(["later", f"{len(days) - MOST_DAYS} more days"])
    return Table("Schedule", ["day", "what runs"], rows)


def _facts(job: Job, answer: Answer) -> list[tuple[str, str]]:
    plan = answer.plan
    start = timezone.localtime(plan.start)
    facts = [
        (
            "purpose",
            plan.note
            or f"{hours_text(plan.needed_hours)} from {start:%a} {start.day} {start:%b} "
            f"{clock(start)}",
        ),
        ("mains", job.get_mains_display()),
        ("begins", f"{start:%a} {_date(start)} {clock(start)}"),
        (
            "needed",
            f"{hours_text(plan.needed_hours)} with a chance of {wanted_chance_text(plan.odds)}",
        ),
        ("room", "not stated" if plan.room_c is None else temperature(plan.room_c)),
        ("charge at the start", f"{plan.start_charge * 100:.0f} %"),
    ]
    if answer.supply is not None:
        facts.append(("supply", answer.supply.name))
    for source in answer.draft.sources:
        if source.taken_in:
            facts.append(("source", f"{source.name} ({source.get_kind_display()})"))
    if people := entered_by(job):
        facts.append(("entered by", people))
    return facts


def ranged(estimate: Estimate | None, unit: str) -> tuple[str, str]:
    """An estimate with its range, as text that does not wrap, and its grade."""
    if estimate is None:
        return "–", ""
    text = f"{with_unit(estimate.value, unit)} ({span_alike(estimate, unit)})"
    return text.replace(" ", "\u00a0"), estimate.grade


def _loads(answer: Answer, counted: Sequence[UsedLoad]) -> Table:
    starts = (
        {start.load: start.verdict for start in answer.outcome.starts} if answer.outcome else {}
    )
    wh = answer.outcome.likely.energy_wh["loads"] if answer.outcome else {}
    rows = []
    for used_load in counted:
        assert used_load.profile is not None
        verdict = starts.get(used_load.name)
        rows.append(
            [
                f"{used_load.name}{f' ({used_load.setting})' if used_load.setting else ''}"
                f"{f' × {used_load.entry.count}' if used_load.entry.count > 1 else ''}",
                clocks(text_of_use(used_load.use)) or "always",
                "AC" if used_load.route == "ac" else used_load.route,
                *ranged(used_load.profile.mean_w, "W"),
                *ranged(used_load.profile.running_w, "W"),
                *ranged(used_load.profile.start_va, "VA"),
                start_text(verdict.verdict, verdict.chance) if verdict else "–",
                with_unit(wh[used_load.name], "Wh") if used_load.name in wh else "–",
            ]
        )
    figures = ["mean", "", "running", "", "start", ""]
    heads = ["load", "in use", "by", *figures, "starts?", "in the plan"]
    return Table("Loads, with range and grade of evidence", heads, rows, (3, 5, 7, 10))


def _floor_known(answer: Answer, supply: Supply) -> str:
    if answer.plan.floor is not None:
        return "chosen for this plan"
    return "chosen" if supply.floor is not None else f"usual for {supply.get_chemistry_display()}"


def _supply(answer: Answer, supply: Supply) -> Table:
    core = answer.outcome.plan.supply if answer.outcome else supply.to_core()
    battery = core.battery
    rows = [
        ["label", with_unit(battery.nominal_wh, "Wh"), "as printed"],
        [
            "usable share of the label",
            f"{battery.state_of_health.value * 100:.0f} %",
            _known(battery.state_of_health),
        ],
        ["floor", f"{battery.floor * 100:.0f} %", _floor_known(answer, supply)],
    ]
    if core.inverter is not None:
        inverter = core.inverter
        rows += [
            [
                "inverter, continuous and surge",
                f"{with_unit(inverter.continuous_w, 'W')}, {with_unit(inverter.surge_va, 'VA')}",
                "as printed" if inverter.surge_known else "surge not known: continuous stands in",
            ],
            ["inverter idle", with_unit(inverter.idle_w.value, "W"), _known(inverter.idle_w)],
            ["efficiency", f"{inverter.efficiency.value * 100:.0f} %", _known(inverter.efficiency)],
        ]
    for output in core.outputs:
        rows.append(
            [
                f"output {output.name}",
                with_unit(output.idle_w.value, "W") + " idle",
                _known(output.idle_w),
            ]
        )
    return Table(f"Supply: {supply.name}", ["figure", "value", "how it is known"], rows, (1,))


def _known(estimate: Estimate) -> str:
    return f"{estimate.grade}: {said(estimate.how[0]) if estimate.how else 'given'}"


def _day(answer: Answer, outcome: Outcome) -> list[Table]:
    plan = outcome.plan
    low, mid, high = outcome.runtime
    energy = outcome.likely.energy_wh
    lost = energy["inverter_idle"] + energy["outputs_idle"] + energy["conversion"]
    more = "more than " if outcome.capped else ""
    rows = [
        ["lasts, likely", f"{more}{hours_text(mid)}"],
        ["between (8 of 10)", f"{hours_text(low)} and {hours_text(high)}"],
        ["chance that all that should run does", chance_text(outcome.chance)],
        ["never cycling off", hours_text(outcome.likely.never_off_h)],
        ["energies counted", energies_until(outcome)],
        ["idle and conversion", with_unit(lost, "Wh")],
    ]
    if plan.sources:
        rows.append(["from sources", with_unit(energy["sources"], "Wh")])
    if outcome.likely.fuel_l > 0:
        rows.append(["fuel burnt", f"{outcome.likely.fuel_l:.2g} l"])
    first = {trip.load: trip for trip in reversed(outcome.trips)}
    for trip in first.values():
        at = moment_after(plan.start, trip.minute / 60)
        chance = trip_chance_text(outcome, trip)
        what = "does not run" if trip.why in UNFIT else "trips"
        rows.append([f"{trip.load} {what}", f"first {moment(at, plan.start)}, {chance}"])
    tables = [_schedule(answer, outcome), Table("Day plan", ["figure", "value"], rows, (1,))]
    if answer.suggestions:
        won = [
            [
                said(helped.change.what),
                f"{helped.won} ({helped.span})" if helped.won else helped.chance,
                said(helped.change.caveat),
            ]
            for helped in helps_of(answer.suggestions[:5])
        ]
        tables.append(Table("What helps now", ["change", "hours won", "note"], won, (1,)))
    return tables


def _trials(job: Job) -> Table | None:
    rows = []
    for trial in Trial.objects.live().with_check_ins().filter(job=job)[:6]:
        view = view_of(trial, LONG_WAIT_S, whole=False)
        started = timezone.localtime(trial.started_at)
        rows.append(
            [trial.name, _date(started), f"{view.headline} {view.range}".strip(), view.words]
        )
    if not rows:
        return None
    return Table("Trials", ["trial", "on", "result", "against the forecast"], rows)


def _not_counted(answer: Answer) -> list[str]:
    """Loads that are in the plan and not counted, each with the reason."""
    return [
        f"{used_load.name}: not counted, {why}"
        for used_load in answer.used
        if (why := used_load.why_not_counted)
    ]


def _unproven(answer: Answer, counted: Sequence[UsedLoad]) -> list[str]:
    """Figures that depend on labels and guesses, and how to narrow them."""
    words = _not_counted(answer)
    for used_load in counted:
        if used_load.profile is None:
            continue
        grade, assumed = used_load.profile.grade, used_load.assumed
        if grade in ("C", "D"):
            assumed = assumed or "not measured long enough"
            if used_load.load.put_off:
                assumed += f"; put off: {used_load.load.put_off}"
            words.append(f"{used_load.name}: grade {grade}, {assumed}")
        elif assumed:
            words.append(f"{used_load.name}: {assumed}")
    words += [f"would steady it most: {steady.sentence}" for steady in measurement_tips(answer)[:2]]
    return words
