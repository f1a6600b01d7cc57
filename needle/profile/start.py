"""Start VA: how much a load draws in its first moments."""

from __future__ import annotations

from collections.abc import Sequence

from needle.estimate import DEFAULT_SPREAD, Estimate, from_limits, product
from needle.measure.readings import Start
from needle.profile.kinds import Kind
from needle.profile.states import repeated_spread
from needle.quantity import with_unit


def start_va(
    starts: Sequence[Start],
    running_va: Estimate,
    kind: Kind,
    power_factor: float,
    mains_v: float,
) -> tuple[Estimate, list[str]]:
    """Start VA, in order of trust: clamp inrush, logged peak, running VA times the kind's factor.

    The highest reading of the best kind counts, since starts vary with the moment of switching.

    Returns
    -------
    start : Estimate
        VA, never below running VA.
    notices : list of str
    """
    candidates: list[tuple[str, float, Start]] = []
    for start in starts:
        va = _va(start, power_factor, mains_v)
        slow = start.context.meter().key in ("plug", "logger", "display")
        candidates.append(("C" if slow else "B", va, start))
    if not candidates:
        factor = from_limits(*kind.start_factor, "")
        low, _, high = kind.start_factor
        how = f"no start measured: {kind.one} draws {low:g} to {high:g} times its running VA"
        return product(running_va, factor, (how,)), []
    grade = min(candidate[0] for candidate in candidates)
    best = sorted(va for found_grade, va, _ in candidates if found_grade == grade)
    meter = next(s.context.meter() for g, va, s in candidates if g == grade and va == best[-1])
    spread = repeated_spread(
        best, meter.relative_sd("amps", best[-1] / mains_v), DEFAULT_SPREAD["B"]
    )
    notices = []
    if grade == "C":
        spread = max(spread, DEFAULT_SPREAD["C"])
        notices.append(
            f"The start was read on a {meter.name}, which is blind to starts shorter than about a "
            "second: the true peak may be higher."
        )
    value = max(best[-1], running_va.value)
    how = f"start {with_unit(best[-1], 'VA')} read on a {meter.name}"
    return Estimate(value, spread, grade, (how,)), notices


def _va(start: Start, power_factor: float, mains_v: float) -> float:
    if start.va is not None:
        return start.va
    if start.amps is not None:
        return start.amps * (start.volts or mains_v)
    return (start.watts or 0.0) / power_factor


def start_seconds(starts: Sequence[Start], kind: Kind) -> float:
    """The longest start timed, in s, or the kind's usual length."""
    timed = [start.seconds for start in starts if start.seconds]
    return max(timed) if timed else kind.start_s
