"""What the day plan's page shows of an answer."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.utils import timezone
from django.utils.safestring import SafeString

from needle.moments import moment_after
from needle.plan.advice import display_hours
from needle.plan.simulate import Outcome, Start
from needle.plan.trips import Trip
from needle.quantity import hours_text
from web.drawing.bars import split_bar
from web.drawing.stored import Curve, Marks, stored
from web.plans.forms import EntryForm
from web.plans.outcomes import Answer, Used

#: Loads named in the energy bar before the rest is summed.
NAMED = 4
NIGHT = (22, 6)


@dataclass(frozen=True)
class Row:
    """One load on the plan's page."""

    used: Used
    form: EntryForm
    start: Start | None
    trip: Trip | None


@dataclass(frozen=True)
class Goes:
    """One part of where the energy goes."""

    name: str
    wh: float
    css: str


@dataclass(frozen=True)
class View:
    """An answer as the page draws it; curves are None while there is none."""

    curve: SafeString | None
    table: list[tuple[str, float, float, float]]
    goes: list[Goes]
    bar: SafeString | None
    total_wh: float
    never_off: str
    display: tuple[str, str] | None


def rows_of(found: Answer) -> list[Row]:
    """Loads with the form of their use, their start and what trips."""
    starts = {one.load: one for one in found.outcome.starts} if found.outcome else {}
    trips = {one.load: one for one in found.outcome.trips} if found.outcome else {}
    return [
        Row(used, EntryForm(instance=used.entry, prefix=f"load{used.load.pk}"),
            starts.get(used.load.name), trips.get(used.load.name))
        for used in found.used
    ]  # fmt: skip


def view_of(found: Answer) -> View:
    outcome = found.outcome
    if outcome is None:
        return View(None, [], [], None, 0.0, "", None)
    goes = _goes(outcome)
    never = outcome.never_cycles_off_h
    beyond = "more than " if never >= outcome.plan.hours - 1e-6 else ""
    promised = display_hours(outcome.plan)
    stop_h = None if outcome.capped else outcome.runtime[1]
    return View(
        curve=_curve(outcome, stop_h),
        table=_table(outcome),
        goes=goes,
        bar=split_bar([(one.name, one.wh, one.css) for one in goes], "Where the energy goes"),
        total_wh=sum(one.wh for one in goes),
        never_off=f"{beyond}{hours_text(never)}",
        display=None if promised is None else (hours_text(promised[0]), hours_text(promised[1])),
    )


def _goes(outcome: Outcome) -> list[Goes]:
    loads = sorted(outcome.energy_wh["loads"].items(), key=lambda pair: -pair[1])
    found = [
        Goes(name, wh, f"part-{index}") for index, (name, wh) in enumerate(loads[:NAMED], 1) if wh
    ]
    rest = sum(wh for _, wh in loads[NAMED:])
    if rest:
        found.append(Goes("Other loads", rest, "part-5"))
    found.append(Goes("Inverter, running idle", outcome.energy_wh["inverter_idle"], "part-idle"))
    found.append(Goes("Conversion loss", outcome.energy_wh["conversion"], "part-loss"))
    return found


def _curve(outcome: Outcome, stop_h: float | None) -> SafeString:
    plan = outcome.plan
    low, mid, high = outcome.charge
    stop = "" if stop_h is None else f"stops {moment_after(plan.start, stop_h, 10):%a %H:%M}"
    said = (
        f"From {100 * mid[0]:.0f} % to {100 * mid[-1]:.0f} % in {hours_text(plan.hours)}; "
        f"{stop or 'does not stop'}"
    )
    return stored(
        Curve(outcome.curve_h.tolist(), low.tolist(), mid.tolist(), high.tolist()),
        Marks(plan.supply.battery.floor, plan.needed_hours, stop_h, stop),
        plan.start,
        _nights(plan.start, plan.hours),
        "Stored charge over the plan",
        said,
    )


def _nights(start: datetime, hours: float) -> Sequence[tuple[float, float]]:
    """Spans of the plan's hours that fall into the night."""
    first = start.replace(hour=NIGHT[0], minute=0, second=0, microsecond=0) - timedelta(days=1)
    length = (NIGHT[1] - NIGHT[0]) % 24
    spans = []
    while (at := (first - start).total_seconds() / 3600) < hours:
        if at + length > 0:
            spans.append((at, min(hours, at + length)))
        first += timedelta(days=1)
    return spans


def _table(outcome: Outcome) -> list[tuple[str, float, float, float]]:
    """The curve's whole hours for those who read rather than see: time, low, likely, high."""
    step = max(1, round(outcome.plan.hours / 24))
    return [
        (
            f"{moment_after(outcome.plan.start, hour):%a %H:%M}",
            float(outcome.charge[0, i]),
            float(outcome.charge[1, i]),
            float(outcome.charge[2, i]),
        )
        for i, hour in enumerate(outcome.curve_h.tolist())
        if abs(hour / step - round(hour / step)) < 1e-9
    ]


def csv_rows(outcome: Outcome) -> list[list[str]]:
    """The curve as rows: header, then time, share of charge low, likely, high, drawn W."""
    found = [["time", "charge_low", "charge", "charge_high", "drawn_w"]]
    for index, hour in enumerate(outcome.curve_h.tolist()):
        low, mid, high = (f"{row[index]:.4f}" for row in outcome.charge)
        place = min(int(hour), len(outcome.drawn_w) - 1)
        moment = timezone.localtime(moment_after(outcome.plan.start, hour))
        found.append([moment.isoformat(), low, mid, high, f"{outcome.drawn_w[place]:.1f}"])
    return found
