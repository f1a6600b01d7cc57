"""When plans end: several at a time, in the same random draws.

Plans that differ in their loads only, as a plan and its changes do, are worked out together: what
their loads have in common is computed once, and their batteries advance as one.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from needle.plan.draws.shared import SharedPatterns
from needle.plan.energy.bank import BLOCK, MINUTES_PER_HOUR, Bank, stacked
from needle.plan.energy.battery_draws import battery_draws
from needle.plan.energy.battery_side import other_wh
from needle.plan.energy.demand import Block, Demand
from needle.plan.plan import Plan


@dataclass(frozen=True)
class Failures:
    """First failure of each draw, (draws,) each: minute (infinite: none), reason, load.

    Reasons are those of :class:`needle.plan.verdict.Failure`; the load is empty if the supply
    stops.
    """

    minute: np.ndarray
    why: np.ndarray
    load: np.ndarray


@dataclass(frozen=True)
class Ends:
    """When each draw of a plan first stops and first fails, (draws,) each; infinite if never.

    Attributes
    ----------
    stops_h : ndarray
        Hours to the supply's first stop; the plan's hours if there is none.
    fails_h : ndarray
        Hours to the first failure of anything that must or should run.
    failures_by_load : dict
        As :attr:`needle.plan.energy.simulate.Outcome.failures_by_load`, min; of the needed hours
        only.
    """

    stops_h: np.ndarray
    fails_h: np.ndarray
    failures_by_load: dict[str, np.ndarray]


def first_ends(plans: Sequence[Plan], draws: int, seed: int = 1) -> list[Ends]:
    """Return when each plan's draws end, as :func:`needle.plan.energy.simulate.simulate` would.

    Parameters
    ----------
    plans : sequence of Plan
    draws : int
        Number of draws of each plan.
    seed : int
        Seed of the random streams; the same seed gives the same answer.
    """
    groups: dict[Any, list[int]] = {}
    for number, plan in enumerate(plans):
        groups.setdefault(_beside_loads(plan), []).append(number)
    ends: dict[int, Ends] = {}
    for numbers in groups.values():
        shared = SharedPatterns()
        runs = [
            _Run(plans[number], Demand(plans[number], draws, seed, shared)) for number in numbers
        ]
        _advance(runs)
        ends |= {number: run.ends() for number, run in zip(numbers, runs, strict=True)}
    return [ends[number] for number in range(len(plans))]


def first_failures(bank: Bank, demand: Demand) -> Failures:
    """First failure of each draw: a stop, a drop, or a load that must run without power."""
    minute, why, load = demand.first_failures()
    stops = bank.stop_min <= minute
    minute[stops] = bank.stop_min[stops]
    why[stops] = np.where(bank.cut_off, "cutoff", "empty")[stops]
    load[stops] = ""
    return Failures(minute, why, load)


def _beside_loads(plan: Plan) -> tuple[Any, ...]:
    """What must be equal if batteries are to advance as one."""
    room = plan.room_c, plan.room_swing_c
    return plan.hours, plan.start, *room, plan.supply.battery, plan.sources


class _Run:
    """A plan on its battery, in every draw."""

    def __init__(self, plan: Plan, demand: Demand) -> None:
        self.plan, self.demand = plan, demand
        self.blocks: Iterator[Block] = demand.blocks()
        drawn = battery_draws(demand.plan, demand.inputs)
        self.bank = Bank(demand.plan, drawn, demand.minutes, other_wh(plan))

    def is_over(self, minute: int) -> bool:
        """Whether later stops and failures are not asked for."""
        needed_min = self.plan.needed_hours * MINUTES_PER_HOUR
        return minute >= needed_min and bool(np.isfinite(self.bank.stop_min).all())

    def ends(self) -> Ends:
        return Ends(
            np.minimum(self.plan.hours, self.bank.stop_min / MINUTES_PER_HOUR),
            first_failures(self.bank, self.demand).minute / MINUTES_PER_HOUR,
            self.demand.failures_by_load(),
        )


def _advance(runs: Sequence[_Run]) -> None:
    """Advance plans that differ in their loads only, until each is over."""
    for first in range(0, runs[0].demand.minutes, BLOCK):
        running = [run for run in runs if not run.is_over(first)]
        if not running:
            break
        block = _block_of([next(run.blocks) for run in running])
        bank = stacked([run.bank for run in running])
        # What a battery does after its first stop is not asked for.
        going = np.flatnonzero(np.isinf(bank.stop_min))
        part = bank.take(going)
        block.take(going).apply_to(part)
        bank.put(going, part)
        ends = np.cumsum([len(run.bank.charge) for run in running])
        for run, rows in zip(running, np.split(np.arange(ends[-1]), ends[:-1]), strict=True):
            run.bank = bank.take(rows)


def _block_of(blocks: Sequence[Block]) -> Block:
    """The same minutes of several plans as one block, the draws of the first plan first."""
    shape = blocks[0].drawn_w.shape

    def stack(parts: Sequence[np.ndarray | None]) -> np.ndarray | None:
        if all(part is None for part in parts):
            return None
        return np.concatenate(
            [np.broadcast_to(0.0 if part is None else part, shape) for part in parts]
        )

    drawn_w = stack([block.drawn_w for block in blocks])
    assert drawn_w is not None
    return Block(
        blocks[0].first,
        {},
        drawn_w,
        stack([block.starts_w for block in blocks]),
        stack([block.sources_w for block in blocks]),
        blocks[0].other_w,
    )
