"""Will it start, with everything else already running?"""

from __future__ import annotations

from dataclasses import dataclass

from needle.quantity import with_unit
from needle.supply.inverter import Inverter

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


#: Order from best to worst, for "the worst of these".
RANK = {"holds": 0, "grey": 1, "trips": 2}
