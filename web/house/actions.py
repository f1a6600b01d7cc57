"""All changes of what is known of a whole house."""

from __future__ import annotations

from needle.measure.interval_file import read_intervals
from needle.message import kept
from needle.profile.whole_house import as_document, whole_house
from web.house.models import HouseRecord
from web.jobs.actions import remove, save_new


def read_file(record: HouseRecord, content: bytes) -> HouseRecord:
    """Store what an interval file says, by the clock of the job.

    Raises
    ------
    needle.document.DocumentError
        It cannot be read; nothing is stored.
    """
    house = whole_house(read_intervals(content), record.job.clock)
    record.data = kept(as_document(house))
    return save_new(record.job, record, f"Read the meter of the house: {record.name}")[0]


def remove_record(record: HouseRecord) -> None:
    remove(record.job, record, f"Removed the meter of the house: {record.name}")
