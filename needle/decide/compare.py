"""Comparison of loads or settings, figure by figure, against a reference, and its fairness."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from needle.estimate import Z90, Estimate, from_limits
from needle.message import Message, message
from needle.percentiles import range_of
from needle.profile.cost import DAYS_PER_YEAR, cost
from needle.profile.profile import Profile


@dataclass(frozen=True)
class LoadSide:
    """A load or setting in the comparison.

    Attributes
    ----------
    name : str
    profile : Profile
    litres : float or None
    set_c, room_c : float or None
        Set point, and room temperature during the measurement, °C.
    price : float or None
        Price per kWh.
    hours : ndarray or None
        Hours alone on the chosen supply, in draws that all sides share, (draws,).
    """

    name: str
    profile: Profile
    litres: float | None = None
    set_c: float | None = None
    room_c: float | None = None
    price: float | None = None
    hours: np.ndarray | None = None

    @property
    def lift_c(self) -> float | None:
        """Temperature difference between the room and the set point, K."""
        if self.set_c is None or self.room_c is None:
            return None
        return abs(self.room_c - self.set_c)


@dataclass(frozen=True)
class Figure:
    """A row: name and unit, an estimate for each side or None; draws if the sides share them.

    ``shared`` is the relative sd that each side's estimate shares with the first side's.
    """

    name: str
    unit: str
    values: list[Estimate | None]
    draws: list[np.ndarray | None] | None = None
    shared: list[float] | None = None

    def against(self, number: int) -> Against | None:
        """A side's figure relative to the first side's; None if either has none."""
        value, reference = self.values[number], self.values[0]
        if value is None or reference is None:
            return None
        if self.draws is not None:
            mine, theirs = self.draws[number], self.draws[0]
            assert mine is not None and theirs is not None
            return paired(mine, theirs)
        return against(value, reference, self.shared[number] if self.shared else 0.0)


@dataclass(frozen=True)
class Against:
    """Relative difference to the reference: low, likely, high; and whether it is significant."""

    low: float
    value: float
    high: float
    real: bool


def against(figure: Estimate, reference: Estimate, shared: float = 0.0) -> Against | None:
    """Relative difference of a figure to the reference; None if the reference is zero.

    Both are log-normal, so their ratio is too. ``shared`` is the relative sd that both share, such
    as one meter's gain: it cancels.
    """
    if figure.value <= 0 or reference.value <= 0:
        return None
    spread = math.sqrt(max(0.0, figure.sigma_log**2 + reference.sigma_log**2 - 2 * shared**2))
    middle = math.log(figure.value / reference.value)
    low, value, high = (math.exp(middle + z * spread) - 1 for z in (-Z90, 0.0, Z90))
    # Real when nine in ten pairs agree in sign.
    return Against(low, value, high, low > 0 or high < 0)


def paired(draws: np.ndarray, reference: np.ndarray) -> Against | None:
    """Relative difference of paired draws; significant if nine in ten agree in sign."""
    if not (reference > 0).all():
        return None
    low, value, high = range_of(draws / reference - 1)
    return Against(low, value, high, low > 0 or high < 0)


def figures(sides: Sequence[LoadSide]) -> list[Figure]:
    """Rows that at least one side has."""

    profiles = [side.profile for side in sides]
    first = profiles[0]
    # The gain of a meter that both were read on is one.
    shared = [
        profile.meter_spread if profile.meter and profile.meter == first.meter else 0.0
        for profile in profiles
    ]
    figures = [
        Figure("mean", "W", [profile.mean_w for profile in profiles], shared=shared),
        Figure("running", "W", [profile.running_w for profile in profiles], shared=shared),
        Figure("an hour", "Wh", [profile.mean_w for profile in profiles], shared=shared),
        Figure("a day", "Wh", [profile.wh_per_day for profile in profiles], shared=shared),
        Figure("a task", "Wh", [profile.task_wh for profile in profiles], shared=shared),
        Figure("a piece", "Wh", [profile.piece_wh for profile in profiles], shared=shared),
        Figure("a day and litre", "Wh", [_per_day(side, side.litres) for side in sides]),
        Figure("a day and degree of lift", "Wh", [_per_day(side, side.lift_c) for side in sides]),
        Figure("cost of a year", "", [_yearly_cost(side) for side in sides]),
        Figure("start", "VA", [profile.start_va for profile in profiles]),
        Figure("power factor", "", [profile.power_factor for profile in profiles]),
        Figure(
            "alone on the supply",
            "h",
            [None if side.hours is None else _of_draws(side.hours) for side in sides],
            [side.hours for side in sides],
        ),
    ]
    return [figure for figure in figures if any(value is not None for value in figure.values)]


def _per_day(side: LoadSide, divisor: float | None) -> Estimate | None:
    """Energy per day over a divisor; None if either is unknown."""
    day = side.profile.wh_per_day
    return day.scaled(1 / divisor) if day is not None and divisor else None


def _yearly_cost(side: LoadSide) -> Estimate | None:
    day = side.profile.wh_per_day
    if day is None or not side.price:
        return None
    return cost(day.scaled(DAYS_PER_YEAR), side.price)


def _of_draws(draws: np.ndarray) -> Estimate:
    low, middle, high = range_of(draws)
    return from_limits(low, middle, high)


def _unfair_room(sides: Sequence[LoadSide]) -> Message | None:
    """How the rooms of the measurements differ; None if they do not."""
    rooms = [side.room_c for side in sides]
    if _differ(rooms, 2.0):
        return message("unlike-rooms")
    if None in rooms and any(side.set_c is not None for side in sides):
        return message("rooms-unknown")
    return None


def unfair(sides: Sequence[LoadSide]) -> list[Message]:
    """Reasons why the comparison may be unfair."""
    reasons = []
    if room := _unfair_room(sides):
        reasons.append(room)
    if _differ([side.set_c for side in sides], 0.5):
        reasons.append(message("unlike-set-points"))
    litres = [side.litres or 0.0 for side in sides]
    if _differ([side.litres for side in sides], 0.1 * max(litres)):
        reasons.append(message("unlike-sizes"))
    return reasons + _unlike_evidence([side.profile for side in sides])


def _unlike_evidence(profiles: Sequence[Profile]) -> list[Message]:
    """How the measurements differ in grade and setting."""
    reasons = []
    grades = {profile.grade for profile in profiles}
    if len(grades) > 1:
        reasons.append(message("unlike-grades", grades=tuple(sorted(grades))))
    settings = [profile.setting for profile in profiles]
    if any(settings) and not all(settings):
        reasons.append(message("settings-of-some"))
    return reasons


def _differ(values: Sequence[float | None], least: float) -> bool:
    known = [value for value in values if value is not None]
    return len(known) > 1 and max(known) - min(known) > least
