"""A count at the battery of everything that runs there: the sum of many small loads at once."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from needle.plan.energy.runs import counted_moves
from needle.plan.energy.simulate import Outcome
from needle.plan.load import PlanLoad
from needle.plan.run import COUNTED_ONLY, Run
from needle.round.candidate import COUNTER, TASK, TOGETHER, Candidate, Count
from needle.round.visit import Visit
from needle.supply.battery import usable_wh

#: Lengths of such a count that are looked at, h: an hour of what cycles says little.
_TOGETHER_H = (2.0, 3.0, 6.0, 12.0, 24.0)
#: One's own minutes: to put everything on the supply and reset the counter, and to read it.
_BEGIN_MIN, _END_MIN = 10.0, 3.0
#: Fewest loads for which it says more than a counter before one of them.
_FEWEST = 2
#: Most of what the battery gives that is used for it.
_MOST_USED = 0.7


def together(outcome: Outcome, visit: Visit, loads: Sequence[PlanLoad]) -> Iterator[Candidate]:
    """Possible counts of all loads that run permanently, on the supply alone, by a shunt.

    ``loads``: those of the plan that may be unplugged; protected loads are still not moved. Empty
    while the plan runs, or if it may begin before the battery is full again.
    """
    shunts = [meter for meter in visit.meters if meter.instrument.key == "shunt"]
    steady = [
        load for load in loads if not (load.use.windows or load.use.by_moments or load.protected)
    ]
    if not shunts or len(steady) < _FEWEST or not visit.leaves_battery(outcome.plan):
        return
    names = tuple(load.name for load in steady)
    most_wh = _MOST_USED * usable_wh(outcome.plan.supply.battery).value
    rest_h = (visit.minutes - _BEGIN_MIN - _END_MIN) // 15 / 4
    for hours in sorted({*_TOGETHER_H, rest_h}):
        run = Run(hours, 1.0, 1.0, COUNTED_ONLY, tuple(steady), at=visit.begins)
        moves, spread, wh = counted_moves(outcome.plan, run)
        if hours >= _TOGETHER_H[0] and wh <= most_wh:
            yield Candidate(
                TOGETHER,
                "",
                "shunt",
                hours * 60 + _BEGIN_MIN + _END_MIN,
                _BEGIN_MIN,
                _END_MIN,
                {},
                count=Count(names, moves, spread),
            )


def disturbs(candidate: Candidate, count: Count) -> bool:
    """Whether a measurement runs another load for long during such a count."""
    runs_long = candidate.what in (COUNTER, TASK)
    return runs_long and candidate.subject not in count.loads
