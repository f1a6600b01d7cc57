"""What a finished trial taught: its plan before and after it, and what it can be carried into."""

from __future__ import annotations

import math
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from django.core.exceptions import ValidationError
from django.urls import reverse
from django.utils.safestring import SafeString

from needle.document import DocumentError
from needle.estimate import Z90, Estimate
from needle.measure.readings import parse
from needle.plan.load import AC
from needle.profile.profile import derive
from needle.quantity import hours_range_text, hours_text, with_unit
from needle.supply.supply import parse_supply
from needle.trial.lessons import Lesson, RunLessons
from needle.trial.prediction import Forecast, Range
from needle.trial.sun_days import SunDay, sun_days
from web.background.questions import AnswerPending
from web.common.units import said
from web.drawing.spans import Span, spans
from web.jobs.models import Job
from web.loads.models import Load, loads_of, numbers_of
from web.plans.models import PlanSource
from web.supplies.models import Supply, SupplyTest
from web.trials.models import Trial
from web.trials.power_back import PowerBack, power_back
from web.trials.trial_summaries import PAGE_WAIT_S, run_lessons_of, summary_of


@dataclass(frozen=True)
class Carry:
    """Change of the supply by a finished trial: its test, capacity shares before and after."""

    test: SupplyTest
    before: float
    after: float
    done: bool


@dataclass(frozen=True)
class Learnt:
    """Change of a load by a finished trial of it alone: its mean W before and after.

    ``before`` is None for a load of which nothing was known.
    """

    load: Load
    data: dict[str, Any]
    note: str
    before: Estimate | None
    after: Estimate
    done: bool


@dataclass(frozen=True)
class SunSeen:
    """Days of sun that a finished trial counted, for the panels of its plan.

    ``measured`` are all measured days of the panels with these; one that somebody measured stays.
    """

    source: PlanSource
    days: Sequence[SunDay]
    measured: Sequence[dict[str, Any]]
    done: bool


@dataclass(frozen=True)
class LessonRow:
    """A figure before and after the run, its likely value and range as text, and its change."""

    what: str
    before: tuple[str, str]
    after: tuple[str, str]
    change: str
    url: str = ""


@dataclass(frozen=True)
class Taught:
    """The page of what a run taught.

    ``hours`` and ``drawing`` are of the same plan, made again; ``why_not`` says why plans do not
    use the run; ``open`` are the measurements that would narrow the plan's range now.
    """

    hours: LessonRow | None = None
    drawing: SafeString | None = None
    rows: Sequence[LessonRow] = ()
    open: Sequence[str] = ()
    why_not: str = ""
    carry: Carry | None = None
    learnt: Learnt | None = None
    sun: SunSeen | None = None
    back: PowerBack | None = None
    pending: bool = False

    @property
    def can_carry(self) -> bool:
        """Whether the supply, the load or the panels do not have its result yet."""
        changes = (self.carry, self.learnt, self.sun)
        return any(change is not None and not change.done for change in changes)


def carried_test(trial: Trial, prediction: Forecast) -> SupplyTest:
    """The capacity of a trial's battery as a capacity test of its supply; not stored.

    It has the trial's own figure and range, corrected for the temperature of its room, as plans
    correct for theirs.
    """
    assert trial.ended_at is not None and trial.supply is not None
    assert prediction.state_of_health is not None
    low, share, high = prediction.state_of_health
    held_wh = share * trial.to_core().battery.nominal_wh
    data = {
        "wh": round(prediction.used_wh, 1),
        "hours": round(trial.hours_to(trial.ended_at), 2),
        "from": trial.start_charge,
        "to": 0.0 if trial.ended_why == "cutoff" else trial.stop_at,
        "held_wh": round(held_wh, 1),
        "held_spread": round(math.log(high / low) / (2 * Z90), 4),
    }
    return SupplyTest(
        supply=trial.supply,
        type="capacity",
        data=data,
        tested_at=trial.ended_at,
        note=f"from the trial {trial.name}"[:400],
        client_key=uuid.uuid5(trial.client_key, "capacity"),
    )


