"""Whether a load starts, with everything else already running."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from needle.message import Message, message
from needle.quantity import MOST_DC_V
from needle.supply.battery import Battery
from needle.supply.inverter import Inverter
from needle.supply.voltage import most_w, open_circuit_v

#: Over the surge rating by less than this factor a short start may still succeed.
GREY_FACTOR = 2.0
#: A start shorter than this (s) is short.
SHORT_S = 0.5


#: From this chance on a start holds, and is likely to; below the last it trips.
HOLDS, LIKELY, TRIPS = 0.9, 0.5, 0.1
#: Share of a start's VA that is true power: most of a motor's inrush is reactive (general value).
START_REAL = 0.5
#: Volts of a load and of what feeds it that are this near each other fit (relative).
SAME_VOLTS = 0.15


@dataclass(frozen=True)
class StartTried:
    """A start test on this inverter.

    Attributes
    ----------
    result : str
        Key of :data:`TESTED`.
    beside_w : float
        Power of the other loads then, W: up to these the test settles the start, with more it is
        computed.
    times : int
        Number of tries.
    ran_s : float or None
        How long it then ran with the other loads, s; None if not observed.
    """

    result: str
    beside_w: float = 0.0
    times: int = 1
    ran_s: float | None = None

    @property
    def ran(self) -> bool:
        return TESTED[self.result] != "trips"

    def settles(self, others_w: float) -> bool:
        """Whether it settles a start with these W of other loads."""
        return others_w <= self.settled_w if self.ran else others_w >= self.settled_w

    @property
    def settled_w(self) -> float:
        """Power of other loads up to which it settles the start, W, within the accuracy of W."""
        return self.beside_w * 1.02 + 5 if self.ran else self.beside_w * 0.98


def required_va(
    start_va: np.ndarray | float,
    factor: float | None,
    watts: np.ndarray | float,
    nonactive_va: np.ndarray | float,
    plain_w: np.ndarray | float = 0.0,
) -> np.ndarray:
    """VA during a start together with other loads, as vectors if power factors are known.

    Parameters
    ----------
    start_va : ndarray or float
    factor : float or None
        Power factor of the start; None if unknown, then its VA are added as they are.
    watts, nonactive_va : ndarray or float
        W and non-active VA of other loads with a known power factor.
    plain_w : ndarray or float
        W of other loads without one, which are added as they are.
    """
    if factor is None:
        return np.hypot(watts, nonactive_va) + start_va + plain_w
    real = start_va * factor
    reactive = start_va * math.sqrt(1 - factor**2)
    return np.hypot(watts + real, nonactive_va + reactive) + plain_w


def start_factor(power_factor: float | None) -> float | None:
    """Power factor during a start, from that of running: a resistance keeps its own."""
    if power_factor is None:
        return None
    return power_factor if power_factor > 0.97 else min(power_factor, START_REAL)


#: Time over which an inverter's surge rating is judged, s: a shorter inrush counts by its energy in
#: that time (general value; the inrush mode of clamp meters has the same).
SURGE_S = 0.1


def surge_va(start_va: float, start_s: float, running_va: float) -> float:
    """Start-up VA as an inverter feels it: a peak of milliseconds counts by its energy.

    Parameters
    ----------
    start_va : float
        Highest VA of the start.
    start_s : float
        Its duration, s.
    running_va : float
        VA while running, the least that counts.
    """
    if start_s >= SURGE_S:
        return max(start_va, running_va)
    share = start_s / SURGE_S
    return max(running_va, share * start_va + (1 - share) * running_va)


def carried_va(
    inverter: Inverter,
    start_va: np.ndarray | float,
    start_s: float,
    grey: np.ndarray | float,
    tried: StartTried | None = None,
) -> np.ndarray:
    """VA above which a start trips.

    A short start above the surge rating is grey: up to :data:`GREY_FACTOR` times the rating it may
    still start, decided by ``grey`` (a rank between 0 and 1). A test moves the limit to its result.
    """
    limit = rating_va(inverter, start_s) * times_rating(start_s, np.asarray(grey))
    if tried is None:
        return limit
    if tried.ran:
        return np.maximum(limit, (start_va + tried.settled_w) * 1.001)
    # As vectors, start plus half of the W is the least possible sum.
    return np.minimum(limit, (start_va + tried.settled_w / 2) * 0.999)


def rating_va(inverter: Inverter, start_s: float) -> float:
    """The rating that a start of this length has to stay within, VA."""
    return inverter.surge_va if start_s <= inverter.surge_s else inverter.continuous_va


def times_rating(start_s: float, grey: np.ndarray) -> np.ndarray:
    """How many times that rating a start may ask for, by its rank among the grey ones."""
    return 1 + ((GREY_FACTOR - 1) * grey if start_s < SHORT_S else 0 * grey)


#: Share of its draws that a start must leave to a test, so that the test tells what the start is;
#: with fewer, its overload limit is higher or lower than its rating says.
_LEAST_LEFT = 0.02


def start_as_tried(
    start_va: np.ndarray, limit_va: np.ndarray, tried: StartTried | None
) -> np.ndarray:
    """Start-up VA in every draw, conditioned on a start test on an inverter, (draws,).

    A start that held with some W of other loads drew no more than the rest of the inverter's limit,
    one that tripped drew more: each draw keeps its rank within this range.

    Parameters
    ----------
    start_va : ndarray, (draws,)
    limit_va : ndarray, (draws,)
        Limit of the inverter at a start without the test (:func:`carried_va`), VA.
    tried : StartTried or None
    """
    if tried is None or len(start_va) < 2:
        return start_va
    ordered = np.sort(start_va)
    ranks = (np.argsort(np.argsort(start_va)) + 0.5) / len(start_va)
    # As vectors, the sum lies between start plus half of the W, and the plain sum.
    bound = limit_va - (tried.beside_w if tried.ran else tried.beside_w / 2)
    below = np.searchsorted(ordered, bound, side="right") / len(start_va)
    if tried.ran:
        tells, places = below >= _LEAST_LEFT, ranks * below
    else:
        tells, places = below <= 1 - _LEAST_LEFT, below + ranks * (1 - below)
    at = np.clip(places, 0.0, 1.0) * (len(ordered) - 1)
    return np.where(tells, np.interp(at, np.arange(len(ordered)), ordered), start_va)


def overload_as_tried(
    inverter: Inverter, ran: Sequence[tuple[float, float, bool]]
) -> tuple[tuple[float, float], ...]:
    """An inverter's overload curve, corrected by observations.

    Parameters
    ----------
    inverter : Inverter
    ran : sequence of (W, s, whether it then tripped)
        Running sums above the continuous rating, and how long they ran.
    """
    curve = list(inverter.overload)
    for watts, seconds, tripped in sorted(ran):
        ratio = watts / inverter.continuous_w
        if ratio <= 1 or seconds <= 0:
            continue
        carried = next((s for point, s in curve if point >= ratio), 0.0)
        if carried < seconds:
            # It supplied this for that time, and so anything less.
            curve = [
                (point, max(s, seconds)) if point < ratio else (point, s) for point, s in curve
            ]
            curve = sorted([*((p, s) for p, s in curve if p != ratio), (ratio, seconds)])
        if tripped:
            curve = [
                (point, min(s, seconds)) if point >= ratio else (point, s) for point, s in curve
            ]
    return tuple(curve)


def fits_volts(load_v: float | None, inverter: Inverter) -> bool:
    """Whether an inverter has the voltage that a load needs; one of low DC has an adapter there."""
    if load_v is None or load_v <= MOST_DC_V or inverter.volts is None:
        return True
    return abs(load_v / inverter.volts - 1) <= SAME_VOLTS


def word_by_odds(computed: str, chance: float) -> str:
    """The word of a computed verdict, corrected by the chance over draws."""
    if chance < TRIPS:
        return "trips"
    if (computed == "holds" and chance < HOLDS) or computed == "trips":
        return "grey"
    return computed


@dataclass(frozen=True)
class Verdict:
    """Whether a load starts.

    Attributes
    ----------
    verdict : str
        ``"holds"``, ``"grey"`` or ``"trips"``.
    limit_va : float
        The rating that applies, VA.
    margin_va : float
        Margin below the rating, VA; negative if exceeded.
    reason : Message
    chance : float or None
        Share of draws in which it starts, if drawn.
    """

    verdict: str
    limit_va: float
    margin_va: float
    reason: Message
    chance: float | None = None


def will_it_start(
    start_va: float, start_s: float, running_w: float, others_w: float, inverter: Inverter
) -> Verdict:
    """Return the verdict on one start.

    Parameters
    ----------
    start_va : float
        Start-up VA.
    start_s : float
        Duration of the start-up surge, s.
    running_w : float
        Running W.
    others_w : float
        W of everything that already runs.
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
    if running_sum > continuous * inverter.most_times:
        reason = message("over-continuous", watts=running_sum, carried_w=continuous)
        return Verdict("trips", continuous, -over, reason)
    start = _judge_start(start_va + others_w, start_s, inverter)
    if over <= 0 or start.verdict == "trips":
        return start
    seconds = next(s for ratio, s in inverter.overload if running_sum <= continuous * ratio)
    reason = message("carried-for-seconds", watts=running_sum, over_w=over, seconds=seconds)
    return Verdict("grey", continuous, -over, reason)


