"""Will it start, with everything else already running?"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from needle.quantity import with_unit
from needle.supply.battery import Battery
from needle.supply.inverter import Inverter
from needle.supply.voltage import most_w, open_circuit_v

#: Over the surge rating by less than this factor a short start may still succeed.
GREY_FACTOR = 2.0
#: A start shorter than this (s) is short.
SHORT_S = 0.5


@dataclass(frozen=True)
class Verdict:
    """Whether a load starts.

    Attributes
    ----------
    verdict : str
        ``"holds"``, ``"grey"`` or ``"trips"``.
    limit_va : float
        The rating it was held against, VA.
    margin_va : float
        What is left under it; negative when over, VA.
    reason : str
        In words.
    """

    verdict: str
    limit_va: float
    margin_va: float
    reason: str


def will_it_start(
    start_va: float, start_s: float, running_w: float, others_w: float, inverter: Inverter
) -> Verdict:
    """Judge one start.

    Parameters
    ----------
    start_va : float
        VA in the first moments.
    start_s : float
        How long they last, s.
    running_w : float
        W once it runs.
    others_w : float
        W of all that already runs.
    inverter : Inverter

    Notes
    -----
    *holds*: start + others within the surge rating and the running sum within the continuous one.
    *grey*: over the surge rating but under twice it and shorter than 0.5 s, or a running sum that
    only the overload curve carries. *trips*: beyond that. Others count in W beside VA of the start,
    as a start's current is mostly reactive.
    """
    running_sum = others_w + running_w
    continuous = inverter.continuous_w
    over = running_sum - continuous
    top = inverter.overload[-1][0] if inverter.overload else 1.0
    if running_sum > continuous * top:
        carried = with_unit(continuous, "W")
        reason = f"{with_unit(running_sum, 'W')} running is over the {carried} it carries"
        return Verdict("trips", continuous, -over, reason)
    start = _judge_start(start_va + others_w, start_s, inverter)
    if over <= 0 or start.verdict == "trips":
        return start
    seconds = next(s for ratio, s in inverter.overload if running_sum <= continuous * ratio)
    reason = (
        f"{with_unit(running_sum, 'W')} running is {with_unit(over, 'W')} over; it is carried "
        f"for {seconds:g} s only"
    )
    return Verdict("grey", continuous, -over, reason)


def _judge_start(total_va: float, start_s: float, inverter: Inverter) -> Verdict:
    """The first moments alone: all that is asked for, VA, against the surge rating."""
    long = start_s > inverter.surge_s
    limit = inverter.continuous_w if long else inverter.surge_va
    margin = limit - total_va
    if margin >= 0:
        return Verdict("holds", limit, margin, f"{with_unit(margin, 'VA')} left")
    words = f"{with_unit(-margin, 'VA')} over the surge rating, for {start_s:g} s"
    if long:
        words = f"{with_unit(-margin, 'VA')} over, for {start_s:g} s: longer than its surge rating"
    if total_va < GREY_FACTOR * limit and start_s < SHORT_S:
        reason = f"{words}: its voltage may dip and still start it; test it"
        return Verdict("grey", limit, margin, reason)
    return Verdict("trips", limit, margin, words)


#: What came of a start that was tried on this very inverter, and the verdict that it is.
TESTED = {
    "held": ("holds", "tested: it held"),
    "complained": ("grey", "tested: it complained, then ran"),
    "tripped": ("trips", "tested: it tripped"),
    "refused": ("trips", "tested: the load refused to start"),
}


def as_tested(computed: Verdict, result: str) -> Verdict:
    """The verdict of a start test, which overrules what was computed; the margin stays as it was.

    Parameters
    ----------
    computed : Verdict
    result : str
        Key of :data:`TESTED`.
    """
    verdict, observed = TESTED[result]
    reason = (
        observed
        if verdict == computed.verdict
        else f"{observed}; by the numbers it {_by(computed)}"
    )
    return Verdict(verdict, computed.limit_va, computed.margin_va, reason)


def _by(computed: Verdict) -> str:
    return "would be grey" if computed.verdict == "grey" else computed.verdict


#: Share of a start's VA that is true power: most of a motor's inrush is reactive (general value).
START_REAL = 0.5


def battery_amps(watts: float, battery: Battery) -> float | None:
    """A out of the battery for W at its terminals, at its nominal V; None without V."""
    return None if battery.volts is None else watts / battery.volts


def holds_above(
    start_va: float, running_w: float, others_w: float, battery: Battery, inverter: Inverter
) -> float | None:
    """Charge (share) below which a start pulls the battery under its cut-off.

    A start asks the battery for the others, and for half of its VA or its running W, whichever is
    more. None where sag is not known; 0 where any charge will do; 1 where none does.
    """
    if battery.internal_ohm is None or battery.cutoff_v is None or battery.volts is None:
        return None
    ac_w = others_w + max(running_w, START_REAL * start_va)
    asked = inverter.idle_w.value + ac_w / inverter.efficiency.value
    charges = np.linspace(0.0, 1.0, 1001)
    rested = open_circuit_v(battery.chemistry, battery.volts, charges)
    enough = most_w(rested, battery.internal_ohm.value, battery.cutoff_v) >= asked
    return float(charges[enough.argmax()]) if enough.any() else 1.0


#: Order from best to worst, for "the worst of these".
RANK = {"holds": 0, "grey": 1, "trips": 2}
