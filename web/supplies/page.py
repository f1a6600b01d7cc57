"""Contents of a supply's card and page: staircase, evidence, curve, accounts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, time

from django.utils.safestring import SafeString

from needle.document import DocumentError
from needle.estimate import Estimate
from needle.message import Message
from needle.quantity import with_unit
from needle.supply.ageing import Held, ageing_of, course_message
from needle.supply.fit import InverterFit
from needle.supply.inverter import percentage
from needle.supply.supply import Supply as CoreSupply
from needle.supply.supply import SupplyStep, held_over_time, held_wh, idle_over_time
from needle.supply.supply import staircase as core_staircase
from needle.supply.supply_tests import (
    CapacityTest,
    EfficiencyTest,
    RouteAccount,
    RouteTest,
    account,
    saved_w,
)
from needle.supply.supply_tests import SupplyTest as CoreTest
from web.drawing.bars import staircase as draw
from web.drawing.course import CourseMark, course
from web.drawing.curve import curve
from web.supplies.models import Supply, SupplyTest

#: Hours the idle draw is shown for, until a plan says how many are needed.
USUAL_HOURS = 24.0
EXAMPLE_W = 33.0


@dataclass(frozen=True)
class SupplyFigure:
    """A figure of a supply: its name, estimate and unit, and how to narrow it."""

    name: str
    estimate: Estimate
    unit: str
    test: str


@dataclass(frozen=True)
class Card:
    """A supply in the list."""

    supply: Supply
    core: CoreSupply
    steps: list[SupplyStep]
    drawing: SafeString
    hours: float
    figures: list[SupplyFigure]


@dataclass(frozen=True)
class TestRow:
    """A test: the record, its result, and whether no newer one replaces it."""

    test: SupplyTest
    result: Message
    in_force: bool


@dataclass(frozen=True)
class Route:
    """Two routes of a load: their energy balances, and the saving, in words."""

    load: str
    hours: float
    accounts: list[RouteAccount]
    words: str


@dataclass(frozen=True)
class SupplyPage:
    """A supply's own page."""

    card: Card
    tests: list[TestRow]
    fit: InverterFit | None
    curve: SafeString | None
    square_words: str
    percentages: list[tuple[float, float]]
    log: tuple[tuple[float, float | None, float], ...]
    routes: list[Route]
    troubles: list[str]
    over_time: list[Message]
    course: SafeString | None


def card_of(supply: Supply, hours: float = USUAL_HOURS, mean_ac_w: float | None = None) -> Card:
    """Compute a supply's staircase over some hours."""
    core = supply.to_core()
    steps = core_staircase(core, hours, mean_ac_w)
    bars = [
        (
            step.name,
            step.left_wh.low,
            step.left_wh.value,
            step.left_wh.high,
            with_unit(step.left_wh.value, "Wh"),
        )
        for step in steps
    ]
    title = f"From the label of {supply.name} to what reaches the loads"
    return Card(supply, core, steps, draw(bars, title), hours, _figures(core))


def _figures(core: CoreSupply) -> list[SupplyFigure]:
    figures = [SupplyFigure("really holds", held_wh(core.battery), "Wh", "capacity")]
    if core.inverter is not None:
        figures += [
            SupplyFigure("inverter idle", core.inverter.idle_w, "W", "idle"),
            SupplyFigure("efficiency", core.inverter.efficiency, "", "efficiency"),
        ]
    for output in core.outputs:
        figures += [
            SupplyFigure(f"{output.name} idle", output.idle_w, "W", "idle"),
            SupplyFigure(f"{output.name} efficiency", output.efficiency, "", "route"),
        ]
    if core.battery.internal_ohm is not None:
        figures.append(SupplyFigure("internal resistance", core.battery.internal_ohm, "Ω", ""))
    return figures


def page_of(supply: Supply, hours: float = USUAL_HOURS) -> SupplyPage:
    """Compute a supply's page."""
    card = card_of(supply, hours)
    tests = list(zip(supply.known_tests(), card.core.tests, strict=True))
    newest = {core.subject: stored.pk for stored, core in tests}
    fit, drain = _newest_fit(card.core.tests), _newest_drain(card.core.tests)
    routes, troubles = _routes(
        [test for test in card.core.tests if isinstance(test, RouteTest)], card.core
    )
    held = held_over_time(card.core)
    ageing = ageing_of(held, card.core.battery.chemistry)
    return SupplyPage(
        over_time=[
            change
            for change in (course_message(held, ageing), idle_over_time(card.core))
            if change is not None
        ],
        course=_course(held, supply.name),
        card=card,
        tests=[
            TestRow(stored, core.result, newest[core.subject] == stored.pk)
            for stored, core in reversed(tests)
        ],
        fit=fit,
        curve=None if fit is None else _curve(card.core, fit, supply.name),
        square_words="" if fit is None else _square_words(card.core, fit),
        percentages=_percentages(card.core),
        log=drain,
        routes=routes,
        troubles=troubles,
    )


