"""Rows of the survey, and open measurements."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from django.urls import reverse
from django.utils.safestring import SafeString

from needle.estimate import Estimate
from needle.profile.advice import Advice
from needle.profile.cost import DAYS_PER_YEAR, Costs, cost, costs_of, settings_of
from needle.profile.profile import Profile
from needle.quantity import with_unit
from web.drawing.bars import share_bar, split_bar
from web.drawing.ladder import Rungs, ladder
from web.jobs.models import Job
from web.loads.models import Load, loads_of

SORTS = {
    "name": "name",
    "mean": "mean",
    "start": "start",
    "day": "energy a day",
    "grade": "evidence",
}
GRADE_SHARES = {
    "A": "recorded",
    "B": "metered",
    "C": "label and time",
    "D": "guessed",
}


@dataclass(frozen=True)
class SurveyRow:
    """A load in the survey; its profile is None without evidence.

    ``most_wh`` is the largest daily energy of any load, Wh. Drawings are rendered on demand.
    """

    load: Load
    profile: Profile | None
    most_wh: float

    @property
    def ladder(self) -> SafeString | None:
        return ladder_of(self.load, self.profile)

    @property
    def day_bar(self) -> SafeString | None:
        return _bar(self.profile, self.most_wh)

    @property
    def by_use(self) -> bool:
        """Whether it runs when somebody or something asks for it, so that no duty is shown."""
        return self.load.core_kind.by_use or (self.profile is not None and bool(self.profile.uses))

    @property
    def address(self) -> str:
        return reverse("loads:load", args=(self.load.job_id, self.load.pk))

    @property
    def key(self) -> str:
        """Cache key of its cells: equal keys mean equal cells."""
        load = self.load
        return str(hash((load.pk, load.name, load.kind, load.to_core(), self.most_wh)))


def rows(job: Job, find: str = "", sort: str = "name") -> list[SurveyRow]:
    """Loads with their profiles, filtered and sorted; in two queries."""
    wanted = find[:80].casefold()
    loads = [load for load in loads_of(job) if wanted in load.name.casefold()]
    pairs = [(load, load.profile()) for load in loads]
    most = max((_day(profile) for _, profile in pairs), default=0.0)
    pairs.sort(key=lambda pair: _key(pair[0], pair[1], sort))
    return [SurveyRow(load, profile, most) for load, profile in pairs]


def _day(profile: Profile | None) -> float:
    return profile.wh_per_day.value if profile and profile.wh_per_day else 0.0


def _key(load: Load, profile: Profile | None, sort: str) -> tuple[float | str, str]:
    name = load.name.casefold()
    if sort == "mean":
        return (-profile.mean_w.value if profile else 1.0, name)
    if sort == "start":
        return (-profile.start_va.value if profile else 1.0, name)
    if sort == "day":
        return (-_day(profile), name)
    if sort == "grade":
        return (-ord(profile.grade) if profile else -100.0, name)
    return (name, name)


def _bar(profile: Profile | None, most: float) -> SafeString | None:
    day = _day(profile)
    return share_bar(day / most, with_unit(day, "Wh")) if day and most else None


def ladder_of(load: Load, profile: Profile | None) -> SafeString | None:
    """A load's ladder, with its numbers as the text alternative."""
    if profile is None:
        return None
    main = {id(profile.running_w), id(profile.resting_w)}
    others = tuple(state.watts.value for state in profile.states if id(state.watts) not in main)
    resting = profile.resting_w.value if profile.resting_w else None
    power = f"running {with_unit(profile.running_w.value, 'W')}, " + (
        f"resting {with_unit(resting, 'W')}, " if resting else ""
    )
    return ladder(
        Rungs(
            resting=resting,
            running=profile.running_w.value,
            running_low=profile.running_w.low,
            running_high=profile.running_w.high,
            others=others,
            start=profile.start_va.value,
            start_low=profile.start_va.low,
            start_high=profile.start_va.high,
        ),
        f"States of {load.name}",
        f"{power}start {with_unit(profile.start_va.value, 'VA')}",
    )


