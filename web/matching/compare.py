"""Loads and their settings side by side."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from django.utils.safestring import SafeString

from needle.decide.compare import Against, Figure, LoadSide, figures, unfair
from needle.estimate import Estimate
from needle.message import Message
from needle.plan.advice.alone import hours_alone
from needle.plan.documents.measured import load_document
from needle.plan.documents.parse import parse_plan
from needle.profile.cost import settings_of
from needle.profile.profile import Profile
from web.drawing.spans import Span, spans
from web.jobs.models import Job
from web.loads.models import Load, loads_of
from web.supplies.models import Supply

MOST = 4


@dataclass(frozen=True)
class LoadChoice:
    """A load, with a setting if it has several."""

    key: str
    words: str
    load: Load
    setting: str


@dataclass(frozen=True)
class ComparedCell:
    """A figure of one side, and its ratio to the reference; None for the reference itself."""

    value: Estimate | None
    against: Against | None


@dataclass(frozen=True)
class ComparedRow:
    """A figure of all sides."""

    figure: Figure
    cells: list[ComparedCell]


@dataclass(frozen=True)
class Compared:
    """The page: sides, rows, what is unfair, a drawing, and the verdict."""

    sides: list[LoadSide]
    rows: list[ComparedRow]
    unfair: list[Message]
    drawing: SafeString | None
    verdict: str


def choices_of(job: Job) -> dict[str, LoadChoice]:
    """All loads with evidence, each setting separately."""
    choices = []
    for load in loads_of(job):
        settings = [setting.setting for setting in settings_of(load.to_core())]
        if settings:
            choices += [
                LoadChoice(f"{load.pk}:{setting}", f"{load.name}, {setting}", load, setting)
                for setting in settings
            ]
        elif load.profile() is not None:
            choices.append(LoadChoice(str(load.pk), load.name, load, ""))
    return {choice.key: choice for choice in choices}


def pick(
    choices: dict[str, LoadChoice], wanted: Sequence[str], reference: str = ""
) -> list[LoadChoice]:
    """The first four of the wanted ones, the reference first.

    A load without a setting includes all of its settings.
    """
    picked: list[LoadChoice] = []
    for key in wanted:
        mine = (
            [choices[key]]
            if key in choices
            else [choice for choice in choices.values() if str(choice.load.pk) == key]
        )
        picked += [reading for reading in mine if reading not in picked]
    return sorted(picked[:MOST], key=lambda choice: choice.key != reference)


def compare(job: Job, picked: Sequence[LoadChoice], supply: Supply | None) -> Compared:
    """Compare loads; the first is the reference."""
    sides = [_side(job, choice, supply) for choice in picked]
    rows = []
    for figure in figures(sides):
        cells = [ComparedCell(figure.values[0], None)]
        for number, value in enumerate(figure.values[1:], 1):
            cells.append(ComparedCell(value, figure.against(number)))
        rows.append(ComparedRow(figure, cells))
    reasons: list[Message] = unfair(sides) if len(sides) > 1 else []
    return Compared(
        sides,
        rows,
        reasons,
        _drawing(rows, sides),
        _verdict(rows, sides),
    )


def _side(job: Job, choice: LoadChoice, supply: Supply | None) -> LoadSide:
    profile = choice.load.profile(choice.setting)
    assert profile is not None
    hours = None if supply is None else _hours_on(supply, choice.words, profile)
    return LoadSide(
        choice.words,
        profile,
        choice.load.litres,
        choice.load.set_c,
        profile.measured_room_c,
        job.price,
        hours,
    )


def _hours_on(supply: Supply, name: str, profile: Profile) -> np.ndarray | None:
    """Hours alone on a supply, on AC or else its first output; None without either."""
    on = supply.to_document()
    routes = (["ac"] if "inverter" in on else []) + [
        output["name"] for output in on.get("outputs", ())
    ]
    if not routes:
        return None
    load = {**load_document(profile, name), "route": routes[0]}
    return hours_alone(parse_plan({"hours": 24, "supply": on, "loads": [load]}))


def _drawing(rows: Sequence[ComparedRow], sides: Sequence[LoadSide]) -> SafeString | None:
    """Mean W of each with its range; or daily energy if known for all."""
    usable = [row for row in rows if all(cell.value is not None for cell in row.cells)]
    row = next((row for row in usable if row.figure.name == "a day"), usable[0] if usable else None)
    if row is None:
        return None
    drawn = [
        Span(side.name, cell.value.low, cell.value.value, cell.value.high)
        for side, cell in zip(sides, row.cells, strict=True)
        if cell.value is not None
    ]
    return spans(drawn, row.figure.unit, f"{row.figure.name.capitalize()}, {row.figure.unit}")


def _verdict(rows: Sequence[ComparedRow], sides: Sequence[LoadSide]) -> str:
    """The difference in daily energy, or else in mean W, of the second and the first."""
    if len(sides) < 2:
        return ""
    names = ("a day and litre", "a day", "a task", "mean")
    by_name = {row.figure.name: row for row in rows}
    comparable = filter(None, map(by_name.get, names))
    row = next((row for row in comparable if row.cells[1].against is not None), None)
    if row is None or row.cells[1].against is None:
        return ""
    off = row.cells[1].against
    if not off.real:
        return f"No real difference {row.figure.name}: either may be the larger."
    word = "more" if off.value > 0 else "less"
    percent = f"{abs(off.value) * 100:.0f} % {word}"
    return f"{sides[1].name} takes {percent} than {sides[0].name}, {row.figure.name}."
