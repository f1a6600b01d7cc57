"""The page of a whole house: its day, drawn, and its loads beside it."""

from __future__ import annotations

from dataclasses import dataclass

from django.utils.safestring import SafeString

from needle.profile.whole_house import Comparison, WholeHouse, compare, house_load, remarks
from needle.words.house import span
from web.common.units import said
from web.drawing.bars import day_bars
from web.house.models import HouseRecord
from web.jobs.models import Job
from web.loads.models import loads_of


@dataclass(frozen=True)
class HousePage:
    """A record with its drawing, and sentences on the loads beside it."""

    record: HouseRecord
    house: WholeHouse
    drawing: SafeString
    per_day: str
    base: str
    sentences: list[str]
    comparison: Comparison


def page_of(record: HouseRecord, job: Job) -> HousePage:
    """The page of a record of a job's house."""
    house = record.to_core()
    compared = _compared(house, job)
    return HousePage(
        record,
        house,
        day_bars(house.half_hours_w, house.base_w and house.base_w[1], "The house’s mean day"),
        span(house.wh_per_day, "Wh"),
        span(house.base_w, "W") if house.base_w else "",
        [said(remark) for remark in remarks(house, compared)],
        compared,
    )


def beside(job: Job) -> list[str]:
    """What the newest meter of a house says of its loads; empty if there is none."""
    record = job.house_records.filter(removed_at=None).first()
    if record is None:
        return []
    house = record.to_core()
    of_day = remarks(house, _compared(house, job))[0]
    return [f"By its meter {span(house.wh_per_day, 'Wh')} a day.", said(of_day)]


def _compared(house: WholeHouse, job: Job) -> Comparison:
    return compare(house, [house_load(load.name, load.profile()) for load in loads_of(job)])
