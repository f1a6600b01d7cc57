"""Parsing of a load's use in a plan document: windows, tasks, charges."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, tzinfo
from typing import Any

from needle.document import DocumentError, Reader
from needle.fields import (
    Fields,
    Items,
    Number,
    Part,
    Parts,
    Windows,
)
from needle.moments import (
    Moment,
    Window,
    parse_moments,
    parse_windows,
    spread_over_day,
)
from needle.plan.load import Charge, TaskStep
from needle.plan.plan import MOST_HOURS

USE_FORM = '"always", {"between": [["18:00", "22:30"]]}, {"tasks": ["20:15"]}, {"tasks": 2}, …'

#: Fields of a load that has tasks or charges.
TASK_FIELDS: Fields = {
    "steps": Parts(
        "steps of one task",
        fields={
            "watts": Number("power", unit="W", most=100_000, needed=True),
            "minutes": Number("length", unit="min", most=MOST_HOURS * 60, above=True, needed=True),
            "duty": Number("share of time running", unit="share", most=1.0, default=1.0),
        },
        most=200,
    ),
    "charge": Part(
        "the pack that is charged",
        fields={
            "pack_wh": Number("its energy", unit="Wh", most=1_000_000, above=True, needed=True),
            "missing": Number("share of it that is missing", unit="share", most=1.0, default=1.0),
            "efficiency": Number(
                "share that the charger passes on",
                unit="share",
                least=0.2,
                most=1.0,
                default=0.85,
            ),
            "watts": Number(
                "power of the charger", unit="W", most=100_000, above=True, needed=True
            ),
        },
    ),
    "flexible": Windows("hours between which its tasks may be moved", most=50),
}


def parse_steps(reader: Reader) -> tuple[TaskStep, ...]:
    return tuple(
        TaskStep(part.number("watts"), part.number("minutes"), part.number("duty"))
        for part in reader.parts("steps")
    )


def parse_charge(reader: Reader) -> Charge | None:
    part = reader.part("charge")
    if part is None:
        return None
    return Charge(
        pack_wh=part.number("pack_wh"),
        missing=part.number("missing"),
        efficiency=part.number("efficiency"),
        watts=part.number("watts"),
    )


_USE_FIELDS: Fields = {
    "between": Windows("windows of use", most=500),
    "tasks": Items("times at which a task begins", form='["20:15", …]', most=1000),
    "charges": Items("times at which a charge begins", form='["19:00", …]', most=1000),
}


def parse_use(
    reader: Reader, zone: tzinfo | None, steps: Sequence[TaskStep], charge: Charge | None
) -> tuple[tuple[Window, ...], tuple[Moment, ...]]:
    """Windows and moments of a load's use."""
    use = reader.value("use")
    if use == "always":
        _check_always(reader, bool(steps), charge is not None)
        return (), ()
    if isinstance(use, str):
        raise DocumentError(reader.at("use"), f'{use[:40]!r} is not known; write "always"')
    inner = Reader(use, reader.at("use"), _USE_FIELDS)
    given = [key for key in _USE_FIELDS if inner.has(key)]
    if len(given) != 1:
        raise DocumentError(inner.path, "needs one of “between”, “tasks”, “charges”")
    if given == ["between"]:
        windows = parse_windows(inner.items("between"), inner.at("between"), zone)
        if not windows:
            raise DocumentError(reader.at("use"), 'needs "between" with at least one window')
        return windows, ()
    if given == ["tasks"] and not steps:
        raise DocumentError(reader.at("steps"), "are needed for a load that runs by tasks")
    if given == ["charges"] and charge is None:
        raise DocumentError(reader.at("charge"), "is needed for a load that is charged")
    return (), _parse_times(inner, given[0], zone)


def _check_always(reader: Reader, has_steps: bool, has_charge: bool) -> None:
    """Refuse steps or a charge of a load that is always in use."""
    if has_steps or has_charge:
        part, wanted = ("steps", "tasks") if has_steps else ("charge", "charges")
        raise DocumentError(reader.at("use"), f'“{part}” needs {{"{wanted}": ["20:15"]}}')


def _parse_times(inner: Reader, key: str, zone: tzinfo | None) -> tuple[Moment, ...]:
    """A list of moments, or a number per day."""
    value = inner.data[key]
    if isinstance(value, int) and not isinstance(value, bool):
        if not 1 <= value <= 100:
            raise DocumentError(inner.at(key), f"{value} a day: give 1 to 100")
        return spread_over_day(value)
    moments = parse_moments(inner.items(key), inner.at(key), zone)
    if not moments:
        raise DocumentError(inner.at(key), "is empty: give at least one time")
    return moments


def check_use(data: Any) -> None:
    """Refuse a load's use that a plan document would not accept, naming the part.

    Parameters
    ----------
    data : dict
        ``between`` and ``flexible`` (windows), ``tasks`` (moments), ``steps``, ``charge``; those
        that are empty are left out.

    Raises
    ------
    DocumentError
    """
    of_use = {key: _USE_FIELDS[key] for key in ("between", "tasks")}
    reader = Reader(data, "", {**of_use, **TASK_FIELDS})
    for key in ("between", "flexible"):
        parse_windows(reader.items(key), key, UTC)
    parse_moments(reader.items("tasks"), "tasks", UTC)
    parse_steps(reader)
    parse_charge(reader)
