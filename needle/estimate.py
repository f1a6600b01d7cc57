"""An uncertain quantity: value, spread, grade of evidence, and how it is known.

Positive quantities are log-normal about their median: with a relative spread of 40 % they still
never reach zero. Low and high are the 10th and 90th percentile.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from needle.message import Message

#: Standard normal quantile at 90 %.
Z90 = 1.2815515655446004

#: Relative spread (one standard deviation) when nothing better is computed.
DEFAULT_SPREAD = {"A": 0.04, "B": 0.10, "C": 0.20, "D": 0.40}

#: Relative spread of a figure that somebody states without a test.
STATED_SPREAD = 0.05
#: The same for a share near 1, such as an efficiency.
STATED_SHARE_SPREAD = 0.02
#: A displayed charge is not linear: how far a part of the scale may be off, as a share of full.
DISPLAY_BEND = 0.02

#: What each grade of evidence rests on.
GRADE_WORDS = {
    "A": "recorded long enough",
    "B": "metered, but short",
    "C": "label and measured time",
    "D": "label or table, guessed",
}


@dataclass(frozen=True)
class Estimate:
    """An uncertain quantity.

    Attributes
    ----------
    value : float
        The median, in the unit of the field that holds it.
    spread : float
        Relative standard deviation (0.04 is 4 %).
    grade : str
        Grade of evidence, ``"A"`` (best) to ``"D"``.
    how : tuple of Message
        How it is known, one message per step.
    most : float or None
        Upper bound of the quantity (1 for a duty), in the value's unit.
    """

    value: float
    spread: float = 0.0
    grade: str = "D"
    how: tuple[Message, ...] = ()
    most: float | None = None

    def __post_init__(self) -> None:
        if not math.isfinite(self.value) or self.value < 0:
            raise ValueError(f"an estimate's value must be finite and not negative: {self.value}")
        if not math.isfinite(self.spread) or self.spread < 0:
            raise ValueError(f"an estimate's spread must be finite and not negative: {self.spread}")
        if self.grade not in DEFAULT_SPREAD:
            raise ValueError(f"a grade is A, B, C or D: {self.grade}")

    @property
    def sigma_log(self) -> float:
        """Standard deviation of the logarithm for this relative spread."""
        return math.sqrt(math.log1p(self.spread**2))

    def quantile(self, z: float) -> float:
        """The value at a standard normal quantile ``z``, at most ``most``."""
        value = self.value * math.exp(z * self.sigma_log)
        return value if self.most is None else min(value, self.most)

    @property
    def low(self) -> float:
        """10th percentile, in the value's unit."""
        return self.quantile(-Z90)

    @property
    def high(self) -> float:
        """90th percentile, in the value's unit."""
        return self.quantile(Z90)

    def draws(self, z: np.ndarray) -> np.ndarray:
        """Map standard normal draws (any shape) to draws of this quantity."""
        values = self.value * np.exp(z * self.sigma_log)
        return values if self.most is None else np.minimum(values, self.most)

    def scaled(self, factor: float, why: Message | None = None) -> Estimate:
        """The same quantity in another unit, or multiplied by a known factor."""
        how = self.how if why is None else (*self.how, why)
        most = None if self.most is None else self.most * factor
        return replace(self, value=self.value * factor, how=how, most=most)

    def as_range(self) -> dict[str, float]:
        """The range as in open documents."""
        return {"value": self.value, "low": self.low, "high": self.high}


def worst(grades: Iterable[str]) -> str:
    """The worst of several grades."""
    return max(grades)


def from_limits(
    low: float, typical: float, high: float, how: Message | None = None, grade: str = "D"
) -> Estimate:
    """An estimate from low, typical and high values, taken as 10th, 50th and 90th percentile."""
    steps = () if how is None else (how,)
    if low == high:
        return Estimate(typical, 0.0, grade, steps)
    sigma = math.log(high / low) / (2 * Z90)
    return Estimate(typical, math.sqrt(math.expm1(sigma**2)), grade, steps)


def product(first: Estimate, second: Estimate, how: Sequence[Message] = ()) -> Estimate:
    """The product of two independent estimates."""
    return Estimate(
        first.value * second.value,
        math.hypot(first.spread, second.spread),
        worst((first.grade, second.grade)),
        tuple(how) or first.how + second.how,
    )


def pool(estimates: Sequence[Estimate], floor: float = 0.0) -> Estimate:
    """Combine independent estimates of one quantity by inverse variance of their logarithms.

    If they scatter more than their spreads allow, the pooled spread is widened by the root of the
    reduced chi-square (Birge 1932, Phys. Rev. 40, 207), never narrowed. The grade is the best of
    theirs.

    Parameters
    ----------
    estimates : sequence of Estimate
        At least one; the order does not matter.
    floor : float
        Lower bound of the pooled relative spread.
    """
    if len(estimates) == 1:
        return estimates[0]
    ordered = sorted(
        estimates, key=lambda estimate: (estimate.grade, estimate.value, estimate.spread)
    )
    weights = np.array([1 / max(estimate.sigma_log, 1e-6) ** 2 for estimate in ordered])
    logs = np.log([max(estimate.value, 1e-12) for estimate in ordered])
    centre = float(np.sum(weights * logs) / np.sum(weights))
    sigma = float(1 / np.sqrt(np.sum(weights)))
    birge = math.sqrt(float(np.sum(weights * (logs - centre) ** 2)) / (len(ordered) - 1))
    sigma = max(sigma * max(birge, 1.0), math.sqrt(math.log1p(floor**2)))
    how = tuple(dict.fromkeys(step for estimate in ordered for step in estimate.how))
    return Estimate(math.exp(centre), math.sqrt(math.expm1(sigma**2)), ordered[0].grade, how)


def disagree(first: Estimate, second: Estimate) -> bool:
    """Whether two estimates of one quantity differ by more than 3 combined deviations."""
    if min(first.value, second.value) <= 0:
        return False
    joint = math.hypot(first.sigma_log, second.sigma_log)
    return abs(math.log(first.value / second.value)) > 3 * max(joint, 1e-9)


def spread_of_few(deviations: Sequence[float], prior: float, worth: int) -> float:
    """Relative sd of the mean of a few values, from their relative deviations.

    Their scatter is pooled with a ``prior`` scatter that counts as ``worth`` values, so that a few
    values that happen to be equal are not certain; Student's t for the degrees of freedom makes the
    10th and 90th percentile right.
    """
    count = len(deviations)
    freedom = worth + count - 1
    scatter = math.sqrt(
        (worth * prior**2 + sum(deviation**2 for deviation in deviations)) / freedom
    )
    return scatter / math.sqrt(count) * student(freedom)


@lru_cache(maxsize=256)
def student(freedom: int) -> float:
    """Ratio of the 80 % range of Student's t to that of the normal distribution."""
    from scipy.special import stdtrit

    return float(stdtrit(freedom, 0.9)) / Z90
