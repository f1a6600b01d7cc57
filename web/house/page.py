"""The page of a whole house: its day, drawn, and its loads beside it."""

from __future__ import annotations

from dataclasses import dataclass

from django.utils.safestring import SafeString

from needle.profile.whole_house import Comparison, Range, WholeHouse, compare, house_load
from needle.quantity import with_unit
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
        sentences_of(house, compared),
        compared,
    )


def beside(job: Job) -> list[str]:
    """What the newest meter of a house says of its loads; empty if there is none."""
    record = job.house_records.filter(removed_at=None).first()
    if record is None:
        return []
    house = record.to_core()
    sentences = sentences_of(house, _compared(house, job))
    return [f"By its meter {span(house.wh_per_day, 'Wh')} a day.", sentences[0]]


def _compared(house: WholeHouse, job: Job) -> Comparison:
    return compare(house, [house_load(load.name, load.profile()) for load in loads_of(job)])


def span(values: Range, unit: str) -> str:
    """A likely value with its range."""
    low, mid, high = (with_unit(value, unit) for value in values)
    return f"{mid} [{low} to {high}]" if low != high else mid


def sentences_of(house: WholeHouse, compared: Comparison) -> list[str]:
    """What the house says of the loads that are noted."""
    loads = span(compared.loads_wh, "Wh")
    sentences = []
    if not compared.loads_wh[2]:
        return ["No load with a known day is noted yet."]
    if compared.verdict == "rest":
        rest = span(compared.rest_wh, "Wh")
        sentences.append(f"The loads noted use {loads} a day. {rest} a day is not noted yet.")
    elif compared.verdict == "all":
        sentences.append(f"The loads noted use {loads} a day: about what the house uses.")
    else:
        sentences.append(
            f"The loads noted use {loads} a day, which is more than the house uses: something "
            f"is entered too high, or is not used so long."
        )
    if compared.always_w is not None and house.base_w is not None:
        always = span(compared.always_w, "W")
        if compared.always_verdict == "more":
            sentences.append(
                f"What runs all the time uses {always}, but the house draws no more than "
                f"{with_unit(house.base_w[2], 'W')} at its lowest."
            )
        else:
            sentences.append(f"What runs all the time uses {always} of that base load.")
    if compared.widest:
        sentences.append(f"Measure {compared.widest} first: it is known least.")
    if compared.without:
        sentences.append(f"Not counted, for their day is not known: {', '.join(compared.without)}.")
    return sentences
