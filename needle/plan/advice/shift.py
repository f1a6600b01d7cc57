"""Best times for tasks that can be rescheduled: within all limits, and mostly in the sun.

A mixed-integer programme over quarter hours: each task gets one start; in every quarter hour the
tasks' W stay below what the other loads leave; the W of tasks that are met by surplus from sources
are maximised; ties go to the start nearest to the planned one. Solved exactly by SciPy's HiGHS (Q.
Huangfu and J. Hall 2018, Math. Prog. Comp. 10, 119).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import TYPE_CHECKING

import numpy as np

from needle.document import DocumentError
from needle.moments import DAY_MIN, Moment, in_windows, moment_after, occurrences
from needle.plan.draws.inputs import likely
from needle.plan.draws.patterns import patterns_of
from needle.plan.load import AC, PlanLoad
from needle.plan.plan import Plan

if TYPE_CHECKING:
    from scipy.optimize import LinearConstraint

SLOT_MIN = 15
#: How far ahead tasks are placed, h.
AHEAD_H = 48
#: What a quarter hour away from where a task stands costs, in W of sun: it settles ties only.
_NEARNESS = 1e-3


@dataclass(frozen=True)
class TaskBlock:
    """A task to be scheduled.

    Attributes
    ----------
    load : str
    index : int
        Index of the load's moment.
    stands : int
        Slot at which it starts now.
    watts : tuple of float
        W in each of its slots.
    allowed : tuple of int
        Slots at which it may start.
    alone : bool
        Whether no other movable task may run at the same time.
    """

    load: str
    index: int
    stands: int
    watts: tuple[float, ...]
    allowed: tuple[int, ...]
    alone: bool = False


@dataclass(frozen=True)
class Move:
    """A rescheduled task: minutes from the plan's start, before and after."""

    load: str
    index: int
    minute: int
    to_minute: int


def place(
    blocks: Sequence[TaskBlock], surplus_w: np.ndarray, room_w: np.ndarray
) -> list[int] | None:
    """Return the slots at which blocks start; None if they do not all fit.

    Parameters
    ----------
    blocks : sequence of TaskBlock
    surplus_w, room_w : ndarray, (slots,)
        Surplus power of the sources after the other loads, and power left below the limit, W.
    """
    from scipy.optimize import Bounds, milp

    if not blocks:
        return []
    if any(not block.allowed for block in blocks):
        return None
    starts = [(b, at) for b, block in enumerate(blocks) for at in block.allowed]
    count, slots = len(starts), len(surplus_w)
    # Variables: one for each start, then W met by surplus in each slot.
    near = [_NEARNESS * abs(at - blocks[b].stands) for b, at in starts]
    rows = _constraints(blocks, starts, room_w)
    solved = milp(
        np.concatenate([near, -np.ones(slots)]),
        constraints=rows.constraint(),
        options={"mip_rel_gap": 0.0},
        integrality=np.concatenate([np.ones(count), np.zeros(slots)]),
        bounds=Bounds(
            np.zeros(count + slots),
            np.concatenate([np.ones(count), np.maximum(0.0, surplus_w)]),
        ),
    )
    if solved.x is None:
        return None
    chosen = np.round(solved.x[:count]).astype(bool)
    return [at for (_, at), taken in zip(starts, chosen, strict=True) if taken]


class _Rows:
    """Rows of a sparse system of constraints, with lower and upper bounds."""

    def __init__(self, columns: int) -> None:
        self.columns = columns
        self.entries: list[tuple[int, int, float]] = []
        self.low: list[float] = []
        self.high: list[float] = []

    def add(self, entries: Sequence[tuple[int, float]], least: float, most: float) -> None:
        """Add a row: columns with their coefficients, and the bounds of their sum."""
        self.entries.extend((len(self.low), column, value) for column, value in entries)
        self.low.append(least)
        self.high.append(most)

    def constraint(self) -> LinearConstraint:
        from scipy.optimize import LinearConstraint
        from scipy.sparse import coo_array

        rows, columns, values = zip(*self.entries, strict=True)
        shape = (len(self.low), self.columns)
        matrix = coo_array((values, (rows, columns)), shape=shape).tocsr()
        return LinearConstraint(matrix, np.array(self.low), np.array(self.high))


def _constraints(
    blocks: Sequence[TaskBlock], starts: Sequence[tuple[int, int]], room_w: np.ndarray
) -> _Rows:
    """One start for each block; in each slot the limit, the surplus used, and blocks alone."""
    count, slots = len(starts), len(room_w)
    rows = _Rows(count + slots)
    for b in range(len(blocks)):
        rows.add([(n, 1.0) for n, (block, _) in enumerate(starts) if block == b], 1, 1)
    for slot, entries in enumerate(_watts_in_slots(blocks, starts, slots)):
        if not entries:
            rows.add([(count + slot, 1.0)], 0, 0)
            continue
        rows.add(entries, -np.inf, max(0.0, float(room_w[slot])))
        rows.add([*((n, -watts) for n, watts in entries), (count + slot, 1.0)], -np.inf, 0)
        for b in {starts[n][0] for n, _ in entries if blocks[starts[n][0]].alone}:
            # While a block that must run alone does, all others are kept out of the slot.
            size = float(len(blocks))
            kept = [(n, size if starts[n][0] == b else 1.0) for n, _ in entries]
            rows.add(kept, -np.inf, size)
    return rows


