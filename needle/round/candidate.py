"""A possible measurement, and how far it reduces each spread."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from needle.message import Message
from needle.plan.draws.inputs import InputKey

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
    """Wh at the battery of several loads together, which constrain their sum.

    Attributes
    ----------
    loads : tuple of str
    moves : mapping of InputKey to float
        Effect of one standard deviation of each input on the logarithm of the count.
    spread : float
        Relative sd of the count about the long-run sum.
    """

    loads: tuple[str, ...]
    moves: Mapping[InputKey, float]
    spread: float


@dataclass(frozen=True)
class Candidate:
    """A possible measurement.

    Attributes
    ----------
    what : str
        One of the names above.
    subject : str
        The load's name; empty for the supply.
    meter_key : str
        Class of the meter used.
    meter_min : float
        Time for which the meter is in use, min, including the person's time.
    before_min, after_min : float
        The person's time at its beginning and end, min.
    leaves : dict of InputKey to float
        Share of each spread that remains afterwards.
    also : str
        Class of a second meter that it needs; empty for none.
    open_chance : float
        Chance that a start fails, if its result is uncertain.
    switch_on : bool
        Whether somebody must switch the load on.
    count : Count or None
        For a count of several loads together.
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
        """What is measured of which load, whatever its duration."""
        return f"{self.what}: {self.subject}"

    @property
    def excludes(self) -> str:
        """Tags; of candidates with the same tag only one is needed."""
        mean, idle = self.what in OF_THE_MEAN, self.what in _OF_IDLE
        return f"{'mean' if mean else 'idle' if idle else self.what}: {self.subject}"

    @property
    def hands_min(self) -> float:
        """The person's time, min."""
        return self.before_min + self.after_min

    def worthwhile(self) -> Candidate:
        """The same, without inputs that it hardly narrows."""
        return replace(
            self, leaves={key: rest for key, rest in self.leaves.items() if rest < _WORTHLESS}
        )


@dataclass(frozen=True)
class LeftAlone:
    """A load or part that the round does not measure, and why."""

    subject: str
    why: Message


def log_sd(spread: float) -> float:
    """Standard deviation of the logarithm for a relative spread."""
    return math.sqrt(math.log1p(spread**2))


def rest_of(spreads: Mapping[InputKey, float], key: InputKey, measured: float) -> float:
    """Share of a spread that remains after combining it with a measurement's own spread."""
    before, after = log_sd(spreads.get(key, 0.0)), log_sd(measured)
    if before <= 0:
        return 1.0
    return 1 / math.sqrt(1 + (before / max(after, 1e-6)) ** 2)


def combined(
    known: Mapping[InputKey, float], more: Mapping[InputKey, float]
) -> dict[InputKey, float]:
    """Remaining spreads after two independent measurements."""
    both = dict(known)
    for key, rest in more.items():
        if key in both:
            precision = 1 / both[key] ** 2 + 1 / rest**2 - 1
            both[key] = 1 / math.sqrt(precision)
        else:
            both[key] = rest
    return both