def _judge_start(total_va: float, start_s: float, inverter: Inverter) -> Verdict:
    """Verdict on the surge alone: total VA against the surge rating."""
    long = start_s > inverter.surge_s
    limit = inverter.continuous_w if long else inverter.surge_va
    margin = limit - total_va
    if margin >= 0:
        return Verdict("holds", limit, margin, message("surge-left", va=margin))
    reason = message("over-surge-long" if long else "over-surge", va=-margin, seconds=start_s)
    if total_va < GREY_FACTOR * limit and start_s < SHORT_S:
        return Verdict("grey", limit, margin, message(TEST_IT, why=reason))
    return Verdict("trips", limit, margin, reason)


#: Code of a reason that asks for a test.
TEST_IT = "may-dip-test-it"
#: What came of a start that was tried on this very inverter, and the verdict that it is.
TESTED = {"held": "holds", "complained": "grey", "tripped": "trips", "refused": "trips"}


def as_tested(computed: Verdict, tried: StartTried, others_w: float = 0.0) -> Verdict:
    """The verdict of a start test if it settles this start; the margin is unchanged.

    Parameters
    ----------
    computed : Verdict
    tried : StartTried
    others_w : float
        W of the other loads now.
    """
    verdict = TESTED[tried.result]
    observed = message("start-tested", result=tried.result, times=tried.times)
    if not tried.settles(others_w):
        why = computed.reason
        if why.code == TEST_IT:
            why = replace(why, code="may-dip")
        reason = message("tested-beside", why=why, tested=observed, beside_w=tried.beside_w)
        return replace(computed, reason=reason)
    reason = observed
    if verdict != computed.verdict:
        reason = message("tested-against-figures", tested=observed, computed=computed.verdict)
    return replace(computed, verdict=verdict, reason=reason, chance=None)


def holds_above(
    start_va: float, running_w: float, others_w: float, battery: Battery, inverter: Inverter
) -> float | None:
    """Charge (share) below which a start pulls the battery's voltage under its cut-off.

    A start needs, from the battery, the power of the others, and half of its VA or its running W,
    whichever is more. None if voltage sag is not simulated; 0 if any charge is enough; 1 if none
    is.
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