def taught_by(
    trial: Trial, wait_s: float = PAGE_WAIT_S, asked: Mapping[str, Any] | None = None
) -> Taught:
    """What a finished trial taught; ``asked`` are the values of its charger's form."""
    try:
        prediction = summary_of(trial, wait_s).prediction
        why_not = trial.why_not_a_run()
        lessons = None if why_not else run_lessons_of(trial, wait_s)
    except AnswerPending:
        return Taught(pending=True)
    except DocumentError as error:
        return Taught(why_not=error.sentence)
    if lessons is not None and not lessons.used:
        why_not = "it fits nothing that is known of this supply and its loads"
    carry = carry_of(trial, prediction) if prediction is not None else None
    learnt = learnt_of(trial, prediction) if prediction is not None else None
    sun, back = sun_of(trial), None
    if trial.is_watch and prediction is not None:
        hours = None if lessons is None or why_not else lessons.hours
        back = power_back(trial, prediction, hours, asked or {})
    if lessons is None or why_not:
        return Taught(why_not=why_not, carry=carry, learnt=learnt, sun=sun, back=back)
    return Taught(
        hours=_row(trial, lessons.hours),
        drawing=_drawing(lessons),
        rows=[*(_row(trial, lesson) for lesson in lessons.lessons), *_of_the_sun(prediction)],
        open=[narrowing.what for narrowing in lessons.open],
        carry=carry,
        learnt=learnt,
        sun=sun,
        back=back,
    )


def sun_of(trial: Trial) -> SunSeen | None:
    """Days of sun that it counted, for the one sun of its plan; None without either."""
    days = sun_days(trial.to_core()) if trial.plan is not None else []
    if not days or trial.plan is None:
        return None
    suns = list(trial.plan.sources.live().filter(kind="sun"))
    if len(suns) != 1:
        return None
    source = suns[0]
    new = _not_measured_yet(source, days)
    measured = [*source.data.get("measured", []), *new]
    try:
        PlanSource(kind="sun", name=source.name, data={**source.data, "measured": measured}).clean()
    except ValidationError:
        return None  # other panels by now, which could not have given that
    return SunSeen(source, days, measured, not new)


def _not_measured_yet(source: PlanSource, days: Sequence[SunDay]) -> list[dict[str, Any]]:
    """Days that nobody measured at the panels, as in their document."""
    known = {entry.get("on") for entry in source.data.get("measured", [])}
    dated = [(seen.day.isoformat(), round(seen.wh, 1)) for seen in days]
    return [{"on": day, "wh": wh} for day, wh in dated if day not in known]


def load_that_ran(job: Job, ran: dict[str, Any]) -> Load | None:
    """The job's load that a trial's ``ran`` names, by its number; by its name in older ones."""
    numbers, wanted = numbers_of(job), ran.get("id")
    for load in loads_of(job):
        if (f"load {numbers[load.pk]}" == wanted) if wanted else (load.name == ran["name"]):
            return load
    return None


def _row(trial: Trial, lesson: Lesson) -> LessonRow:
    url = ""
    if lesson.load:
        stored = {"name": lesson.load}
        load = load_that_ran(trial.job, {**stored, **trial.ran_as(_stored(trial, lesson.load))})
        url = reverse("loads:load", args=[trial.job_id, load.pk]) if load is not None else ""
    return LessonRow(
        said(lesson.said),
        _texts(lesson.before, lesson.unit),
        _texts(lesson.after, lesson.unit),
        _change(lesson),
        url,
    )


def _stored(trial: Trial, name: str) -> dict[str, Any]:
    """A load of the trial's plan, by its name there."""
    loads = (trial.expected.get("plan") or {}).get("loads", [])
    return next((load for load in loads if load["name"] == name), {"name": name})


