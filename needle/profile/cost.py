"""Cost of energy, and comparison of a load's settings."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime

import numpy as np

from needle.document import DocumentError, Reader
from needle.estimate import Estimate
from needle.fields import Number
from needle.moments import DAY_MIN, Window, in_windows, parse_windows
from needle.profile.profile import Profile, derive
from needle.profile.record import LoadRecord, NoEvidence

DAYS_PER_MONTH = 30.4
DAYS_PER_YEAR = 365.0
#: Of a kWh, in whatever currency.
MOST_PRICE = 1_000_000.0
_PRICE = Number("price", unit="a kWh", most=MOST_PRICE, needed=True)
_MIDNIGHT = datetime(2001, 1, 1, tzinfo=UTC)
_PRICED = re.compile(
    r"^(\d{1,2}(?::\d{2})?)\s*(?:-|–|to)\s*(\d{1,2}(?::\d{2})?)\s+(\d+(?:[.,]\d+)?)$"
)


@dataclass(frozen=True)
class Tariff:
    """A price per kWh, with other prices in some hours of the day."""

    per_kwh: float
    hours: tuple[tuple[Window, float], ...] = ()

    def mean(self, windows: Sequence[Window] = ()) -> float:
        """Mean price per kWh of energy drawn evenly in some hours of the day; none: always."""
        prices = np.full(DAY_MIN, self.per_kwh)
        for window, price in self.hours:
            prices[in_windows([window], _MIDNIGHT, DAY_MIN)] = price
        used = in_windows(windows, _MIDNIGHT, DAY_MIN) if windows else np.ones(DAY_MIN, bool)
        return float(prices[used].mean())


def tariff_hours_from_text(text: str) -> list[list[str | float]]:
    """Parse ``23:00–07:00 0.18; 17–20 0,40`` into [from, to, price per kWh].

    Raises
    ------
    DocumentError
    """
    hours: list[list[str | float]] = []
    for part in re.split(r"[;\n]|,\s", text):
        if not part.strip():
            continue
        match = _PRICED.match(part.strip())
        if match is None:
            raise DocumentError("hours", f"“{part.strip()[:30]}” is not such as 23:00–07:00 0.18")
        first, last = (group if ":" in group else f"{group}:00" for group in match.groups()[:2])
        first, last = (
            f"{int(clock.split(':')[0]) % 24:02d}:{clock.split(':')[1]}" for clock in (first, last)
        )
        hours.append([first, last, float(match[3].replace(",", "."))])
    parse_windows([hour[:2] for hour in hours], "hours", UTC)
    return hours


def text_of_tariff_hours(hours: Sequence[Sequence[str | float]]) -> str:
    """Hours in the form that :func:`tariff_hours_from_text` reads; empty if they are invalid."""
    try:
        tariff_of(0.0, hours)
    except DocumentError:
        return ""
    return "; ".join(f"{first}–{last} {price:g}" for first, last, price in hours)


def tariff_of(per_kwh: float, hours: Sequence[Sequence[str | float]]) -> Tariff:
    """Return a tariff from stored hours: [from, to, price per kWh].

    Raises
    ------
    DocumentError
    """
    prices = []
    for index, item in enumerate(hours):
        if not isinstance(item, list | tuple) or len(item) != 3:
            raise DocumentError(f"hours[{index}]", 'must be ["23:00", "07:00", 0.18]')
        price = Reader({"price": item[2]}, f"hours[{index}]", {"price": _PRICE})
        prices.append(price.number("price"))
    windows = parse_windows([item[:2] for item in hours], "hours", UTC)
    if any(isinstance(window.start, datetime) for window in windows):
        raise DocumentError("hours", "are times of day, such as 23:00")
    return Tariff(per_kwh, tuple(zip(windows, prices, strict=True)))


@dataclass(frozen=True)
class Costs:
    """Costs in the tariff's currency; None if the energy is unknown."""

    day: Estimate | None
    month: Estimate | None
    year: Estimate | None
    task: Estimate | None
    piece: Estimate | None


def costs_of(profile: Profile, per_kwh: float) -> Costs:
    """Return the costs of a load; a month has 30.4 days."""
    day = None if profile.wh_per_day is None else cost(profile.wh_per_day, per_kwh)
    return Costs(
        day=day,
        month=None if day is None else day.scaled(DAYS_PER_MONTH),
        year=None if day is None else day.scaled(DAYS_PER_YEAR),
        task=None if profile.task_wh is None else cost(profile.task_wh, per_kwh),
        piece=None if profile.piece_wh is None else cost(profile.piece_wh, per_kwh),
    )


def cost(wh: Estimate, tariff_per_kwh: float) -> Estimate:
    """Cost of an amount of energy, in the tariff's currency, with the energy's range."""
    return wh.scaled(tariff_per_kwh / 1000)


@dataclass(frozen=True)
class SettingProfile:
    """One setting of a load, and its mean power relative to the first setting."""

    setting: str
    profile: Profile
    relative: float


def named_settings(record: LoadRecord) -> list[str]:
    """All settings that any reading names."""
    return sorted({reading.context.setting for reading in record.readings} - {""})


def settings_of(record: LoadRecord) -> list[SettingProfile]:
    """Profiles of each named setting with readings of its own, the lowest power first.

    Readings without a setting count for all of them. Empty for fewer than two settings.
    """
    settings = []
    for name in named_settings(record):
        try:
            settings.append((name, derive(replace(record, setting=name))))
        except NoEvidence:
            continue
    if len(settings) < 2:
        return []
    settings.sort(key=lambda pair: (pair[1].mean_w.value, pair[0]))
    least = settings[0][1].mean_w.value
    return [
        SettingProfile(name, profile, profile.mean_w.value / least if least else 1.0)
        for name, profile in settings
    ]
