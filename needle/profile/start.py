"""Start-up VA of a load."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from statistics import NormalDist

from needle.estimate import DEFAULT_SPREAD, Z90, Estimate, from_limits, product
from needle.measure.readings import Start
from needle.message import Message, message
from needle.profile.kinds import Kind
from needle.profile.states import repeated_spread


def start_va(
    starts: Sequence[Start],
    running_va: Estimate,
    kind: Kind,
    power_factor: float,
    mains_v: float,
) -> tuple[Estimate, list[Message]]:
    """Start-up VA: from a clamp's inrush reading, else running VA times the kind's factor.

    The highest clamp reading counts, since starts depend on the moment of switching. A reading of a
    slow meter or logger is a lower bound on the kind's factor, and never replaces it.

    Returns
    -------
    start : Estimate
        VA, never below running VA.
    notices : list of Message
    """
    read = [(_va(start, power_factor, mains_v), start) for start in starts]
    quick = sorted(
        ((va, start) for va, start in read if not is_slow(start)), key=lambda pair: pair[0]
    )
    slow = max((va for va, start in read if is_slow(start)), default=0.0)
    if not quick:
        return _general(running_va, kind, slow)
    values = [va for va, _ in quick]
    meter = quick[-1][1].context.meter()
    accuracy = meter.relative_sd("amps", values[-1] / mains_v)
    spread = repeated_spread(values, accuracy, DEFAULT_SPREAD["B"])
    how = message("start-read", va=values[-1], meter=meter.words)
    start = Estimate(max(values[-1], running_va.value, slow), spread, "B", (how,))
    return start, _odd_start(values[-1] / max(running_va.value, 1e-9), kind)


#: Time of a clamp's inrush mode, s.
INRUSH_S = 0.1
#: Times the running VA under which no start of a motor, and over which none at all, is believed
#: without a notice.
LEAST_START, MOST_START = 1.2, 12.0


def _odd_start(times: float, kind: Kind) -> list[Message]:
    """Notice on a start with an unusual ratio to the running VA; empty if it is usual."""
    if times < LEAST_START and kind.start_factor[0] >= LEAST_START:
        return [
            message(
                "start-low",
                times=times,
                kind=kind.one,
                low=kind.start_factor[0],
                high=kind.start_factor[2],
            )
        ]
    if times > max(MOST_START, kind.start_factor[2]):
        return [message("start-high", times=times)]
    return []


def is_slow(start: Start) -> bool:
    """Whether a start reading may have missed the peak.

    Amps or VA without a meter are from an inrush clamp; W are from slower meters.
    """
    if not start.context.instrument and start.context.own is None:
        return start.watts is not None
    return not start.context.meter().fast_inrush


def _general(running_va: Estimate, kind: Kind, slow_va: float) -> tuple[Estimate, list[Message]]:
    """The kind's usual start-up VA, with a slow meter's reading as its lower bound."""
    low, _, high = kind.start_factor
    how = message("start-usual", kind=kind.one, low=low, high=high)
    usual = product(running_va, from_limits(*kind.start_factor), (how,))
    if slow_va <= 0:
        return usual, []
    note = message("start-at-least", va=slow_va)
    if slow_va <= usual.low:
        return usual, [note]
    # The middle and the high end of what is left of a log-normal above the bound.
    sigma, normal = usual.sigma_log, NormalDist()
    below = normal.cdf(math.log(slow_va / usual.value) / sigma) if sigma > 0 else 1.0
    if below > 0.98:
        seen = message("start-seen-slow", va=slow_va)
        return Estimate(slow_va * 1.1, DEFAULT_SPREAD["C"], "C", (seen,)), [note]
    middle, top = (normal.inv_cdf(below + share * (1 - below)) for share in (0.5, 0.9))
    value = usual.value * math.exp(sigma * middle)
    spread = math.sqrt(math.expm1((sigma * (top - middle) / Z90) ** 2))
    seen = message("start-bound", va=slow_va)
    return replace(usual, value=value, spread=spread, how=(how, seen)), [note]


def _va(start: Start, power_factor: float, mains_v: float) -> float:
    if start.va is not None:
        return start.va
    if start.amps is not None:
        return start.amps * (start.volts or mains_v)
    return (start.watts or 0.0) / power_factor


def start_seconds(starts: Sequence[Start], kind: Kind) -> float:
    """Longest measured start in s, or the kind's usual duration.

    A start that was read is an RMS over the time of the meter's inrush mode, at least.
    """
    timed = [start.seconds for start in starts if start.seconds]
    if timed:
        return max(timed)
    return max(kind.start_s, INRUSH_S) if starts else kind.start_s
