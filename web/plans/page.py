"""What the day plan's page shows of an answer."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.utils import timezone
from django.utils.safestring import SafeString

from needle.moments import moment_after, when_text
from needle.plan.advice import display_hours
from needle.plan.plan import COUNTED_ONLY, MOST_HOURS, Run
from needle.plan.simulate import Outcome
from needle.plan.sizing import Sustains, sustains
from needle.plan.starts import PlannedStart
from needle.plan.trips import Trip
from needle.quantity import as_read, hours_text, with_unit
from web.drawing.bars import split_bar
from web.drawing.timeline import Charge, Frame, Power, charts, lanes
from web.jobs.models import Change, Job
from web.plans.again import measure_again
from web.plans.forms import EntryForm, WhatIfForm
from web.plans.helps import Help, helps_of
from web.plans.lanes import Ghosts, rows_drawn
from web.plans.models import SOURCES, Plan, PlanSource
from web.plans.outcomes import Answer, Used
from web.plans.runs import UsedRun
from web.plans.steadies import Steady

#: Loads named in the energy bar before the rest is summed.
NAMED = 4
NIGHT = (22, 6)
#: Hours that can be shown at once.
SPANS = (3.0, 6.0, 12.0, 24.0, 36.0, 48.0, 72.0, 96.0, 168.0, MOST_HOURS)


@dataclass(frozen=True)
class PlanRow:
    """One load on the plan's page."""

    used: Used
    form: EntryForm
    start: PlannedStart | None
    trip: Trip | None


@dataclass(frozen=True)
class Goes:
    """One part of where the energy goes."""

    name: str
    wh: float
    css: str


@dataclass(frozen=True)
class Shown:
    """The hours shown, and where one gets by zooming and by moving on; None at an end."""

    first_h: float
    span_h: float
    closer: float | None
    wider: float | None
    before: float | None
    after: float | None


@dataclass(frozen=True)
class TripTold:
    """A trip, and how many later uses of the load do the same."""

    first: Trip
    more: int


@dataclass(frozen=True)
class PlanPage:
    """A plan's page: its answer, and what may be changed.

    ``view`` is None where there is no answer; ``latest`` is the change an undo would take back.
    """

    job: Job
    answer: Answer
    view: PlanView | None
    rows: list[PlanRow]
    plans: list[Plan]
    steadies: list[Steady]
    what_if: WhatIfForm
    latest: Change | None
    kinds = SOURCES

    @property
    def plan(self) -> Plan:
        return self.answer.plan

    @property
    def plan_id(self) -> int:
        """The plan's key; 0 while it is unsaved."""
        return self.plan.pk or 0

    @property
    def outcome(self) -> Outcome | None:
        return self.answer.outcome

    @property
    def helps(self) -> list[Help]:
        return helps_of(self.answer.suggestions)

    @property
    def trips(self) -> list[TripTold]:
        """What is dropped, each load and reason once: at its first, and how often more."""
        told: dict[tuple[str, str, str], list[Trip]] = {}
        for trip in self.outcome.trips if self.outcome else ():
            told.setdefault((trip.load, trip.why, trip.unit), []).append(trip)
        return [TripTold(trips[0], len(trips) - 1) for trips in told.values()]

    @property
    def rests_on(self) -> list[UsedRun]:
        """Runs that were made, which condition the answer."""
        return [run for run in self.answer.draft.runs if run.document is not None]

    @property
    def again(self) -> list[str]:
        """What to measure again, since it is older than a year."""
        return measure_again(self.answer)

    @property
    def counted_together(self) -> list[Run]:
        """What was counted of all loads together on this supply, which conditions the answer."""
        runs = self.outcome.plan.runs if self.outcome else ()
        return [run for run in runs if run.why == COUNTED_ONLY]

    @property
    def sources(self) -> list[PlanSource]:
        return self.answer.draft.sources

    @property
    def movable(self) -> bool:
        """Whether any load has tasks that may be moved."""
        return any(used.entry.flexible and used.steps for used in self.answer.used)


@dataclass(frozen=True)
class PlanView:
    """An answer as the page draws it."""

    shown: Shown
    charts: SafeString
    lanes: SafeString
    table: list[tuple[str, float, float, float]]
    goes: list[Goes]
    bar: SafeString
    total_wh: float
    goes_until: str
    never_off: str
    display: tuple[str, str] | None
    sustains: Sustains | None
    fuel_l: float
    draws: int


def rows_of(answer: Answer, refused: Mapping[int, EntryForm]) -> list[PlanRow]:
    """Loads with the form of their use (by load's key where one was refused), start and trip."""
    starts = {start.load: start for start in answer.outcome.starts} if answer.outcome else {}
    trips = {trip.load: trip for trip in answer.outcome.trips} if answer.outcome else {}
    return [
        PlanRow(
            used,
            refused.get(used.load.pk)
            or EntryForm(instance=used.entry, prefix=f"load{used.load.pk}"),
            starts.get(used.load.name),
            trips.get(used.load.name),
        )
        for used in answer.used
    ]


def shown_of(outcome: Outcome, wanted: Mapping[str, str]) -> Shown:
    """The hours asked for by ``span`` and ``from``; without them, what is needed and the stop."""
    most = outcome.plan.hours
    reaches = [span for span in SPANS if span < most] + [most]
    matters = outcome.plan.needed_hours * 1.04
    if not outcome.capped:
        matters = max(matters, outcome.runtime[1] * 1.04)
    span = _number(wanted.get("span"))
    if span is None:
        span = next((reach for reach in reaches if reach >= matters), most)
    span = min(reaches, key=lambda reach: abs(reach - (span or most)))
    last = max(0.0, most - span)
    first = min(last, max(0.0, _number(wanted.get("from")) or 0.0))
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


