"""The one verdict on a plan: whether it holds, at which odds, and what fails first.

In a draw a plan holds when, from its start to the hours needed, every load that must or should run
gets all that it wants: no stop, no drop, no failed start. Loads that are nice to have may be
dropped. Every page, the sheet and the headless command word this object.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

import numpy as np

from needle.plan.simulate import Outcome

#: From even odds on a plan is likely; below, it does not hold.
LIKELY = 0.5
#: Troubles that no battery mends.
NOT_OF_BATTERY = ("overload", "start", "output", "volts", "rest")


@dataclass(frozen=True)
class Trouble:
    """What fails first.

    Attributes
    ----------
    why : str
        ``"empty"``, ``"cutoff"``, ``"overload"``, ``"start"``, ``"output"``, ``"volts"`` (others
        than it is given), or ``"rest"`` (what must run has none while the inverter rests).
    load : str
        That is dropped; empty where the supply stops.
    minute : int
        Median of the draws where it comes first.
    chance : float
        Share of all draws where it does, within the hours needed.
    """

    why: str
    load: str
    minute: int
    chance: float


@dataclass(frozen=True)
class Verdict:
    """Whether a plan holds.

    Attributes
    ----------
    state : str
        ``"covers"`` at the odds wanted, ``"likely"`` from even odds on, or ``"does not"``.
    chance, wanted : float
        Share of draws that hold, and the odds wanted.
    lasts_h : (low, likely, high)
        Hours to the supply's first stop.
    trouble : Trouble or None
        The commonest that comes first; None where nothing fails.
    """

    state: str
    chance: float
    wanted: float
    lasts_h: tuple[float, float, float]
    trouble: Trouble | None

    @property
    def of_battery(self) -> bool:
        """Whether a larger battery is what it wants."""
        return self.trouble is not None and self.trouble.why not in NOT_OF_BATTERY


def verdict_of(outcome: Outcome) -> Verdict:
    """Judge an outcome."""
    chance, wanted = outcome.chance, outcome.plan.odds
    state = "covers" if chance >= wanted else "likely" if chance >= LIKELY else "does not"
    return Verdict(state, chance, wanted, outcome.runtime, _trouble(outcome))


def _trouble(outcome: Outcome) -> Trouble | None:
    failures = outcome.failures
    fails = np.flatnonzero(~outcome.holds)
    if not fails.size:
        return None
    kinds = Counter((failures.why[row], failures.load[row]) for row in fails)
    (why, load), count = max(kinds.items(), key=lambda item: (item[1], item[0]))
    mine = [row for row in fails if (failures.why[row], failures.load[row]) == (why, load)]
    minute = int(np.median(failures.minute[mine]))
    return Trouble(why, load, minute, count / len(outcome.runtime_h))
