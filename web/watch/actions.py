"""All changes of a watch."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from contextlib import suppress
from datetime import datetime, timedelta
from typing import Any

from django.utils import timezone

from needle.document import DocumentError
from needle.quantity import hours_text
from needle.trial.trial import parse_check_ins
from needle.watch.timetable import CAN_WAIT, MAINS, put_off
from needle.watch.watch import CHARGE_H
from web.common.units import day_clock
from web.jobs.actions import save_change
from web.jobs.models import Job
from web.plans.draft import draft_of, supply_of
from web.plans.forms import floor_of
from web.plans.models import Plan
from web.plans.outcomes import current_plan
from web.trials.actions import check_in, end_trial, remove_trial, start_trial
from web.trials.expecting import expect
from web.trials.models import CheckIn, Trial, owned

#: A first look so soon after the beginning is of the charge at the start, h.
FIRST_LOOK_H = 0.25
#: Steps that can be ticked off, by the code of their sentence.
STEPS = CAN_WAIT
#: Step of a display that shows percent, share.
PERCENT_STEP = 0.01


def running_watch(job: Job) -> Trial | None:
    """The job's watch that is under way, the newest; None without one."""
    return _newest(job, rehearsed=False)


def running_rehearsal(job: Job) -> Trial | None:
    """The job's rehearsal that is under way, the newest; None without one."""
    return _newest(job, rehearsed=True)


def watch_of(job: Job, pk: int) -> Trial | None:
    """One of the job's watches or rehearsals, running or ended; None if it has no such."""
    return _one(job, pk=pk)


def _newest(job: Job, rehearsed: bool) -> Trial | None:
    return _one(job, ended_at=None, simulated_seed__isnull=not rehearsed)


def _one(job: Job, **which: Any) -> Trial | None:
    watches = job.trials.live().with_check_ins().filter(needed_h__isnull=False, **which)
    watch: Trial | None = watches.select_related("supply", "plan").first()
    return None if watch is None else owned(watch, job)


def begin_watch(job: Job, at: datetime | None = None) -> Trial:
    """Begin a watch on the job's current plan, now or at a moment, from the charge of the plan.

    One that runs already goes on: a second tap begins nothing.
    """
    if (watch := running_watch(job)) is not None:
        return watch
    if (rehearsal := running_rehearsal(job)) is not None:
        remove_trial(rehearsal)
    return _begin(job, "Outage", at)


def begin_rehearsal(job: Job) -> Trial:
    """Begin an outage on a simulated household, as a watch; one that runs already goes on."""
    if (rehearsal := running_rehearsal(job)) is not None:
        return rehearsal
    return _begin(job, "Rehearsal", None, simulated_seed=1 + job.trials.count(), counts=False)


def end_rehearsal(trial: Trial, empty_h: float) -> None:
    """End a rehearsal now, or when its battery was empty."""
    now = trial.now()
    empty = empty_h <= trial.hours_to(now)
    at = trial.started_at + timedelta(hours=empty_h) if empty else now
    last = max((record.at for record in trial.known_check_ins()), default=trial.started_at)
    at = max(at, last + timedelta(seconds=1))
    end_trial(trial, at, "cutoff" if empty else "by hand", None, f"{trial.name} ended")


def _begin(job: Job, what: str, at: datetime | None, **more: Any) -> Trial:
    plan = current_plan(job)
    plan.job = job
    supply = supply_of(plan)
    now = timezone.localtime(at).replace(microsecond=0)
    if "simulated_seed" not in more:
        # Whole minutes, as the timetable of its plan; on a fast clock they would be hours.
        now = now.replace(second=0)
    trial = Trial(
        job=job,
        name=f"{what} of {now:%a} {now.day} {now:%b}"[:80],
        plan=plan if plan.pk else None,
        supply=supply,
        started_at=now,
        start_charge=plan.start_charge,
        stop_at=floor_of(Plan(supply=supply, floor=plan.floor)) or 0.0,
        room_c=plan.room_c,
        needed_h=plan.needed_hours,
        # Two taps at once begin one watch.
        client_key=uuid.uuid5(job.client_key, f"watch {job.trials.count()}"),
        **more,
    )
    ticked = () if plan.pk else {used.load.pk for used in draft_of(plan).used if used.counted}
    return start_trial(trial, ticked)


