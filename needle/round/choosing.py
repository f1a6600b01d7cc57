"""Selection of measurements for a visit: the value of each, and the best combination."""

from __future__ import annotations

from collections.abc import Sequence

from needle.plan.draws.inputs import InputKey
from needle.plan.energy.simulate import Outcome
from needle.round.candidate import Candidate, Count, combined
from needle.round.of_all import disturbs
from needle.round.schedule import Choice, at_most, choose
from needle.round.visit import Visit
from needle.round.worth import Worth

#: A measurement that takes less of what the best of all would leave of the variance is not worth
#: one's time; least remainder after the best of all.
_LEAST_SHARE, _LEAST_LEFT = 0.015, 0.05
#: Additional share of the variance that a count of several loads together must remove:
#: everything is put on the supply for it.
_TOGETHER_TAKES = 0.02
#: Additional gain for which a longer count is considered.
_LONGER_SAYS = 1.08
#: What settling a start that is as open as can be is worth, as a share of the whole variance.
_START_WORTH = 0.5
#: Relative spread under which a mean is metered well enough for grade B.
GRADE_B_SPREAD = 0.10


def best_choice(
    offered: Sequence[Candidate], worth: Worth, outcome: Outcome, visit: Visit
) -> Choice:
    """Return the best combination, with or without a count of several loads together.

    The value of other measurements depends on such a count, which covers a part of each; so the
    selection is repeated for each duration of the count, and the value of a combination is computed
    jointly.
    """
    alone = [candidate for candidate in offered if candidate.count is None]
    best = _chosen(alone, worth, outcome, visit)
    if visit.target == "grades":
        return best
    most = _joint_worth(best, worth) + _TOGETHER_TAKES
    for counted in (candidate for candidate in offered if candidate.count is not None):
        choice = _chosen_beside(counted, alone, worth, outcome, visit)
        if _joint_worth(choice, worth) > most:
            best, most = choice, _joint_worth(choice, worth)
    return best


def _chosen(
    offered: Sequence[Candidate],
    worth: Worth,
    outcome: Outcome,
    visit: Visit,
    beside: Count | None = None,
) -> Choice:
    worths = [_worth(candidate, worth, outcome, visit, beside) for candidate in offered]
    return choose(visit, *_worthwhile(offered, worths))


def _chosen_beside(
    counted: Candidate, alone: Sequence[Candidate], worth: Worth, outcome: Outcome, visit: Visit
) -> Choice:
    count = counted.count
    assert count is not None
    fitting = [candidate for candidate in alone if not disturbs(candidate, count)]
    return _chosen([counted, *fitting], worth, outcome, visit, count)


def _joint_worth(choice: Choice, worth: Worth) -> float:
    """Joint value of a combination: what its knowledge is worth, plus the starts it settles."""
    known: dict[InputKey, float] = {}
    for placed in choice.placed:
        known = combined(known, placed.candidate.leaves)
    settled = sum(_settled(placed.candidate) for placed in choice.placed)
    count = count_of([placed.candidate for placed in choice.placed])
    return worth.gained(known, count) + settled


def count_of(measured: Sequence[Candidate]) -> Count | None:
    """The count of several loads together among measurements; None if there is none."""
    return next((candidate.count for candidate in measured if candidate.count), None)


def _worth(
    candidate: Candidate, worth: Worth, outcome: Outcome, visit: Visit, beside: Count | None
) -> float:
    """Value of a measurement together with a count, as a share of the total possible."""
    if visit.target == "grades":
        return _towards_grade_b(candidate, outcome)
    if candidate.count is not None:
        return worth.gained({}, candidate.count)
    told = worth.gained({}, beside) if beside else 0.0
    return worth.gained(candidate.leaves, beside) - told + _settled(candidate)


def _settled(candidate: Candidate) -> float:
    """Value of settling an uncertain start."""
    chance = candidate.open_chance
    return _START_WORTH * 4 * chance * (1 - chance)


def _towards_grade_b(candidate: Candidate, outcome: Outcome) -> float:
    """1 if it brings a load's mean to grade B, less if it only brings it nearer."""
    nearer = 0.0
    for key, rest in candidate.leaves.items():
        spread = outcome.inputs.spreads.get(key, 0.0)
        if key.name != candidate.subject or spread <= GRADE_B_SPREAD:
            continue
        after = max(spread * rest, GRADE_B_SPREAD)
        nearer = max(nearer, (spread - after) / (spread - GRADE_B_SPREAD))
    return nearer if candidate.subject else 0.0


def _worthwhile(
    offered: Sequence[Candidate], worths: Sequence[float]
) -> tuple[list[Candidate], list[float]]:
    """Measurements that are worth the time; of two of a kind, the longer only if it adds more."""
    least = _LEAST_SHARE * max(_LEAST_LEFT, 1 - at_most(offered, worths))
    kept: list[tuple[Candidate, float]] = []
    pairs = sorted(zip(offered, worths, strict=True), key=lambda pair: pair[0].meter_min)
    for candidate, value in pairs:
        shorter = [known for earlier, known in kept if earlier.key == candidate.key]
        if value > least and value > max(shorter, default=0.0) * _LONGER_SAYS:
            kept.append((candidate, value))
    return [candidate for candidate, _ in kept], [value for _, value in kept]