def frame_of(outcome: Outcome, shown: Shown) -> Frame:
    plan = outcome.plan
    return Frame(plan.start, shown.first_h, shown.span_h, _nights(plan.start, plan.hours))


def view_of(answer: Answer, wanted: Mapping[str, str], ghosts: Ghosts = ()) -> PlanView | None:
    """What there is to see; None while there is no answer.

    A quick one is drawn without lanes: they are what is being moved.
    """
    outcome = answer.outcome
    if outcome is None:
        return None
    shown = shown_of(outcome, wanted)
    frame = frame_of(outcome, shown)
    goes = _goes(outcome)
    never = outcome.never_cycles_off_h
    beyond = "more than " if never >= outcome.plan.hours - 1e-6 else ""
    promised = display_hours(outcome.plan)
    drawn = SafeString("")
    if not answer.quick:
        rows, ghost_blocks = rows_drawn(answer, frame, ghosts)
        drawn = lanes(frame, rows, "Loads and sources over the hours", ghost_blocks)
    return PlanView(
        shown=shown,
        charts=charts_of(outcome, frame, answer.supply.name if answer.supply else ""),
        lanes=drawn,
        table=_table(outcome),
        goes=goes,
        bar=split_bar([(flow.name, flow.wh, flow.css) for flow in goes], "Where the energy goes"),
        total_wh=sum(flow.wh for flow in goes),
        goes_until=_until(outcome),
        never_off=f"{beyond}{hours_text(never)}",
        display=None if promised is None else (hours_text(promised[0]), hours_text(promised[1])),
        sustains=sustains(outcome),
        fuel_l=outcome.fuel_l,
        draws=len(outcome.runtime_h),
    )


def _until(outcome: Outcome) -> str:
    """Which hours the energies speak of."""
    if outcome.until_h >= outcome.plan.needed_hours - 1e-6:
        return f"in the {hours_text(outcome.plan.needed_hours)} needed, likely"
    return "until it stops, in the likely run"


def _goes(outcome: Outcome) -> list[Goes]:
    energy = outcome.energy_wh
    loads = sorted(energy["loads"].items(), key=lambda pair: -pair[1])
    goes = [
        Goes(name, wh, f"part-{index}") for index, (name, wh) in enumerate(loads[:NAMED], 1) if wh
    ]
    rest = sum(wh for _, wh in loads[NAMED:])
    for name, wh, css in (
        ("Other loads", rest, "part-5"),
        ("Inverter, running idle", energy["inverter_idle"], "part-idle"),
        ("DC outputs, running idle", energy["outputs_idle"], "part-idle-dc"),
        ("Conversion loss", energy["conversion"], "part-loss"),
    ):
        if wh > 1e-6:
            goes.append(Goes(name, wh, css))
    return goes


def charts_of(outcome: Outcome, frame: Frame, supply: str) -> SafeString:
    """Stored charge and drawn power over the frame's hours."""
    plan = outcome.plan
    low, mid, high = outcome.charge
    stop_h = None if outcome.capped else outcome.runtime[1]
    stop = (
        ""
        if stop_h is None
        else f"empty {when_text(moment_after(plan.start, stop_h, 10), plan.start)}"
    )
    description = (
        f"From {100 * mid[0]:.0f} % to {100 * mid[-1]:.0f} % in {hours_text(plan.hours)}; "
        f"{stop or 'does not run empty'}. At most {with_unit(outcome.peak_w, 'W')} drawn"
    )
    charge = Charge(
        outcome.curve_h.tolist(), low.tolist(), mid.tolist(), high.tolist(),
        plan.supply.battery.floor, plan.needed_hours, stop_h, stop,
    )  # fmt: skip
    held = with_unit(plan.supply.battery.nominal_wh, "Wh", 2)
    names = ("Stored", f"{held} {supply}"[:24], "Drawn", "by the minute")
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
        (trip.minute / 60, f"{trip.load} trips: {with_unit(trip.watts, trip.unit)} against "
         f"{with_unit(trip.limit_w, trip.unit)}")
        for trip in outcome.trips
    ]  # fmt: skip
    power = Power(outcome.minute_w, limit, words, trips)
    half = _round_down(power.most_w / 1.12 / 2)
    ticks = [(0.0, "0"), (half, with_unit(half, "W", 2)), (2 * half, with_unit(2 * half, "W", 2))]
    return Power(outcome.minute_w, limit, words, trips, ticks)


def _round_down(value: float) -> float:
    """To one or two digits that read well."""
    size = 10.0 ** (len(f"{int(max(1.0, value))}") - 1)
    return max(1.0, int(2 * value / size) / 2 * size)


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
    """The curve as rows: header, then time, share of charge low, likely, high, W drawn and in."""
    table = [["time", "charge_low", "charge", "charge_high", "drawn_w", "sources_w"]]
    for index, hour in enumerate(outcome.curve_h.tolist()):
        low, mid, high = (f"{row[index]:.4f}" for row in outcome.charge)
        place = min(int(hour), len(outcome.drawn_w) - 1)
        moment = timezone.localtime(moment_after(outcome.plan.start, hour))
        watts = [
            f"{watts_by_hour[place]:.1f}" for watts_by_hour in (outcome.drawn_w, outcome.sources_w)
        ]
        table.append([moment.isoformat(), low, mid, high, *watts])
    return table