def change_watch(
    trial: Trial,
    since: datetime,
    charge: float,
    until: datetime,
    step: float | None = None,
    label: str = "",
) -> None:
    """Correct since when it is out, the charge then (share), and until when it is needed.

    ``step`` is that of the display on which the charge was read (share), None as it was if the
    charge stays; ``label`` is what the change is called.

    Raises
    ------
    needle.document.DocumentError
    """
    if step is None and charge == trial.start_charge:
        step = trial.expected.get("start_step")
    trial.started_at, trial.start_charge = since, charge
    trial.needed_h = (until - since).total_seconds() / 3600
    before = trial.expected
    expect(trial, _ticked(trial))
    _keep(trial, before)
    if step:
        trial.expected["start_step"] = step
    trial.to_core()
    save_change(trial.job, trial, label or f"Changed {trial.name}")


def _keep(trial: Trial, before: Mapping[str, Any]) -> None:
    """Keep what was switched, planned, put off and done in a watch that is worked out again."""
    if "on" in before and trial.expected.get("plan"):
        trial.expected["on"] = [name for name in trial.load_names if name in before["on"]]
    for name, window in before.get("chargers", []):
        _plan_charger(trial, name, window)
    for change in before.get("put_off", []):
        # What its plan no longer has needs no exception.
        with suppress(LookupError):
            _put_off(trial, change)
    kept = {key: before[key] for key in ("chargers", "done") if key in before}
    trial.expected = {**trial.expected, **kept}


def take_plan_in(trial: Trial) -> None:
    """Work a watch out from its plan again: where that could not be done at its start.

    Raises
    ------
    needle.document.DocumentError
    """
    needed_h = trial.needed_h or 0.0
    until = trial.started_at + timedelta(hours=needed_h)
    change_watch(trial, trial.started_at, trial.start_charge, until)


def _ticked(trial: Trial) -> set[int]:
    """Loads of a watch without a plan."""
    if trial.plan is not None:
        return set()
    return {used.load.pk for used in draft_of(current_plan(trial.job)).used if used.counted}


def switch(trial: Trial, load: str, on: bool, at: datetime) -> None:
    """Record that a load is on, or off, from a moment on; nothing if it is so already.

    Raises
    ------
    LookupError
        The watch has no such load.
    needle.document.DocumentError
    """
    if load not in trial.load_names:
        raise LookupError(load)
    at = _free_second(trial, at)
    before = trial.on_at(at)
    if (load in before) != on:
        wanted = {*before, load} if on else {*before} - {load}
        _note(trial, {"on": [name for name in trial.load_names if name in wanted]}, at)


def run_charger(trial: Trial, name: str, begin: datetime) -> None:
    """Plan a charger of the trial's plan for two hours from a moment on.

    Raises
    ------
    LookupError
        The plan has no such charger.
    needle.document.DocumentError
        It runs then already.
    """
    window = [begin.isoformat(), (begin + timedelta(hours=CHARGE_H)).isoformat()]
    if not _plan_charger(trial, name, window):
        raise LookupError(name)
    planned = [*trial.expected.get("chargers", []), [name, window]]
    trial.expected = {**trial.expected, "chargers": planned}
    trial.to_core()
    label = f"{name} runs from {day_clock(begin)} for {hours_text(CHARGE_H)}"
    save_change(trial.job, trial, label)


def _plan_charger(trial: Trial, name: str, window: list[str]) -> bool:
    """Add a window to a charger of a trial's plan; return whether it has that charger."""
    plan = trial.expected.get("plan") or {}
    sources = [dict(source) for source in plan.get("sources", [])]
    mine = [source for source in sources if source.get("name") == name and "between" in source]
    for source in mine[:1]:
        source["between"] = [*source["between"], window]
    trial.expected = {**trial.expected, "plan": {**plan, "sources": sources}}
    return bool(mine)


#: What may be said of a step that is not done, and how much later it is then: mains and a charger
#: by an hour, a load by half of one.
PUT_OFF = ("later", "not possible", "already")
LATER = dict.fromkeys(("run-source", *MAINS), timedelta(hours=1))
LATER_LOAD = timedelta(minutes=30)


def later_by(what: str, code: str, at: datetime, made_at: datetime) -> timedelta | None:
    """How much later than its time a step is, one of :data:`PUT_OFF` being said at a moment.

    A step that is late already is put off from then on; one that happened already is earlier. None
    for one that is not possible.
    """
    if what == "not possible":
        return None
    late = timedelta(minutes=round((made_at - at).total_seconds() / 60))
    if what == "already":
        return min(late, -timedelta(minutes=1))
    return max(timedelta(0), late) + LATER.get(code, LATER_LOAD)


