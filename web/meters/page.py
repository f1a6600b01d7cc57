"""A meter in the list."""

from __future__ import annotations

from dataclasses import dataclass

from needle.estimate import Z90
from needle.measure.instruments import INSTRUMENTS, Instrument
from web.meters.forms import SHOWN
from web.meters.models import Meter


@dataclass(frozen=True)
class MeterRow:
    """A meter in words; ``meter`` is None for a built-in class."""

    meter: Meter | None
    name: str
    kind: str
    accuracy: str
    shows: str
    blind: str
    remarks: tuple[str, ...]


def row_of(instrument: Instrument, meter: Meter | None = None) -> MeterRow:
    return MeterRow(
        meter=meter,
        name=instrument.name,
        kind=INSTRUMENTS[instrument.key].name,
        accuracy=_accuracy(instrument),
        shows=", ".join(SHOWN[quantity] for quantity in instrument.shows),
        blind=instrument.blind,
        remarks=_remarks(instrument, meter),
    )


def _accuracy(instrument: Instrument) -> str:
    if instrument.gain_spread:
        off = 100 * (instrument.gain - 1)
        side = "high" if off >= 0 else "low"
        return f"reads {abs(off):.1f} % {side} (±{100 * Z90 * instrument.gain_spread:.1f} %)"
    digits = f" ± {instrument.counts:g} digit{'' if instrument.counts == 1 else 's'}"
    return f"±{100 * instrument.limit:g} %" + (digits if instrument.counts else "")


def _remarks(instrument: Instrument, meter: Meter | None) -> tuple[str, ...]:
    if meter is None:
        return ()
    remarks = []
    if meter.pairs:
        beside = f"“{meter.against}”" if meter.against else "a plug meter"
        count = len(meter.pairs)
        remarks.append(f"{count} comparison{'' if count == 1 else 's'} with {beside}")
    if instrument.most_a is not None:
        remarks.append(f"at most {instrument.most_a:g} A")
    if instrument.base_w:
        remarks.append(f"its own {instrument.base_w:g} W is taken off")
    if instrument.fast_inrush:
        remarks.append("holds the peak of a start")
    if instrument.logs:
        remarks.append("records by itself")
    return (*remarks, meter.note) if meter.note else tuple(remarks)
