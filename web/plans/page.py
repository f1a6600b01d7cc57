"""Contents of the day plan's page."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

from django.utils import timezone
from django.utils.safestring import SafeString

from needle.moments import moment_after
from needle.plan.advice.measurements import display_hours
from needle.plan.advice.sizing import Sustains, sustains
from needle.plan.energy.simulate import Outcome
from needle.plan.limits.starts import PlannedStart
from needle.plan.limits.trips import Trip
from needle.plan.load import AC, PlanLoad
from needle.plan.plan import MOST_HOURS
from needle.plan.plan import Plan as CorePlan
from needle.plan.run import COUNTED_ONLY, Run
from needle.quantity import chance_text, hours_text, with_unit
from web.common.units import day_clock, temperature
from web.drawing.bars import split_bar
from web.drawing.timeline import Frame, Paper, lanes
from web.jobs.models import Change, Job
from web.plans.again import measure_again
from web.plans.charts import PARTS, USUAL, Shown, ViewAsked, charts_of, frame_of, shown_of
from web.plans.combined import CombinedRun
from web.plans.forms import EntryForm, WhatIfForm
from web.plans.helps import Help, helps_of
from web.plans.lanes import Ghosts, rows_drawn
from web.plans.measurement_tips import MeasurementTip
from web.plans.models import SOURCES, Plan, PlanSource
from web.plans.outcomes import Answer, energies_until
from web.plans.runs import UsedRun
from web.plans.used import UsedLoad

#: Loads named in the energy bar before the rest is summed.
NAMED = 4
#: Loads of a plan from which on each is text until it is changed.
MANY_ROWS = 40
#: Below this share, a plan's mean is its profile's.
_SAME_MEAN = 0.02


@dataclass(frozen=True)
class PlanRow:
    """A load on the plan's page; ``differs`` says why its mean is not the profile's.

    Without a ``form`` it is read as text: where the reader may not change it, and where there are
    many, until somebody changes it.
    """

    used: UsedLoad
    form: EntryForm | None
    start: PlannedStart | None
    trip: Trip | None
    differs: str = ""
    no_inverter: bool = False


@dataclass(frozen=True)
class Goes:
    """A part of the energy balance."""

    name: str
    wh: float
    css: str


@dataclass(frozen=True)
class PlanPage:
    """A plan's page: its answer, and what can be changed.

    ``view`` is None without an answer; ``part`` is the open one of ``PARTS``; ``latest`` is the
    change that undo would take back; ``is_folded`` is whether what is needed less often is folded;
    ``shows_all`` is whether all loads are listed, however many there are.
    """

    job: Job
    answer: Answer
    view: PlanView | None
    rows: list[PlanRow]
    plans: list[Plan]
    measurement_tips: list[MeasurementTip]
    what_if: WhatIfForm
    latest: Change | None
    part: str = "loads"
    is_folded: bool = False
    shows_all: bool = False
    kinds = SOURCES

    @property
    def parts(self) -> list[tuple[str, str, int | None]]:
        """Key, name and number of entries of each part."""
        counts = {"loads": sum(row.used.counted for row in self.rows), "sources": len(self.sources)}
        return [(key, words, counts.get(key)) for key, words in PARTS.items()]

    @property
    def plan(self) -> Plan:
        return self.answer.plan

    @property
    def listed(self) -> list[PlanRow]:
        """The loads that are listed: the first of many, and those that are being changed."""
        if self.shows_all or not self.has_many:
            return self.rows
        return [row for index, row in enumerate(self.rows) if index < MANY_ROWS or row.form]

    @property
    def has_many(self) -> bool:
        """Whether there are many loads, whose lanes are drawn when they are opened."""
        return len(self.rows) > MANY_ROWS

    @property
    def plan_id(self) -> int:
        """The plan's primary key; 0 while it is unsaved."""
        return self.plan.pk or 0

    @property
    def outcome(self) -> Outcome | None:
        return self.answer.outcome

    @property
    def helps(self) -> list[Help]:
        return helps_of(self.answer.suggestions)

    @property
    def trips(self) -> list[str]:
        """Dropped loads, each load and reason once."""
        if self.outcome is None:
            return []
        trips: dict[tuple[str, str], list[Trip]] = {}
        for trip in self.outcome.trips:
            trips.setdefault((trip.load, trip.why), []).append(trip)
        return [trip_sentence(self.outcome, alike[0], len(alike)) for alike in trips.values()]

    @property
    def rests_on(self) -> list[UsedRun]:
        """Measured runs that the answer is conditioned on."""
        return [run for run in self.answer.draft.runs if run.document is not None]

    @property
    def again(self) -> list[str]:
        """Measurements older than a year."""
        return measure_again(self.answer)

    @property
    def counted_together(self) -> list[Run]:
        """Counts of all loads together on this supply, which the answer is conditioned on."""
        runs = self.outcome.plan.runs if self.outcome else ()
        return [run for run in runs if run.why == COUNTED_ONLY and run.counted == "battery"]

    @property
    def combined(self) -> list[CombinedRun]:
        """Counts of several loads on one meter, and whether this plan uses them."""
        return self.answer.draft.combined if self.answer.supply else []

    @property
    def sources(self) -> list[PlanSource]:
        return self.answer.draft.sources

    @property
    def movable(self) -> bool:
        """Whether any load has tasks that may be rescheduled."""
        return any(used.entry.flexible and used.steps for used in self.answer.used)