def put_off_doing(
    trial: Trial, code: str, name: str, at: datetime, later: timedelta | None
) -> None:
    """Put off one of the next steps, or leave it out if ``later`` is None: the forecast follows.

    With a negative ``later`` it has happened already, and is done.

    Raises
    ------
    LookupError
        No such step is planned then, or a life depends on the load: nothing reckons without it.
    needle.document.DocumentError
        It would meet the next one of its kind.
    """
    if name in lives_of(trial):
        raise LookupError(name)
    _put_off(trial, [code, name, at.isoformat(), _minutes(later)])
    if later is not None and later < timedelta(0):
        _note_done(trial, code, name, at + later)
    trial.to_core()
    what = _put_off_words(code, later)
    save_change(trial.job, trial, f"{name}, {day_clock(timezone.localtime(at))}: {what}")


def _put_off_words(code: str, later: timedelta | None) -> str:
    if later is None:
        return "did not come" if code == "mains-come" else "not possible"
    hours = later.total_seconds() / 3600
    return f"{hours_text(abs(hours))} {'earlier' if hours < 0 else 'later'}"


def lives_of(trial: Trial) -> set[str]:
    """Names of its plan's loads that a life depends on."""
    loads = (trial.expected.get("plan") or {}).get("loads", [])
    return {load["name"] for load in loads if load.get("cares") == "life"}


def _minutes(later: timedelta | None) -> float | None:
    return None if later is None else later.total_seconds() / 60


def _put_off(trial: Trial, change: list[Any]) -> None:
    """Apply a change of the timetable to a trial's plan, and note it."""
    code, name, at, minutes = change
    plan = trial.expected.get("plan") or {}
    start = timezone.localtime(trial.started_at).isoformat()
    later = None if minutes is None else timedelta(minutes=minutes)
    new = put_off({**plan, "start": start}, code, name, datetime.fromisoformat(at), later)
    noted = [*trial.expected.get("put_off", []), change]
    trial.expected = {**trial.expected, "plan": {**plan, **new}, "put_off": noted}


def do(trial: Trial, code: str, name: str, at: datetime) -> None:
    """Note that one of the next steps was done; a second tap notes nothing.

    Raises
    ------
    LookupError
        Its plan has no such load or source.
    """
    plan = trial.expected.get("plan") or {}
    known = {item.get("name") for of in ("loads", "sources") for item in plan.get(of, [])}
    if name not in known or code not in STEPS:
        raise LookupError(name)
    if _note_done(trial, code, name, at):
        save_change(trial.job, trial, f"{name}, {day_clock(timezone.localtime(at))}: done")


def _note_done(trial: Trial, code: str, name: str, at: datetime) -> bool:
    """Note on a trial that a step is done; False if it is so already."""
    step, done = [code, name, timezone.localtime(at).isoformat()], trial.expected.get("done", [])
    if step in done:
        return False
    trial.expected = {**trial.expected, "done": [*done, step]}
    return True


def look(trial: Trial, shown: dict[str, Any], at: datetime) -> None:
    """Store what the display showed at a moment, with the keys of a check-in.

    A first look right after the beginning says with which charge it began.

    Raises
    ------
    needle.document.DocumentError
    """
    (seen,) = parse_check_ins([{"h": 0, **shown}])
    read = any(_shows(record) for record in trial.known_check_ins())
    first = not read and "start_step" not in trial.expected
    if first and trial.hours_to(at) <= FIRST_LOOK_H and seen.shown is not None:
        until = trial.started_at + timedelta(hours=trial.needed_h or 0.0)
        step = 1 / seen.of if seen.of else PERCENT_STEP
        label = f"Charge at the start: {seen.shown * 100:.0f} %"
        # An empty display, or one below the floor, is no start.
        with suppress(DocumentError):
            change_watch(trial, trial.started_at, seen.shown, until, step, label)
            return
        trial.refresh_from_db()
    _note(trial, shown, at)


def _shows(record: CheckIn) -> bool:
    return bool({"percent", "bars"} & set(record.data))


def _note(trial: Trial, data: dict[str, Any], at: datetime) -> CheckIn:
    """Store a check-in of a moment."""
    return check_in(CheckIn(trial=trial, at=_free_second(trial, at), data=data))


def _free_second(trial: Trial, at: datetime) -> datetime:
    """A moment, or the next that is a second after its start and its check-ins."""
    at = max(at, trial.started_at)
    for taken in (trial.started_at, *(record.at for record in trial.known_check_ins())):
        if abs(taken - at) < timedelta(seconds=1):
            at = taken + timedelta(seconds=1)
    return at


def power_is_back(trial: Trial, shown: dict[str, Any], charged_wh: float | None) -> None:
    """End a watch, with the charge at its end and the Wh that went in, where they were read."""
    seen = {**shown, **({} if charged_wh is None else {"wh_in": charged_wh})}
    last = max((record.at for record in trial.known_check_ins()), default=trial.started_at)
    at = max(timezone.now(), last + timedelta(seconds=1))
    end_trial(trial, at, "by hand", seen, f"{trial.name}: power is back")
