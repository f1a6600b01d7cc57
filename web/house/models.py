"""What a job's whole house used, by its utility's meter."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.db import models

from needle.message import unkept
from needle.profile.whole_house import HALVES, Range, WholeHouse
from web.common.models import Record
from web.common.validation import refused_by_core
from web.jobs.models import Job

#: Figures of a house lie below, W and Wh a day.
MOST = 1e9


class HouseRecord(Record):
    """An interval file, as what it says of the house; ``data`` is the core's document."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="house_records")
    name = models.CharField(max_length=80)
    data = models.JSONField(default=dict)

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return self.name

    def clean(self) -> None:
        with refused_by_core():
            self.to_core()

    def to_core(self) -> WholeHouse:
        """What it says.

        Raises
        ------
        KeyError, TypeError, ValueError
            A package's are none.
        """
        data = self.data
        base = data["base_w"]
        return WholeHouse(
            datetime.fromisoformat(data["first"]),
            datetime.fromisoformat(data["last"]),
            int(data["days"]),
            _range(data["wh_per_day"]),
            None if base is None else _range(base),
            tuple(_watts(watts) for watts in data["half_hours_w"][:HALVES]),
            tuple(unkept(notice) for notice in data["notices"]),
        )


def _range(span: dict[str, Any]) -> Range:
    low, mid, high = (_watts(span[key]) for key in ("low", "value", "high"))
    if not low <= mid <= high:
        raise ValueError(f"{mid:g} is not between {low:g} and {high:g}")
    return low, mid, high


def _watts(value: Any) -> float:
    """A finite figure that is not negative."""
    number = float(value)
    if not 0 <= number < MOST:
        raise ValueError(f"{number:g} is no figure of a house")
    return number
