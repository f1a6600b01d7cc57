"""Charts of a plan: the hours shown, their layout, charge and power."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.utils.safestring import SafeString

from needle.moments import moment_after
from needle.plan.energy.simulate import Outcome
from needle.plan.plan import MOST_HOURS
from needle.quantity import as_read, hours_text, with_unit
from web.common.units import moment
from web.drawing.timeline import WIDE, Charge, Frame, Paper, Power, charts

NIGHT = (22, 6)
#: Hours that can be shown at once.
SPANS = (3.0, 6.0, 12.0, 24.0, 36.0, 48.0, 72.0, 96.0, 168.0, MOST_HOURS)
#: Hours shown at first on narrow paper, h.
NARROW_SPAN_H = 12.0
#: What stands under the drawings, one at a time.
PARTS = {"loads": "Loads", "sources": "Sources", "sizes": "What size?", "numbers": "Numbers"}


@dataclass(frozen=True)
class ViewAsked:
    """The requested view: hours (None: the relevant ones), layout, and part."""

    span_h: float | None = None
    first_h: float | None = None
    paper: Paper = WIDE
    part: str = "loads"


#: Those hours that matter, on wide paper.
USUAL = ViewAsked()


def asked_of(wanted: Mapping[str, str], paper: Paper = WIDE) -> ViewAsked:
    """Parse a view from a query or form: ``span`` and ``from`` in h, ``show``; errors ignored."""
    part = wanted.get("show", "")
    return ViewAsked(
        _number(wanted.get("span")),
        _number(wanted.get("from")),
        paper,
        part if part in PARTS else "loads",
    )


@dataclass(frozen=True)
class Shown:
    """The hours shown, and those after zooming or moving; None at an end."""

    first_h: float
    span_h: float
    closer: float | None
    wider: float | None
    before: float | None
    after: float | None


def _usual_span(reaches: Sequence[float], matters_h: float, paper: Paper) -> float:
    """Hours that show what matters; fewer on narrow paper."""
    span = next((reach for reach in reaches if reach >= matters_h), reaches[-1])
    return span if paper.width >= WIDE.width else min(span, NARROW_SPAN_H)


def shown_of(outcome: Outcome, asked: ViewAsked) -> Shown:
    """The requested hours; by default the needed hours and the stop, or their first part."""
    most = outcome.plan.hours
    reaches = [span for span in SPANS if span < most] + [most]
    matters = outcome.plan.needed_hours * 1.04
    if not outcome.capped:
        matters = max(matters, outcome.runtime[1] * 1.04)
    span = asked.span_h or _usual_span(reaches, matters, asked.paper)
    span = min(reaches, key=lambda reach: abs(reach - span))
    last = max(0.0, most - span)
    first = min(last, max(0.0, asked.first_h or 0.0))
    place = reaches.index(span)
    return Shown(
        first_h=first,
        span_h=span,
        closer=reaches[place - 1] if place else None,
        wider=reaches[place + 1] if place + 1 < len(reaches) else None,
        before=max(0.0, first - span / 2) if first > 0 else None,
        after=min(last, first + span / 2) if first < last else None,
    )


def _number(text: str | None) -> float | None:
    try:
        value = float(text or "")
    except ValueError:
        return None
    return value if 0 <= value <= MOST_HOURS else None


def frame_of(outcome: Outcome, shown: Shown, paper: Paper) -> Frame:
    plan = outcome.plan
    return Frame(plan.start, shown.first_h, shown.span_h, _nights(plan.start, plan.hours), paper)


def charts_of(outcome: Outcome, frame: Frame, supply: str) -> SafeString:
    """Charge and power over the frame's hours."""
    plan = outcome.plan
    low, mid, high = outcome.charge
    stop_h = None if outcome.capped else outcome.runtime[1]
    stop = (
        ""
        if stop_h is None
        else f"empty {moment(moment_after(plan.start, stop_h, 10), plan.start)}"
    )
    description = (
        f"From {100 * mid[0]:.0f} % to {100 * mid[-1]:.0f} % in {hours_text(plan.hours)}; "
        f"{stop or 'does not run empty'}. At most {with_unit(outcome.peak_w, 'W')} drawn"
    )
    charge = Charge(
        outcome.curve_h.tolist(),
        low.tolist(),
        mid.tolist(),
        high.tolist(),
        plan.supply.battery.floor,
        plan.needed_hours,
        stop_h,
        stop,
    )
    held = with_unit(plan.supply.battery.nominal_wh, "Wh", 2)
    names = ("Stored", f"{held} {supply}", "Drawn", "by the minute")
    return charts(frame, charge, _power(outcome), names, description)


def _power(outcome: Outcome) -> Power:
    inverter = outcome.plan.supply.inverter
    limit, words = None, ""
    if inverter is not None:
        limit = inverter.continuous_w
        words = f"inverter limit {as_read(limit, 'W')}"
        if inverter.surge_known:
            words += f", {as_read(inverter.surge_va, 'VA')} for {inverter.surge_s:g} s"
    trips = [
        (
            trip.minute / 60,
            f"{trip.load} trips: {with_unit(trip.watts, trip.unit)} against "
            f"{with_unit(trip.limit_w, trip.unit)}",
        )
        for trip in outcome.trips
    ]
    power = Power(outcome.minute_w, limit, words, trips)
    half = _round_down(power.most_w / 1.12 / 2)
    ticks = [(0.0, "0"), (half, with_unit(half, "W", 2)), (2 * half, with_unit(2 * half, "W", 2))]
    return Power(outcome.minute_w, limit, words, trips, ticks)


def _round_down(value: float) -> float:
    """Rounded down to one or two significant digits."""
    size = 10.0 ** (len(f"{int(max(1.0, value))}") - 1)
    return max(1.0, int(2 * value / size) / 2 * size)


def _nights(start: datetime, hours: float) -> Sequence[tuple[float, float]]:
    """Nights within the plan's hours."""
    first = start.replace(hour=NIGHT[0], minute=0, second=0, microsecond=0) - timedelta(days=1)
    length = (NIGHT[1] - NIGHT[0]) % 24
    spans = []
    while (at := (first - start).total_seconds() / 3600) < hours:
        if at + length > 0:
            spans.append((at, min(hours, at + length)))
        first += timedelta(days=1)
    return spans
