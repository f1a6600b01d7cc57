"""What energy costs, and one setting of a load beside another."""

from __future__ import annotations

from dataclasses import dataclass, replace

from needle.estimate import Estimate
from needle.profile.profile import LoadRecord, NoEvidence, Profile, derive

DAYS_PER_MONTH = 30.4


def cost(wh: Estimate, tariff_per_kwh: float) -> Estimate:
    """Price of an amount of energy, in the tariff's currency, with the energy's range."""
    return wh.scaled(tariff_per_kwh / 1000)


@dataclass(frozen=True)
class SettingProfile:
    """One setting of a load, and its mean draw relative to the first setting's (1 is the same)."""

    setting: str
    profile: Profile
    relative: float


def settings_of(record: LoadRecord) -> list[SettingProfile]:
    """Profiles of each named setting that has readings of its own, the smallest draw first.

    Readings without a setting speak for all of them. Empty where fewer than two can be told.
    """
    names = sorted({one.context.setting for one in record.readings} - {""})
    found = []
    for name in names:
        try:
            found.append((name, derive(replace(record, setting=name))))
        except NoEvidence:
            continue
    if len(found) < 2:
        return []
    found.sort(key=lambda pair: (pair[1].mean_w.value, pair[0]))
    least = found[0][1].mean_w.value
    return [
        SettingProfile(name, profile, profile.mean_w.value / least if least else 1.0)
        for name, profile in found
    ]
