"""A load's page: its profile, settings and costs beside one another, and its readings."""

from __future__ import annotations

from dataclasses import dataclass

from django.utils.safestring import SafeString

from needle.estimate import Z90
from needle.profile.profile import Profile
from web.loads.models import Load, Photo
from web.loads.survey import LoadCosts, SettingRow, costs_of_load, ladder_of, settings_side_by_side
from web.loads.words import ReadingRow, row_of

#: Days that differ by less (relative sd) are not told.
LEAST_DAY = 0.02


@dataclass(frozen=True)
class LoadPage:
    """``profile``, ``costs`` and ``ladder`` are None, or empty, without evidence."""

    load: Load
    profile: Profile | None
    settings: list[SettingRow]
    costs: LoadCosts | None
    ladder: SafeString | None
    rows: list[ReadingRow]

    @property
    def day_words(self) -> str:
        """What one day may add to the long-run mean; empty where days are alike."""
        if self.profile is None or self.profile.day_spread < LEAST_DAY:
            return ""
        return (
            f"The range is of the mean over many days. One day alone may differ from it by "
            f"±{100 * Z90 * self.profile.day_spread:.0f} % more; a plan reckons with that."
        )


def page_of(load: Load) -> LoadPage:
    profile = load.profile()
    photos: dict[int, tuple[int, ...]] = {}
    kept = Photo.objects.live().filter(reading__load=load).values_list("reading", "pk")
    for reading, photo in kept:
        photos[reading] = (*photos.get(reading, ()), photo)
    return LoadPage(
        load=load,
        profile=profile,
        settings=settings_side_by_side(load),
        costs=costs_of_load(load, profile),
        ladder=ladder_of(load, profile),
        rows=[
            row_of(reading, photos.get(reading.pk, ()), load.job.meters())
            for reading in load.known_readings()
        ],
    )