def _watts_in_slots(
    blocks: Sequence[TaskBlock], starts: Sequence[tuple[int, int]], slots: int
) -> list[list[tuple[int, float]]]:
    """For each slot, the starts that draw power in it, with their W."""
    in_slot: list[list[tuple[int, float]]] = [[] for _ in range(slots)]
    for n, (b, at) in enumerate(starts):
        for offset, watts in enumerate(blocks[b].watts[: slots - at]):
            in_slot[at + offset].append((n, watts))
    return in_slot


def propose(plan: Plan) -> list[Move]:
    """Return the moves of tasks that improve a plan.

    Raises
    ------
    DocumentError
        The tasks do not all fit into their permitted windows.
    """
    minutes = round(min(plan.hours, AHEAD_H) * 60)
    slots = minutes // SLOT_MIN
    blocks = [block for load in plan.loads for block in _blocks(load, plan, minutes)]
    if not blocks or slots < 1:
        return []
    surplus, room = _around(plan, minutes)
    at = place(blocks, surplus, room)
    if at is None:
        raise DocumentError("tasks", "they cannot all be placed under the limit: allow more hours")
    return [
        Move(block.load, block.index, block.stands * SLOT_MIN, to * SLOT_MIN)
        for block, to in zip(blocks, at, strict=True)
        if to != block.stands
    ]


def _is_movable(load: PlanLoad) -> bool:
    """Whether its tasks may be rescheduled: never those of a protected load."""
    return bool(load.use.steps and load.use.flexible) and not load.protected


def _blocks(load: PlanLoad, plan: Plan, minutes: int) -> list[TaskBlock]:
    """The tasks of a load that can be rescheduled."""
    if not _is_movable(load):
        return []
    watts = _slot_watts(load)
    allowed = in_windows(load.use.flexible, plan.start, minutes)
    length = math.ceil(load.use.task_min)
    blocks = []
    for index, moment in enumerate(load.use.moments):
        at = occurrences([moment], plan.start, minutes)
        if not at:
            continue
        horizon = minutes if isinstance(moment, datetime) else min(minutes, DAY_MIN)
        begins = tuple(
            slot
            for slot in range(horizon // SLOT_MIN)
            if slot * SLOT_MIN + length <= minutes
            and bool(allowed[slot * SLOT_MIN : slot * SLOT_MIN + length].all())
        )
        blocks.append(TaskBlock(load.name, index, at[0] // SLOT_MIN, watts, begins, load.use.alone))
    return blocks


def _slot_watts(load: PlanLoad) -> tuple[float, ...]:
    """Peak W of a task in each quarter hour."""
    ends = np.cumsum([step.minutes for step in load.use.steps])
    begins = ends - [step.minutes for step in load.use.steps]
    slot_watts = []
    for slot in range(math.ceil(ends[-1] / SLOT_MIN - 1e-9)):
        first, last = slot * SLOT_MIN, (slot + 1) * SLOT_MIN
        inside = [
            step.watts
            for step, begin, end in zip(load.use.steps, begins, ends, strict=True)
            if begin < last - 1e-9 and end > first + 1e-9
        ]
        slot_watts.append(max(inside))
    return tuple(slot_watts)


def _around(plan: Plan, minutes: int) -> tuple[np.ndarray, np.ndarray]:
    """Surplus power, and power left below the limit, W, in each quarter hour."""
    mean, most = np.zeros(minutes), np.zeros(minutes)
    inputs = likely(plan)
    for load in plan.loads:
        if _is_movable(load):
            continue
        for pattern in patterns_of(load, plan, minutes, inputs):
            mean += pattern.as_mean().power(0, minutes)[0]
            if load.route == AC:
                on = pattern.shape > 0
                most += on * load.draw.running_w
    offered = sum(
        (
            np.minimum(source.limit_w, source.power_w(plan.start, minutes))
            for source in plan.sources
            if not source.runs_down
        ),
        np.zeros(minutes),
    )
    inverter = plan.supply.inverter
    limit = inverter.continuous_w if inverter else 0.0
    passes = inverter.efficiency.value if inverter else 1.0
    slots = minutes // SLOT_MIN
    shape = (slots, SLOT_MIN)
    surplus = (offered * passes - mean)[: slots * SLOT_MIN].reshape(shape).mean(axis=1)
    room = (limit - most)[: slots * SLOT_MIN].reshape(shape).min(axis=1)
    return np.maximum(0.0, surplus), room


def moved(plan: Plan, moves: Sequence[Move]) -> Plan:
    """Return the plan with tasks rescheduled."""
    loads = []
    for load in plan.loads:
        mine = {move.index: move for move in moves if move.load == load.name}
        moments = tuple(
            shifted(moment, plan.start, mine[index].to_minute) if index in mine else moment
            for index, moment in enumerate(load.use.moments)
        )
        loads.append(replace(load, use=replace(load.use, moments=moments)))
    return replace(plan, loads=tuple(loads))


def shifted(moment: Moment, start: datetime, to_minute: int) -> Moment:
    """A moment shifted to a minute of the plan; a daily moment stays daily."""
    if isinstance(moment, datetime):
        return moment_after(start, to_minute / 60)
    return (start.hour * 60 + start.minute + to_minute) % DAY_MIN