@dataclass(frozen=True)
class SettingRow:
    """A setting among others; cost per day is None without a tariff or a daily figure."""

    setting: str
    profile: Profile
    relative: str
    cost_day: Estimate | None


def settings_side_by_side(load: Load) -> list[SettingRow]:
    """The load's settings, the lowest power first; empty for fewer than two."""
    tariff = load.job.price
    rows = []
    for setting in settings_of(load.to_core()):
        day = setting.profile.wh_per_day
        price = cost(day, tariff) if day is not None and tariff is not None else None
        relative = "least" if setting.relative == 1 else f"+{(setting.relative - 1) * 100:.0f} %"
        rows.append(SettingRow(setting.setting, setting.profile, relative, price))
    return rows


@dataclass(frozen=True)
class Open:
    """An open measurement of a load."""

    load: Load
    advice: Advice


@dataclass(frozen=True)
class EvidenceShares:
    """Shares of the daily energy by grade of evidence, with a bar."""

    shares: dict[str, float]
    bar: SafeString
    words: str


def evidence_shares(rows: Sequence[SurveyRow]) -> EvidenceShares | None:
    """Return the known daily energy by grade; None if no load has any."""
    wh = dict.fromkeys(GRADE_SHARES, 0.0)
    for row in rows:
        if row.profile is not None:
            wh[row.profile.grade] += _day(row.profile)
    total = sum(wh.values())
    if not total:
        return None
    shares = {grade: amount / total for grade, amount in wh.items() if amount}
    words = ", ".join(
        f"{100 * share:.0f} % {GRADE_SHARES[grade]} ({grade})" for grade, share in shares.items()
    )
    parts = [(GRADE_SHARES[g], amount, f"grade-{g.lower()}") for g, amount in wh.items()]
    return EvidenceShares(shares, split_bar(parts, "Proof behind the day's energy"), words)


def still_open(rows: Sequence[SurveyRow], most: int = 4) -> list[Open]:
    """The most useful open measurements, without postponed ones."""
    return [hint for hint in _open(rows) if not hint.load.put_off][:most]


def put_off(rows: Sequence[SurveyRow]) -> list[Open]:
    """Postponed measurements, each with its load's reason."""
    return [hint for hint in _open(rows) if hint.load.put_off]


def _open(rows: Sequence[SurveyRow]) -> list[Open]:
    """Open measurements of all loads: worst grade first, then the highest power."""
    wanted = [
        (-ord(row.profile.grade), -row.profile.mean_w.value, Open(row.load, row.profile.advice[0]))
        for row in rows
        if row.profile is not None and row.profile.advice and row.profile.grade != "A"
    ]
    return [hint for _, _, hint in sorted(wanted, key=lambda rank: rank[:2])]


@dataclass(frozen=True)
class LoadCosts:
    """Costs of a load, and its energy label's kWh per year with the measured ones."""

    costs: Costs
    measured_kwh_year: Estimate | None
    label_kwh_year: float | None
    has_reading: bool


def costs_of_load(load: Load, profile: Profile | None) -> LoadCosts | None:
    """Costs of a load; None without evidence, a cost, or a label to compare with."""
    if profile is None:
        return None
    labels = [
        reading.data.get("kwh_per_year")
        for reading in load.known_readings()
        if reading.type == "label"
    ]
    label = next((label for label in labels if label), None)
    price = load.job.price
    day = profile.wh_per_day
    costs_something = day is not None or profile.task_wh is not None
    if label is None and (price is None or not costs_something):
        return None
    measured = day.scaled(DAYS_PER_YEAR / 1000) if day is not None else None
    has_reading = any(reading.type != "label" for reading in load.known_readings())
    return LoadCosts(costs_of(profile, price or 0.0), measured, label, has_reading)


@dataclass(frozen=True)
class ShelfRow:
    """A load of another job: its number of readings, and its figures."""

    load: Load
    readings: int
    profile: Profile | None


def shelf_rows(loads: Iterable[Load]) -> list[ShelfRow]:
    """Loads by job and name; those without readings last."""
    rows = [ShelfRow(load, len(load.known_readings()), load.profile()) for load in loads]
    return sorted(rows, key=lambda row: (row.load.job.name, not row.readings, row.load.name))
