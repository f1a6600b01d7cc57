"""The page of a load: profile, settings, costs and readings."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import timedelta

from django.utils import timezone
from django.utils.safestring import SafeString

from needle.estimate import Z90
from needle.ledger import LedgerEntry
from needle.message import Message
from needle.profile.ledger import readings_ledger
from needle.profile.profile import Profile
from needle.quantity import hours_text
from needle.usage.usual_use import text_of_usual_use, uses_per_day_of
from needle.words.figures import plural
from web.common.units import clocks, said
from web.drawing.course import CourseMark, course
from web.loads.models import CombinedReading, Load, Photo
from web.loads.survey import LoadCosts, SettingRow, costs_of_load, ladder_of, settings_side_by_side
from web.loads.words import ReadingRow, row_of

#: Readings over less time make no course.
LEAST_COURSE = timedelta(days=30)
#: Least day-to-day spread that is shown (relative sd).
LEAST_DAY = 0.02


@dataclass(frozen=True)
class LoadPage:
    """``profile``, ``costs`` and ``ladder`` are None or empty without evidence."""

    load: Load
    profile: Profile | None
    settings: list[SettingRow]
    costs: LoadCosts | None
    ladder: SafeString | None
    rows: list[ReadingRow]

    @property
    def combined(self) -> list[CombinedReading]:
        """Counts of this load together with others."""
        parts = self.load.combined_parts.live().filter(combined__removed_at=None)
        return [part.combined for part in parts.select_related("combined")]

    @property
    def caution_first(self) -> bool:
        """Whether its caution was said of it, not of its kind, and so stands at the top."""
        return bool(self.load.cares or self.load.wired)

    @property
    def why_unknown(self) -> str:
        """What its readings lack for a profile; empty if there are none, or nothing is missing."""
        return self.load.why_unknown()

    @property
    def rests(self) -> str:
        """Number of readings that the profile uses; empty without any."""
        if self.profile is None or not self.rows:
            return ""
        out = sum(row.left_out for row in self.rows)
        used = len(self.rows) - out
        words = f"Based on {used} reading{'' if used == 1 else 's'}"
        return f"{words}; {out} not used." if out else f"{words}."

    @property
    def course(self) -> SafeString | None:
        """Chart of its power over the years; None for less than a month."""
        profile = self.profile
        if profile is None or len(profile.course) < 2:
            return None
        points = profile.course
        if points[-1].at - points[0].at < LEAST_COURSE:
            return None
        since = profile.change.first_after if profile.change else points[0].at
        marks = [
            CourseMark(
                timezone.localtime(point.at),
                point.mean_w.low,
                point.mean_w.value,
                point.mean_w.high,
                point.at >= since,
            )
            for point in points
        ]
        return course(marks, "W", f"What {self.load.name} drew over the years")

    @property
    def notices(self) -> list[Message]:
        """Notices, except for those shown with the chart of the years."""
        assert self.profile is not None
        change = self.profile.change if self.course else None
        return [each for each in self.profile.notices if change is None or each != change.notice]

    @property
    def course_words(self) -> str:
        """Whether its power changed."""
        assert self.profile is not None
        if self.profile.change is not None:
            return said(self.profile.change.notice)
        return "No change that these readings could show: all of them count."

    @property
    def runs_by(self) -> str:
        """Who decides when it runs, in a word or two."""
        assert self.profile is not None
        return {"person": "people's use", "water": "water use"}.get(
            self.profile.runs_by, self.profile.runs_by
        )

    @property
    def seen_words(self) -> str:
        """How many of its uses were seen."""
        assert self.profile is not None and self.profile.uses is not None
        uses = self.profile.uses
        if uses.hours_seen <= 0:
            said_so = uses_per_day_of(self.load.usual_use) is not None
            whence = "how often is as said" if said_so else "this is what is usual for its kind"
            return f"None was counted yet: {whence}."
        counted = plural(uses.seen, "use")
        return f"{counted} seen or counted in {hours_text(uses.hours_seen)}."

    @property
    def used_words(self) -> str:
        """How often and how long it is used, as said with it; empty if nobody said."""
        often = text_of_usual_use(self.load.usual_use)
        if not often and self.load.hours_per_day is not None:
            often = f"{hours_text(self.load.hours_per_day, exact=True)} a day"
        return f"Used {clocks(often)}, as said." if often else ""

    @property
    def day_words(self) -> str:
        """Deviation of a single day from the long-run mean; empty if days are equal."""
        if self.profile is None or self.profile.day_spread < LEAST_DAY:
            return ""
        return (
            f"This is the long-run average. A single day can be a further "
            f"{100 * Z90 * self.profile.day_spread:.0f} % off; plans allow for it."
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
        rows=_rows(load, photos),
    )


def _rows(load: Load, photos: dict[int, tuple[int, ...]]) -> list[ReadingRow]:
    """Its readings, each with its use."""
    readings = load.known_readings()
    entries: list[LedgerEntry | None] = list(readings_ledger(load.to_core()))
    entries = entries or [None] * len(readings)
    return [
        replace(row_of(reading, photos.get(reading.pk, ()), load.job.meters()), entry=entry)
        for reading, entry in zip(readings, entries, strict=True)
    ]