def _texts(values: Range, unit: str) -> tuple[str, str]:
    """The likely value and the range: ``36.2 W`` and ``31.1 W – 43.0 W``."""
    low, mid, high = values
    if unit == "h":
        return hours_text(mid), hours_range_text(low, high)
    if unit == "share":
        return f"{mid * 100:.0f} %", f"{low * 100:.0f} – {high * 100:.0f} %"
    return with_unit(mid, unit), f"{with_unit(low, unit)} – {with_unit(high, unit)}"


def _change(lesson: Lesson) -> str:
    """How a figure changed: ``9 % less; range 38 % narrower``."""
    moved, narrowed = round(100 * lesson.moved), round(100 * lesson.narrowed)
    words = [f"{abs(moved)} % {'more' if moved > 0 else 'less'}" if moved else "as before"]
    if narrowed:
        words.append(f"range {abs(narrowed)} % {'narrower' if narrowed > 0 else 'wider'}")
    return "; ".join(words)


def _of_the_sun(prediction: Forecast | None) -> list[LessonRow]:
    """What the sources gave, of what the plan expected of them."""
    if prediction is None or prediction.sun is None:
        return []
    what = "Sun and chargers gave, of what the plan expected"
    change = "of those days; the weather differs"
    return [LessonRow(what, ("100 %", ""), _texts(prediction.sun, "share"), change)]


def _drawing(lessons: RunLessons) -> SafeString:
    hours = lessons.hours
    rows = [Span("before", *hours.before), Span("after", *hours.after)]
    return spans(rows, "h", "Hours of the same plan, before the run and after it")


def _losses(supply: Supply, route: str) -> tuple[float, float] | None:
    """Idle W and efficiency on a route of a supply; None if it has none such."""
    core = supply.to_core()
    if route == AC:
        inverter = core.inverter
        return None if inverter is None else (inverter.idle_w.value, inverter.efficiency.value)
    output = next((output for output in core.outputs if output.name == route), None)
    return None if output is None else (output.idle_w.value, output.efficiency.value)


def carry_of(trial: Trial, prediction: Forecast) -> Carry | None:
    """The change of the supply, if the end shows the battery's capacity."""
    if prediction.state_of_health is None or trial.supply is None:
        return None
    test = carried_test(trial, prediction)
    document = trial.supply.to_document()
    before = trial.supply.to_core().battery.state_of_health.value
    tests = [*document.get("tests", []), test.to_document()]
    try:
        after = parse_supply({**document, "tests": tests}).battery.state_of_health.value
    except DocumentError:
        return None
    return Carry(test, before, after, trial.carried)


def learnt_of(trial: Trial, prediction: Forecast) -> Learnt | None:
    """A charge drop of the load, if it ran alone, in one leg, without charging."""
    ran = trial.ran.get("loads", [])
    if trial.ended_at is None or trial.supply is None or len(prediction.legs) > 1:
        return None
    if len(ran) != 1 or trial.ran.get("charged"):
        return None
    load, route = load_that_ran(trial.job, ran[0]), _losses(trial.supply, ran[0]["route"])
    if load is None or route is None:
        return None
    idle_w, efficiency = route
    before = load.profile(ran[0]["setting"], without=trial.carried_readings)
    end = prediction.charge[1]
    data = {
        "supply_wh": round(prediction.held_wh[1], 1),
        "proven": True,
        "from": trial.start_charge,
        "to": round(end, 4),
        "hours": round(prediction.now_h, 2),
        "idle_w": round(idle_w, 2),
        "efficiency": round(efficiency, 4),
    }
    record = load.to_core(ran[0]["setting"], without=trial.carried_readings)
    try:
        reading = parse({"type": "charge-drop", **data})
        after = derive(replace(record, readings=(*record.readings, reading)))
    except DocumentError:
        return None
    note = f"from the trial {trial.name}"[:400]
    done = any(reading.pk == trial.carried_reading_id for reading in load.known_readings())
    return Learnt(load, data, note, before.mean_w if before else None, after.mean_w, done)
