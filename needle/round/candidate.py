"""One measurement that could be made, and what it leaves of what is uncertain."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from needle.plan.uncertain import InputKey

COUNTER, SPOT, TALLY, START, TASK = "counter", "spot", "tally", "start", "task"
IDLE, IDLE_DROP, EFFICIENCY, DRAIN = "idle", "idle drop", "efficiency", "drain"
TOGETHER = "together"
#: Ways to a load's mean; they say the same.
OF_THE_MEAN = (COUNTER, SPOT, TALLY, TASK)
_OF_IDLE = (IDLE, IDLE_DROP, EFFICIENCY)
#: A measurement that leaves more than this share of a spread is not worth the way.
_WORTHLESS = 0.93


@dataclass(frozen=True)
class Count:
    """Wh at the battery of several loads together: it tells their sum, and none of them alone.

    Attributes
    ----------
    loads : tuple of str
    moves : mapping of InputKey to float
        What one deviation of each thing moves the logarithm of the count.
    spread : float
        Relative sd with which the count tells the long-run sum.
    """

    loads: tuple[str, ...]
    moves: Mapping[InputKey, float]
    spread: float


@dataclass(frozen=True)
class Candidate:
    """One measurement that could be made.

    Attributes
    ----------
    what : str
        One of the names above.
    subject : str
        The load's name; empty for the supply.
    meter_key : str
        Class of the meter that does it.
    meter_min : float
        How long the meter is taken, min, one's own minutes included.
    before_min, after_min : float
        One's own minutes at its beginning and end.
    leaves : dict of InputKey to float
        Share of each spread that remains.
    also : str
        Class of a second meter that it needs; empty for none.
    open_chance : float
        Of a start: the odds of failing, where it is open whether it does.
    switch_on : bool
        Whether somebody must switch it on for it.
    count : Count or None
        Of a count of several loads together.
    """

    what: str
    subject: str
    meter_key: str
    meter_min: float
    before_min: float
    after_min: float
    leaves: dict[InputKey, float] = field(hash=False)
    also: str = ""
    open_chance: float = 0.0
    switch_on: bool = False
    count: Count | None = field(default=None, hash=False)

    @property
    def key(self) -> str:
        """What is measured of what, whatever its length."""
        return f"{self.what}: {self.subject}"

    @property
    def excludes(self) -> str:
        """Candidates of the same tag say the same: one of them is enough."""
        mean, idle = self.what in OF_THE_MEAN, self.what in _OF_IDLE
        return f"{'mean' if mean else 'idle' if idle else self.what}: {self.subject}"

    @property
    def hands_min(self) -> float:
        """One's own minutes."""
        return self.before_min + self.after_min

    def worthwhile(self) -> Candidate:
        """The same without what it hardly narrows."""
        return replace(
            self, leaves={key: rest for key, rest in self.leaves.items() if rest < _WORTHLESS}
        )


@dataclass(frozen=True)
class LeftAlone:
    """A load or part that the round does not touch, and why."""

    subject: str
    why: str


def log_sd(spread: float) -> float:
    """Standard deviation of the logarithm of what has this relative spread."""
    return math.sqrt(math.log1p(spread**2))


def rest_of(spreads: Mapping[InputKey, float], key: InputKey, measured: float) -> float:
    """Share of a spread that remains where a measurement of its own spread joins what is known."""
    before, after = log_sd(spreads.get(key, 0.0)), log_sd(measured)
    if before <= 0:
        return 1.0
    return 1 / math.sqrt(1 + (before / max(after, 1e-6)) ** 2)


def joined(
    known: Mapping[InputKey, float], more: Mapping[InputKey, float]
) -> dict[InputKey, float]:
    """What remains of spreads where two measurements join, each about independent of the other."""
    both = dict(known)
    for key, rest in more.items():
        if key in both:
            precision = 1 / both[key] ** 2 + 1 / rest**2 - 1
            both[key] = 1 / math.sqrt(precision)
        else:
            both[key] = rest
    return both
