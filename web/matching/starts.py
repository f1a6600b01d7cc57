"""Contents of the start matrix: loads against inverters, sizes, switching order."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace

from django.utils.safestring import SafeString

from needle.decide.cord import CordCheck
from needle.decide.matrix import Cell, Contender, Row, all_of, cells_of_rows, too_much
from needle.decide.order import Rung, Starter, best_order, ladder, worst
from needle.decide.sizing import Size, inverter_sizes
from needle.decide.starting import Verdict, surge_va
from needle.plan.load import AC
from needle.quantity import with_unit
from needle.supply.supply import Supply as CoreSupply
from web.drawing.rungs import DrawnRung, Limit, rungs
from web.jobs.models import Job
from web.loads.models import Load, numbers_of
from web.plans.outcomes import Answer
from web.plans.used import UsedLoad
from web.supplies.models import StartTest, Supply, supplies_of


@dataclass(frozen=True)
class SupplyColumn:
    """An inverter, and loads that exceed it without a start; "" if none."""

    supply: Supply
    core: CoreSupply
    too_much: str


@dataclass(frozen=True)
class Question:
    """One of the three questions of a cell: which other loads run, and the answer."""

    beside: str
    verdict: Verdict


@dataclass(frozen=True)
class Square:
    """A cell of the matrix: the most relevant answer, and the others.

    ``query`` names its load and its supply to the page that records a test.
    """

    column: SupplyColumn
    cell: Cell
    query: str
    first: Question
    others: list[Question]


@dataclass(frozen=True)
class StartRow:
    """A load: whether it is selected, its figures, its cord, and its cells.

    ``route`` is the output that feeds it in the plan, past every inverter; empty for AC.
    """

    load: Load
    route: str
    chosen: bool
    contender: Contender | None
    grade: str
    cord: CordCheck | None
    squares: list[Square]


@dataclass(frozen=True)
class Switching:
    """The switching order on one supply, drawn."""

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
    """A load for the matrix, in its highest state; None without evidence."""
    profile = load.profile()
    if profile is None:
        return None
    states = [profile.running_w, *(state.watts for state in profile.states)]
    highest = max(states, key=lambda watts: watts.value)
    running_va = highest.value / max(profile.power_factor.value, 0.05)
    felt_va = surge_va(profile.start_va.value, profile.start_s, running_va)
    return Contender(
        load.name,
        load.core_kind,
        highest,
        replace(profile.start_va, value=felt_va),
        profile.start_s,
        profile.power_factor,
        count,
        load.volts(),
        f"load {numbers_of(load.job)[load.pk]}",
    )


def matrix_of(
    job: Job, answer: Answer, chosen: Collection[int] | None, supply: int | None
) -> Matrix:
    """Compute the matrix.

    Parameters
    ----------
    job : Job
    answer : Answer
        Answer to the plan: loads that run together if none are selected, and at each start.
    chosen : collection of int or None
        Primary keys of the loads that run together; None for the plan's on AC.
    supply : int or None
        Primary key of the supply whose switching order is drawn; None for the plan's, or the first.
    """
    # What is on a DC output loads no inverter.
    together = {used.load.pk for used in answer.used if used.counted and used.route == AC}
    together = together if chosen is None else set(chosen)
    contenders = {used.load.pk: contender_of(used.load, used.entry.count) for used in answer.used}
    ticked = [
        contender
        for pk, contender in contenders.items()
        if contender is not None and pk in together
    ]
    columns = _columns(job, ticked)
    tests = _start_tests(job)
    cells = _cells(answer, contenders, ticked, columns, tests)
    rows = [
        _row(
            used,
            contenders[used.load.pk],
            used.load.pk in together,
            columns,
            cells.get(used.load.pk, ()),
            _as_planned(answer, used),
        )
        for used in answer.used
    ]
    starters = _starters([row.contender for row in rows if row.chosen and row.contender])
    shown = _column_of(columns, supply or answer.plan.supply_id)
    return Matrix(
        columns=columns,
        rows=rows,
        # The same VA that an inverter is compared with if it cannot run all of it together.
        sizes=inverter_sizes(starters, all_of(ticked).usual_va if ticked else None),
        switching=_switching(starters, shown) if shown and starters else None,
        tests=tests[::-1],
        summary=_summary(rows),
        running_w=sum(contender.running_w.value * contender.count for contender in ticked),
    )


def _start_tests(job: Job) -> list[StartTest]:
    """Live start tests of live loads on live supplies, oldest first."""
    tests = StartTest.objects.live()
    tests = tests.filter(supply__job=job, supply__removed_at=None, load__removed_at=None)
    return list(tests.select_related("supply", "load"))


def _column_of(columns: Sequence[SupplyColumn], pk: int | None) -> SupplyColumn | None:
    """The column of a supply; the first one if there is none."""
    named = (column for column in columns if column.supply.pk == pk)
    return next(named, columns[0] if columns else None)


def _cells(
    answer: Answer,
    contenders: dict[int, Contender | None],
    ticked: list[Contender],
    columns: Sequence[SupplyColumn],
    tests: Sequence[StartTest],
) -> dict[int, list[Cell]]:
    """Cells of every load with evidence, by its key, one for each column."""
    newest = {(test.load_id, test.supply_id): test.to_core() for test in tests}
    worst_of = _at_worst(answer, contenders)
    rows = {
        pk: Row(
            contender,
            tuple(newest.get((pk, column.supply.pk)) for column in columns),
            worst_of.get(pk),
        )
        for pk, contender in contenders.items()
        if contender is not None
    }
    supplies = tuple(column.core for column in columns)
    cells = cells_of_rows(tuple(rows.values()), tuple(ticked), supplies)
    return dict(zip(rows, cells, strict=True))


def _at_worst(
    answer: Answer, contenders: dict[int, Contender | None]
) -> dict[int, tuple[Contender, ...]]:
    """What runs at the worst moment of each load's use in the plan, by the load's key."""
    by_name = {used.name: contenders[used.load.pk] for used in answer.used}
    starts = {start.load: start for start in answer.outcome.starts} if answer.outcome else {}
    return {
        used.load.pk: tuple(
            other for name in starts[used.name].beside if (other := by_name.get(name)) is not None
        )
        for used in answer.used
        if used.name in starts
    }


def _columns(job: Job, ticked: list[Contender]) -> list[SupplyColumn]:
    columns = []
    together = all_of(ticked)
    for supply in supplies_of(job):
        core = supply.to_core()
        if core.inverter is not None:
            words = ""
            if too_much(core.inverter, together):
                asked = with_unit(together.usual_va, "VA")
                words = f"{asked} together is more than it carries"
            columns.append(SupplyColumn(supply, core, words))
    return columns


def _row(
    used: UsedLoad,
    contender: Contender | None,
    chosen: bool,
    columns: Sequence[SupplyColumn],
    cells: Sequence[Cell],
    planned: tuple[int, Verdict] | None,
) -> StartRow:
    squares = [
        _square(used.load, column, cell, planned)
        for column, cell in zip(columns if cells else (), cells, strict=True)
    ]
    cord = None
    if contender is not None and used.profile is not None:
        running_va = contender.running_w.value / used.profile.power_factor.value
        cord = used.load.cord(running_va, contender.start_va.value)
    grade = used.profile.start_va.grade if used.profile else "?"
    route = "" if used.route == AC else used.route
    return StartRow(used.load, route, chosen, contender, grade, cord, squares)


def _square(
    load: Load, column: SupplyColumn, cell: Cell, planned: tuple[int, Verdict] | None
) -> Square:
    # On its own supply the plan has judged it: that is the one figure.
    if cell.planned is not None and planned and planned[0] == column.supply.pk:
        cell = replace(cell, planned=planned[1])
    first, *others = _questions(cell)
    query = f"load={load.pk}&supply={column.supply.pk}"
    return Square(column, cell, query, first, others)


def _as_planned(answer: Answer, used: UsedLoad) -> tuple[int, Verdict] | None:
    """The plan's verdict on a load's start, with the key of its supply."""
    if answer.outcome is None or answer.supply is None:
        return None
    starts = {start.load: start.verdict for start in answer.outcome.starts}
    return (answer.supply.pk, starts[used.name]) if used.name in starts else None


def _questions(cell: Cell) -> list[Question]:
    """The three questions, the most relevant first; equal answers once."""
    asked = []
    if cell.planned is not None:
        asked.append(Question("as in the plan", cell.planned))
    if cell.ticked is not None and not cell.too_much:
        asked.append(Question("with all that is ticked", cell.ticked))
    asked.append(Question("alone", cell.alone))
    first, *rest = asked
    told = (first.verdict.verdict, first.verdict.chance)
    return [first, *(ask for ask in rest if (ask.verdict.verdict, ask.verdict.chance) != told)]


def _starters(contenders: list[Contender]) -> list[Starter]:
    """One starter for each of a load's count."""
    return [
        Starter(
            contender.name if contender.count == 1 else f"{contender.name} {number}",
            contender.running_w.value,
            contender.start_va.value,
            contender.start_s,
            contender.power_factor.value,
        )
        for contender in contenders
        for number in range(1, contender.count + 1)
    ]


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
