"""What the start matrix shows: loads against inverters, sizes, the order of switching on."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from django.utils.safestring import SafeString

from needle.decide.cord import CordCheck
from needle.decide.matrix import Cell, Contender, carries, cell_of
from needle.decide.order import Rung, Starter, best_order, ladder, worst
from needle.decide.sizing import Size, inverter_sizes
from needle.quantity import with_unit
from needle.supply.supply import Supply as CoreSupply
from web.drawing.rungs import DrawnRung, Limit, rungs
from web.jobs.models import Job
from web.loads.models import Load
from web.plans.draft import Used, draft_of
from web.plans.models import Plan
from web.supplies.models import StartTest, Supply


@dataclass(frozen=True)
class SupplyColumn:
    """An inverter."""

    supply: Supply
    core: CoreSupply
    carries_all: bool


@dataclass(frozen=True)
class Square:
    """A cell of the matrix with the test that overrules it, if there is one."""

    column: SupplyColumn
    cell: Cell
    test: StartTest | None


@dataclass(frozen=True)
class StartRow:
    """A load: whether it is chosen, what it takes, its cord, and its squares."""

    load: Load
    chosen: bool
    contender: Contender | None
    grade: str
    cord: CordCheck | None
    squares: list[Square]


@dataclass(frozen=True)
class Switching:
    """The order of switching on upon one supply, drawn."""

    column: SupplyColumn
    steps: list[Rung]
    drawing: SafeString
    words: str
    otherwise: str


@dataclass(frozen=True)
class Matrix:
    """The whole page."""

    columns: list[SupplyColumn]
    rows: list[StartRow]
    sizes: list[Size]
    switching: Switching | None
    tests: list[StartTest]
    summary: str
    running_w: float


def contender_of(load: Load, count: int = 1) -> Contender | None:
    """A load as the matrix weighs it: its highest state counts; None without evidence."""
    profile = load.profile()
    if profile is None:
        return None
    highest = max([profile.running_w.value, *(state.watts.value for state in profile.states)])
    return Contender(load.name, load.core_kind, highest, profile.start_va, profile.start_s, count)


def matrix_of(job: Job, plan: Plan, chosen: Collection[int] | None, supply: int | None) -> Matrix:
    """Work out the matrix.

    Parameters
    ----------
    job : Job
    plan : Plan
        Which loads run together, where none were chosen.
    chosen : collection of int or None
        Keys of the loads that run together; None for the plan's.
    supply : int or None
        Key of the supply whose switching-on is drawn; None for the plan's, or the first.
    """
    used = draft_of(plan).used
    together = (
        {used_load.load.pk for used_load in used if used_load.counted}
        if chosen is None
        else set(chosen)
    )
    tests = list(
        StartTest.objects.live()
        .filter(supply__job=job, supply__removed_at=None, load__removed_at=None)
        .select_related("supply", "load")
    )
    newest = {(test.load_id, test.supply_id): test for test in tests}
    contenders = {
        used_load.load.pk: contender_of(used_load.load, used_load.entry.count) for used_load in used
    }
    running = {
        pk: one.running_w * one.count
        for pk, one in contenders.items()
        if one is not None and pk in together
    }
    total = sum(running.values())
    columns = _columns(job, total)
    rows = []
    for used_load in used:
        contender = contenders[used_load.load.pk]
        others = total - (
            contender.running_w if contender and used_load.load.pk in running else 0.0
        )
        rows.append(
            _row(used_load, contender, used_load.load.pk in together, others, columns, newest)
        )
    starters = _starters([row.contender for row in rows if row.chosen and row.contender])
    shown = next(
        (column for column in columns if column.supply.pk == (supply or plan.supply_id)), None
    )
    shown = shown or next(iter(columns), None)
    return Matrix(
        columns=columns,
        rows=rows,
        sizes=inverter_sizes(starters),
        switching=_switching(starters, shown) if shown and starters else None,
        tests=tests[::-1],
        summary=_summary(rows),
        running_w=total,
    )


def _columns(job: Job, total_w: float) -> list[SupplyColumn]:
    columns = []
    for supply in job.supplies.live().with_parts():
        core = supply.to_core()
        if core.inverter is not None:
            columns.append(SupplyColumn(supply, core, carries(core.inverter, total_w)))
    return columns


def _row(
    used: Used,
    contender: Contender | None,
    chosen: bool,
    others_w: float,
    columns: list[SupplyColumn],
    newest: dict[tuple[int, int], StartTest],
) -> StartRow:
    squares = []
    cord = None
    if contender is not None and used.profile is not None:
        for column in columns:
            test = newest.get((used.load.pk, column.supply.pk))
            cell = cell_of(contender, others_w, column.core, test.result if test else "")
            if cell is not None:
                squares.append(Square(column, cell, test))
        volts = used.load.volts()
        running_a = contender.running_w / used.profile.power_factor.value / volts
        cord = used.load.cord(running_a, contender.start_va.value / volts)
    grade = used.profile.start_va.grade if used.profile else "?"
    return StartRow(used.load, chosen, contender, grade, cord, squares)


def _starters(contenders: list[Contender]) -> list[Starter]:
    """One to switch on for each of a load's count."""
    return [
        Starter(
            contender.name if contender.count == 1 else f"{contender.name} {number}",
            contender.running_w, contender.start_va.value, contender.start_s,
        )
        for contender in contenders
        for number in range(1, contender.count + 1)
    ]  # fmt: skip


def _switching(starters: list[Starter], column: SupplyColumn) -> Switching:
    inverter = column.core.inverter
    assert inverter is not None
    steps, plain = ladder(best_order(starters)), ladder(starters)
    peak, listed = worst(steps), worst(plain)
    assert peak is not None and listed is not None
    limits = [Limit(inverter.continuous_w, f"continuous {with_unit(inverter.continuous_w, 'W')}")]
    for ratio, seconds in inverter.overload:
        carried = with_unit(inverter.continuous_w * ratio, "W")
        limits.append(Limit(inverter.continuous_w * ratio, f"{carried} for {seconds:g} s"))
    if inverter.surge_known:
        surge = f"surge {with_unit(inverter.surge_va, 'VA')}, {inverter.surge_s:g} s"
        limits.append(Limit(inverter.surge_va, surge))
    share = peak.peak_va / inverter.surge_va
    words = (
        f"Worst moment {with_unit(peak.peak_va, 'VA')}, at {peak.starter.name}: "
        f"{share * 100:.0f} % of the surge rating."
    )
    otherwise = ""
    if listed.peak_va > peak.peak_va * 1.005:
        otherwise = f"In the order of the list it would be {with_unit(listed.peak_va, 'VA')}."
    drawing = rungs(
        [DrawnRung(step.starter.name, step.before_w, step.after_w, step.peak_va) for step in steps],
        limits,
        lambda amount: with_unit(amount, "VA"),
        f"Switching on, {column.supply.name}",
        "; ".join(f"{step.starter.name} {with_unit(step.peak_va, 'VA')}" for step in steps),
    )
    return Switching(column, steps, drawing, words, otherwise)


def _summary(rows: list[StartRow]) -> str:
    squares = [square for row in rows if row.chosen for square in row.squares]
    counts = {
        word: sum(square.cell.verdict.verdict == word for square in squares)
        for word in ("holds", "grey", "trips")
    }
    return ", ".join(
        f"{number} {'hold' if word == 'holds' else 'trip' if word == 'trips' else word}"
        for word, number in counts.items()
        if number
    )