@dataclass(frozen=True)
class PlanView:
    """The drawings of an answer and the figures beside them, worked out where they are shown.

    A quick answer has no lanes, since these are being moved.
    """

    answer: Answer
    outcome: Outcome
    shown: Shown
    frame: Frame
    ghosts: Ghosts = ()

    @property
    def paper(self) -> Paper:
        return self.frame.paper

    @property
    def draws(self) -> int:
        return len(self.outcome.runtime_h)

    @cached_property
    def charts(self) -> SafeString:
        """Charge and power over the hours."""
        supply = self.answer.supply
        return charts_of(self.outcome, self.frame, supply.name if supply else "")

    @cached_property
    def lanes(self) -> SafeString:
        """Loads and sources over the hours."""
        if self.answer.quick:
            return SafeString("")
        rows, ghost_blocks = rows_drawn(self.answer, self.frame, self.ghosts)
        return lanes(self.frame, rows, "Loads and sources over the hours", ghost_blocks)

    @cached_property
    def table(self) -> list[tuple[str, float, float, float]]:
        """The curve's whole hours: time, low, likely, high."""
        return _table(self.outcome)

    @cached_property
    def goes(self) -> list[Goes]:
        """Where the energy goes."""
        return _goes(self.outcome)

    @property
    def bar(self) -> SafeString:
        """The same as a bar."""
        flows = [(flow.name, flow.wh, flow.css) for flow in self.goes]
        return split_bar(flows, "Where the energy goes")

    @property
    def total_wh(self) -> float:
        return sum(flow.wh for flow in self.goes)

    @property
    def goes_until(self) -> str:
        """The hours that the energies cover."""
        return energies_until(self.outcome)

    @property
    def never_off(self) -> str:
        """Hours if nothing ever cycled off."""
        never = self.outcome.likely.never_off_h
        beyond = "more than " if never >= self.outcome.plan.hours - 1e-6 else ""
        return f"{beyond}{hours_text(never)}"

    @property
    def display(self) -> tuple[str, str] | None:
        """Hours that a display would promise between cycles, and with everything running."""
        promised = display_hours(self.outcome.plan)
        return (
            None if promised is None else (_promise_text(promised[0]), _promise_text(promised[1]))
        )

    @cached_property
    def sustains(self) -> Sustains | None:
        return sustains(self.outcome)

    @property
    def fuel_l(self) -> float:
        return self.outcome.likely.fuel_l


_TRIPS = {
    "overload": "overloads the supply",
    "start": "trips the inverter at its start",
    "output": "asks for more than its output gives",
    "volts": "wants other volts than it is given",
    "no-ac": "runs on AC, and this supply has no inverter",
}


def trip_sentence(outcome: Outcome, trip: Trip, uses: int) -> str:
    """How often a load is dropped, by which limit, and what happens afterwards.

    A start is described by its median VA and the inverter's rating, not by the draws that happen to
    trip.
    """
    asks, limit = with_unit(trip.watts, trip.unit), with_unit(trip.limit_w, trip.unit)
    figures = f"{asks} wanted, {limit} given"
    start = next((start for start in outcome.starts if start.load == trip.load), None)
    inverter = outcome.plan.supply.inverter
    if trip.why == "start" and start is not None and inverter is not None:
        low, _, high = start.required_va
        span = f"{with_unit(low, 'VA')} to {with_unit(high, 'VA')}"
        rated = with_unit(inverter.surge_va, "VA")
        figures = f"it asks for {span} then, the inverter is rated for {rated}"
    then = "It stays off until its next use"
    then += ", which goes the same way." if uses > 1 else "."
    if trip.why == "no-ac":
        return f"{trip.load} {_TRIPS[trip.why]}."
    what = f"{trip.load} {_TRIPS[trip.why]} ({trip_chance_text(outcome, trip)}): {figures}."
    return f"{what} {then}"


