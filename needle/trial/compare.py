"""Trials side by side against a reference, figure by figure, and whether the comparison is fair."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from needle.decide.compare import Against, against
from needle.estimate import Z90, Estimate
from needle.message import message
from needle.trial.prediction import Forecast, Range

#: How a run made once differs from the next of its kind: days differ (a general value of ours).
ONCE_SPREAD = 0.05


@dataclass(frozen=True)
class TrialSide:
    """A trial in the comparison.

    Attributes
    ----------
    name : str
    prediction : Forecast or None
    supply : object
        Equal for equal supplies; None if unknown.
    litres : float or None
        Volume of the cold box that ran alone in it, litres.
    lift_c : float or None
        Temperature difference between the room and its inside, K.
    uses : int or None
        How often the load that ran alone in it was used, where it is used at times.
    cut_short : bool
        Whether it was ended before the battery was at its floor, so that it does not say how long
        that lasts.
    """

    name: str
    prediction: Forecast | None
    supply: object = None
    litres: float | None = None
    lift_c: float | None = None
    uses: int | None = None
    cut_short: bool = False

    @property
    def uses_per_h(self) -> float | None:
        """How often an hour it was used; None where that is not known."""
        if not self.uses or self.prediction is None or self.prediction.now_h <= 0:
            return None
        return self.uses / self.prediction.now_h


@dataclass(frozen=True)
class TrialCell:
    """A figure of one trial, and its ratio to the reference; None if it has none."""

    value: Estimate | None
    against: Against | None = None


@dataclass(frozen=True)
class TrialRow:
    """A figure of all trials, the reference first."""

    name: str
    unit: str
    cells: list[TrialCell]


def rows_of(sides: Sequence[TrialSide]) -> list[TrialRow]:
    """Return figures that at least one of the trials has; the first trial is the reference."""
    drawn = [_drawn(side) for side in sides]
    days = [None if watts is None else watts.scaled(24) for watts in drawn]
    litres = _over(days, [side.litres for side in sides])
    lifts = _over(days, [side.lift_c for side in sides])
    uses = _over(drawn, [side.uses_per_h for side in sides])
    rows = [
        _row(
            "lasts",
            "h",
            [None if side.cut_short else _estimate(side, "stop_h") for side in sides],
        ),
        _row("mean at the battery", "W", drawn, sides),
        _row("a day", "Wh", days, sides),
        _row("a day and litre", "Wh", litres, sides),
        _row("a day and degree of lift", "Wh", lifts, sides),
        _row("a use", "Wh", uses, sides),
        _row("the battery holds", "Wh", [_held(side) for side in sides]),
    ]
    return [row for row in rows if any(cell.value is not None for cell in row.cells)]


def _over(
    values: Sequence[Estimate | None], divisors: Sequence[float | None]
) -> list[Estimate | None]:
    """Each value over its divisor; None where either is missing."""
    return [
        value.scaled(1 / divisor) if value and divisor else None
        for value, divisor in zip(values, divisors, strict=True)
    ]


def _row(
    name: str,
    unit: str,
    values: Sequence[Estimate | None],
    sides: Sequence[TrialSide] | None = None,
) -> TrialRow:
    """One row; the battery's capacity cancels between ``sides`` with the same battery."""
    cells = [TrialCell(values[0])]
    for number, value in enumerate(values[1:], 1):
        if value is None or values[0] is None:
            cells.append(TrialCell(value))
            continue
        mine, theirs = value, values[0]
        if sides is not None and sides[number].supply is not None:
            mine, theirs = _paired(mine, theirs, sides[number], sides[0])
        cells.append(TrialCell(value, against(mine, theirs)))
    return TrialRow(name, unit, cells)


def _paired(
    value: Estimate, reference: Estimate, side: TrialSide, first: TrialSide
) -> tuple[Estimate, Estimate]:
    """Ratio of two trials by the share of the battery that they used, if it is the same one."""
    fall, other = _estimate(side, "fall_per_h"), _estimate(first, "fall_per_h")
    if side.supply != first.supply or fall is None or other is None:
        return value, reference
    # In the reference's own watts: the ratio is what counts.
    mean, theirs = _drawn(side), _drawn(first)
    assert mean is not None and theirs is not None
    per_watt = value.value / mean.value * (theirs.value / reference.value)
    ratio = fall.value / other.value * per_watt
    return replace(value, value=reference.value * ratio, spread=fall.spread), replace(
        reference, spread=other.spread
    )


def _drawn(side: TrialSide) -> Estimate | None:
    """Mean W at the battery over the whole run so far."""
    prediction = side.prediction
    if prediction is None or prediction.now_h <= 0:
        return None
    low, _, high = prediction.drawn_wh
    low, mid, high = (wh / prediction.now_h for wh in (low, prediction.used_wh, high))
    return _of_range((low, mid, high))


def _held(side: TrialSide) -> Estimate | None:
    prediction = side.prediction
    if prediction is None or prediction.state_of_health is None:
        return None
    return _of_range(prediction.held_wh, once=0.0)


def _estimate(side: TrialSide, name: str) -> Estimate | None:
    return None if side.prediction is None else _of_range(getattr(side.prediction, name))


def _of_range(values: Range, once: float = ONCE_SPREAD) -> Estimate | None:
    """A range as an estimate: its median, the spread of its ends, measured once."""
    low, mid, high = values
    if mid <= 0:
        return None
    sigma = math.log(high / low) / (2 * Z90) if 0 < low < high else 0.0
    spread = math.hypot(math.sqrt(math.expm1(sigma**2)), once)
    return Estimate(mid, spread, "A", (message("a-trial"),))
