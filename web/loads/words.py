"""A reading in one line, and its consistency."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import singledispatch
from types import MappingProxyType

from needle.ledger import LedgerEntry
from needle.measure.agreement import Agreement
from needle.measure.instruments import Instrument
from needle.measure.readings import (
    AssumedDuty,
    ChargeDrop,
    EnergyRun,
    Label,
    Recorded,
    ShortRun,
    Spot,
    Start,
    Tally,
    Task,
)
from needle.measure.readings import Reading as CoreReading
from needle.profile.energy import count_error, from_tallies
from needle.quantity import as_read, hours_text, seconds_text, with_unit
from web.common.units import temperature
from web.loads.models import Reading


@dataclass(frozen=True)
class ReadingRow:
    """A reading as the load's page lists it; ``entry`` is its ledger entry."""

    reading: Reading
    says: str
    where: str
    agreement: Agreement | None
    remark: str
    photos: tuple[int, ...] = ()
    entry: LedgerEntry | None = None

    @property
    def left_out(self) -> bool:
        return self.entry is not None and not self.entry.used


def row_of(
    reading: Reading,
    photos: tuple[int, ...] = (),
    meters: Mapping[str, Instrument] = MappingProxyType({}),
) -> ReadingRow:
    """A reading's row; ``photos`` are keys of its photos, ``meters`` the person's own by name."""
    core = reading.to_core()
    agreement = None
    if isinstance(core, Spot):
        # As it was seen: what a gain takes off, it takes off all of them.
        own = meters.get(core.context.meter_name)
        agreement = replace(core, context=replace(core.context, own=own)).agreement()
    context = core.context
    aside = [context.setting] if context.setting else []
    if not isinstance(core, Label | Tally | AssumedDuty):
        aside.append(context.meter_name or context.meter().name)
    if context.room_c is not None:
        aside.append(f"room {temperature(context.room_c)}")
    return ReadingRow(
        reading, _sentence(core), ", ".join(aside), agreement, _remark(core, agreement), photos
    )


def _amounts(pairs: list[tuple[float | None, str]]) -> str:
    return " · ".join(as_read(value, unit) for value, unit in pairs if value is not None)


@singledispatch
def _sentence(core: CoreReading) -> str:
    """A reading in one line."""
    raise TypeError(f"no words for a {type(core).__name__}")


@_sentence.register
def _spot(core: Spot) -> str:
    amounts = _amounts(
        [
            (core.watts, "W"),
            (core.volts, "V"),
            (core.amps, "A"),
            (core.va, "VA"),
            (core.hz, "Hz"),
        ]
    )
    factor = f" · PF {core.pf:.2f}" if core.pf is not None else ""
    return f"{core.state}: {amounts}{factor}"


@_sentence.register
def _start(core: Start) -> str:
    return _amounts(
        [
            (core.amps, "A"),
            (core.volts, "V"),
            (core.va, "VA"),
            (core.watts, "W"),
            (core.seconds, "s"),
        ]
    )


@_sentence.register
def _energy(core: EnergyRun) -> str:
    mean = with_unit(core.wh / core.hours, "W")
    at_output = " at a DC output" if core.counted == "dc" else ""
    span = hours_text(core.hours, exact=True)
    return f"{as_read(core.wh, 'Wh')} in {span}{at_output}: mean {mean}"


@_sentence.register
def _tally(core: Tally) -> str:
    cycles = from_tallies([core])
    assert cycles is not None
    count = f"{cycles.count} complete cycle{'' if cycles.count == 1 else 's'}"
    period = hours_text(cycles.period_min / 60, exact=True)
    return f"{count} of {period}: duty {cycles.duty.value:.2f}"


@_sentence.register
def _assumed_duty(core: AssumedDuty) -> str:
    return f"on for {core.low * 100:.3g} to {core.high * 100:.3g} % of the time, assumed"


@_sentence.register
def _short_run(core: ShortRun) -> str:
    often = f", {core.times_per_day:g} times a day" if core.times_per_day else ""
    return f"{as_read(core.watts, 'W')} for {seconds_text(core.seconds)}{often}"


@_sentence.register
def _charge_drop(core: ChargeDrop) -> str:
    return (
        f"{core.start * 100:.3g} → {core.end * 100:.3g} % of {as_read(core.supply_wh, 'Wh')} "
        f"in {hours_text(core.hours, exact=True)}"
    )


@_sentence.register
def _recorded(core: Recorded) -> str:
    sentence = f"{hours_text(core.covered_h, exact=True)}, {core.pattern}: "
    sentence += f"mean {with_unit(core.wh / core.covered_h, 'W')}"
    if core.duty is not None and core.whole_cycles:
        sentence += f", duty {core.duty:.2f} over {core.whole_cycles} cycles"
    return sentence


@_sentence.register
def _task(core: Task) -> str:
    took = f" in {hours_text(core.minutes / 60, exact=True)}" if core.minutes else ""
    pieces = f", {core.pieces:g} pieces" if core.pieces else ""
    runs = f" over {core.runs} tasks" if core.runs > 1 else ""
    return f"{as_read(core.wh, 'Wh')}{took}{pieces}{runs}"


@_sentence.register
def _label(core: Label) -> str:
    amounts = _amounts(
        [
            (core.watts, "W"),
            (core.va, "VA"),
            (core.amps, "A"),
            (core.volts, "V"),
            (core.kwh_per_year, "kWh a year"),
            (core.horsepower, "hp"),
        ]
    )
    breaker = f"{core.breaker_a:g} A breaker" if core.breaker_a else ""
    return " · ".join(part for part in (amounts, breaker) if part)


def _remark(core: CoreReading, agreement: Agreement | None) -> str:
    if agreement is not None:
        return agreement.message if agreement.residuals else ""
    if isinstance(core, EnergyRun) and (error := count_error(core.wh, core.step_wh)) > 0.05:
        return f"The counter's last digit alone is ±{min(error, 9.99) * 100:.0f} %."
    return ""