def trip_chance_text(outcome: Outcome, trip: Trip) -> str:
    """How likely a trip is; of a load that cannot run when somebody uses it, how likely then."""
    load = next(load for load in outcome.plan.loads if load.name == trip.load)
    if load.use.uses_per_day is None or not outcome.mostly_fails(load.name):
        return f"chance {chance_text(trip.chance)}"
    return f"chance {chance_text(float(outcome.fails(load.name).mean()))} when it is used"


def rows_of(
    answer: Answer, forms: Mapping[int, EntryForm], with_forms: bool = True
) -> list[PlanRow]:
    """Loads with the form of their use, start and trips.

    ``forms`` are those that are open or have errors, by the load's key; the others have one if all
    are ``with_forms``.
    """
    starts = {start.load: start for start in answer.outcome.starts} if answer.outcome else {}
    trips = {trip.load: trip for trip in answer.outcome.trips} if answer.outcome else {}
    plan = answer.outcome.plan if answer.outcome else None
    in_plan = {load.name: load for load in plan.loads} if plan else {}
    return [
        PlanRow(
            used,
            forms.get(used.load.pk) or (form_of(used) if with_forms else None),
            starts.get(used.load.name),
            trips.get(used.load.name),
            _differs(used, in_plan.get(used.load.name), plan),
            no_inverter=plan is not None and plan.supply.inverter is None,
        )
        for used in answer.used
    ]


def form_of(used: UsedLoad) -> EntryForm:
    """The form of a load's use in a plan."""
    return EntryForm(instance=used.entry, prefix=f"load{used.load.pk}")


def _differs(used: UsedLoad, load: PlanLoad | None, plan: CorePlan | None) -> str:
    """Why a plan uses another mean than the load's profile; empty if it does not."""
    profile = used.profile
    if (
        load is None
        or plan is None
        or profile is None
        or load.use.steps
        or load.use.charge is not None
    ):
        return ""
    if abs(load.mean_w - profile.mean_w.value) <= _SAME_MEAN * profile.mean_w.value:
        return ""
    reasons = []
    measured_c, room_c = profile.measured_room_c, plan.room_c
    if measured_c is not None and room_c is not None and abs(room_c - measured_c) >= 0.5:
        reasons.append(f"in {temperature(room_c)}, measured in {temperature(measured_c)}")
    if used.entry.set_c is not None:
        reasons.append(f"set to {temperature(used.entry.set_c)}")
    if used.route != AC:
        reasons.append(f"on {used.route}, without its adapter's loss")
    return f"counted with {with_unit(load.mean_w, 'W')}: {'; '.join(reasons)}" if reasons else ""


def view_of(answer: Answer, asked: ViewAsked = USUAL, ghosts: Ghosts = ()) -> PlanView | None:
    """The drawings of an answer; None without one."""
    outcome = answer.outcome
    if outcome is None:
        return None
    shown = shown_of(outcome, asked)
    frame = frame_of(outcome, shown, asked.paper)
    return PlanView(answer, outcome, shown, frame, ghosts)


def _promise_text(hours: float) -> str:
    return "more than two weeks" if hours > MOST_HOURS else hours_text(hours)


def _goes(outcome: Outcome) -> list[Goes]:
    energy = outcome.likely.energy_wh
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


def _table(outcome: Outcome) -> list[tuple[str, float, float, float]]:
    """The curve's whole hours as a table: time, low, likely, high."""
    step = max(1, round(outcome.plan.hours / 24))
    return [
        (
            day_clock(moment_after(outcome.plan.start, hour)),
            float(outcome.charge[0, i]),
            float(outcome.charge[1, i]),
            float(outcome.charge[2, i]),
        )
        for i, hour in enumerate(outcome.curve_h.tolist())
        if abs(hour / step - round(hour / step)) < 1e-9
    ]


def csv_rows(outcome: Outcome) -> list[list[str]]:
    """The curve as rows: header, then time, charge low, likely, high, W drawn and charged."""
    table = [["time", "charge_low", "charge", "charge_high", "drawn_w", "sources_w"]]
    for index, hour in enumerate(outcome.curve_h.tolist()):
        low, mid, high = (f"{row[index]:.4f}" for row in outcome.charge)
        place = min(int(hour), len(outcome.likely.drawn_w) - 1)
        moment = timezone.localtime(moment_after(outcome.plan.start, hour))
        watts = [
            f"{watts_by_hour[place]:.1f}"
            for watts_by_hour in (outcome.likely.drawn_w, outcome.likely.sources_w)
        ]
        table.append([moment.isoformat(), low, mid, high, *watts])
    return table