def _newest_fit(tests: Sequence[CoreTest]) -> InverterFit | None:
    """Losses from the newest efficiency test with enough pairs."""
    fitted = [test for test in tests if isinstance(test, EfficiencyTest) and test.enough]
    return fitted[-1].fit() if fitted else None


def _newest_drain(tests: Sequence[CoreTest]) -> tuple[tuple[float, float | None, float], ...]:
    """Log of the newest capacity test; empty for a single row."""
    drains = [test for test in tests if isinstance(test, CapacityTest)]
    return drains[-1].log if drains and len(drains[-1].log) > 1 else ()


def _course(held: Sequence[Held], name: str) -> SafeString | None:
    """Chart of its capacity at each dated test; None for fewer than two dates."""
    if len(held) < 2 or held[0].on == held[-1].on:
        return None
    marks = [
        CourseMark(
            datetime.combine(test.on, time(12)),
            100 * test.share.low,
            100 * test.share.value,
            100 * test.share.high,
        )
        for test in held
    ]
    return course(marks, "%", f"What {name} held over the years")


def _percentages(core: CoreSupply) -> list[tuple[float, float]]:
    inverter = core.inverter
    if inverter is None:
        return []
    figures = (inverter.idle_w.value, inverter.efficiency.value, inverter.square_per_w.value)
    at = (EXAMPLE_W, inverter.continuous_w * 0.1, inverter.continuous_w * 0.5)
    return [(watts, percentage(watts, *figures)) for watts in sorted(set(at))]


def _square_words(core: CoreSupply, fit: InverterFit) -> str:
    """The square loss at the continuous rating, in words."""
    assert core.inverter is not None
    full = core.inverter.continuous_w
    lost = with_unit(fit.square_per_w.value * full**2, "W")
    return f"what grows with the square of the load, {lost} at {with_unit(full, 'W')}"


def _curve(core: CoreSupply, fit: InverterFit, name: str) -> SafeString:
    """Efficiency over the load, as fitted, with the readings."""
    assert core.inverter is not None
    most = max(core.inverter.continuous_w, *(ac for ac, _ in fit.pairs))
    idle, efficiency, square = fit.idle_w, fit.efficiency, fit.square_per_w.value
    loads = [most * (step / 60) ** 2 for step in range(61)]
    line = [
        (
            watts,
            percentage(watts, idle.high, efficiency.low, square),
            percentage(watts, idle.value, efficiency.value, square),
            percentage(watts, idle.low, efficiency.high, square),
        )
        for watts in loads
    ]
    points = [(ac, ac / dc, index == fit.suspect) for index, (ac, dc) in enumerate(fit.pairs)]
    description = ", ".join(f"{with_unit(ac, 'W')} {100 * ac / dc:.0f} %" for ac, dc in fit.pairs)
    return curve(
        line,
        points,
        lambda watts: with_unit(watts, "W"),
        ("AC watts out", "efficiency"),
        f"Efficiency of {name} at each load",
        description,
    )


def _routes(tests: list[RouteTest], core: CoreSupply) -> tuple[list[Route], list[str]]:
    routes, troubles = [], []
    held, inverter = held_wh(core.battery), core.inverter
    for test in tests:
        output = next((output for output in core.outputs if output.name == test.output), None)
        if output is None or inverter is None:
            continue
        try:
            ac = account("AC", test.ac, test, held, inverter.idle_w)
            dc = account(test.output, test.dc, test, held, output.idle_w)
        except DocumentError as error:
            troubles.append(f"{test.load}, {error}.")
            continue
        low, value, high = saved_w(ac, dc)
        routes.append(Route(test.load, test.hours, [ac, dc], _saving(low, value, high, dc)))
    return routes, troubles


def _saving(low: float, value: float, high: float, dc: RouteAccount) -> str:
    span = f"{low:.2g} to {high:.2g} W"
    if low <= 0 <= high:
        return f"No difference that these steps could show ({span}): run it for longer."
    better, other = ("the output", "AC") if value > 0 else ("AC", dc.name)
    return f"{with_unit(abs(value), 'W')} less by {better} than by {other} ({span})."
