"""Load and plan documents of a job, in and out."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeVar

from django.core.exceptions import ValidationError
from django.db import models, transaction

from needle.document import DocumentError
from needle.measure.readings import parse
from needle.plan.documents.parse import parse_plan
from needle.profile.document import parse_load
from needle.profile.kinds import WIRED
from needle.profile.record import LoadRecord
from needle.usage.schedule import use_from_text
from needle.usage.usual_use import use_of_rate
from web.jobs.actions import as_one
from web.jobs.models import Job
from web.loads.actions import add_load, add_reading, with_volts
from web.loads.models import MOST_NOTE, SAFETY_CLASSES, Load
from web.meters.actions import take_in_documents
from web.meters.models import documents_naming
from web.plans.actions import save_plan, save_source, use_load
from web.plans.models import Plan, PlanEntry, PlanSource

R = TypeVar("R", bound=models.Model)


def load_document(load: Load) -> dict[str, Any]:
    """A load with its readings as the open document; captures as their analyses."""
    document: dict[str, Any] = {
        "name": load.name,
        "kind": load.kind,
        "mains": {
            "volts": load.job.mains_v,
            "hertz": load.job.mains_hz,
            **({"split": True} if load.job.split else {}),
        },
        "readings": [reading.to_document() for reading in load.known_readings()],
    }
    named = {str(reading["meter"]) for reading in document["readings"] if "meter" in reading}
    if meters := documents_naming(load.job.owner_id, named):
        document["meters"] = meters
    for key, value in (("set_c", load.set_c), ("hours_per_day", load.hours_in_use)):
        if value is not None:
            document[key] = value
    if load.legs:
        document["legs"] = load.legs
    if load.cares in SAFETY_CLASSES:
        document["cares"] = SAFETY_CLASSES[load.cares]
    if load.setting:
        document["setting"] = load.setting
    if load.runs_by:
        document["runs_by"] = load.runs_by
    record = load.to_core()
    if record.uses_per_day is not None:
        minutes = {} if record.use_min is None else {"minutes": record.use_min}
        document["uses_per_day"] = {"value": record.uses_per_day.value, **minutes}
    for flag, applies in (
        ("never_rarer", load.never_rarer),
        ("dc", load.dc),
        ("wired", load.is_wired),
    ):
        if applies:
            document[flag] = True
    return document


def add_load_document(job: Job, data: Any) -> Load:
    """Store a load document as a new load with its readings.

    A reading that used the document's mains voltage keeps it.

    Raises
    ------
    DocumentError
    """
    record = parse_load(data)
    if job.loads.live().filter(name=record.name).exists():
        raise DocumentError("name", f"this job already has a load called “{record.name}”")
    with transaction.atomic(), as_one(job, f"Added {record.name}"):
        load = add_load(
            _checked(
                Load(
                    job=job,
                    name=record.name[:80],
                    kind=record.kind,
                    set_c=data.get("set_c"),
                    setting=record.setting,
                    # Uses and their minutes are hours too: they are kept once.
                    hours_per_day=None if record.uses_per_day else record.hours_per_day,
                    never_rarer=record.never_rarer,
                    dc=record.dc,
                    wired=bool(data.get("wired")) or data.get("cares") == WIRED,
                    cares=_cares_of(data),
                    legs=data.get("legs") or "",
                    runs_by=record.runs_by,
                    usual_use=_usual_use(record),
                )
            )
        )
        take_in_documents(job.owner, data.get("meters") or [])
        for item in data.get("readings") or []:
            own = {key: value for key, value in item.items() if key not in ("type", "at")}
            note = _short_note(own)
            if "mains" in data or "volts" in data:
                own = with_volts(own, record.mains_v, load.mains_v)
            made = parse(item).context.at
            add_reading(load, item["type"], own, read_at=made, note=note)
    return load


def _cares_of(data: Mapping[str, Any]) -> str:
    """What depends on a load, as it is kept here; empty where its document does not say."""
    kept = {safety_class: cares for cares, safety_class in SAFETY_CLASSES.items()}
    return kept.get(data["cares"], "") if "cares" in data else ""


def _short_note(reading: dict[str, Any]) -> str:
    """A reading's remark, taken out of it; a longer one stays as it came."""
    return reading.pop("note") if 0 < len(reading.get("note") or "") <= MOST_NOTE else ""


def _usual_use(record: LoadRecord) -> dict[str, Any]:
    """How often and how long a load is used, as it is kept here."""
    if record.uses_per_day is None:
        return {}
    if record.use_min is None:
        raise DocumentError("uses_per_day", "needs `minutes`, to be kept here")
    try:
        return use_of_rate(record.uses_per_day.value, record.use_min)
    except DocumentError as error:
        raise DocumentError("uses_per_day", error.message) from None


def add_plan_document(job: Job, data: Any) -> tuple[Plan, list[str]]:
    """Store a plan document as a new plan with the job's own loads and supply, matched by name.

    Returns
    -------
    plan, left_out : Plan, list of str
        Names of loads that the job does not have.

    Raises
    ------
    DocumentError
    """
    core = parse_plan(data)
    supplies = {supply.name: supply for supply in job.supplies.live()}
    loads = {load.name: load for load in job.loads.live()}
    supply = supplies.get((data.get("supply") or {}).get("name", ""))
    name = str(data.get("name") or "Plan from a file")[:80]
    with transaction.atomic(), as_one(job, f"Added {name}"):
        plan = save_plan(
            _checked(
                Plan(
                    job=job,
                    name=name,
                    supply=supply,
                    start=core.start,
                    needed_hours=core.needed_hours,
                    room_c=core.room_c,
                    room_swing_c=core.room_swing_c or None,
                    start_charge=core.supply.battery.start_charge,
                    floor=core.supply.battery.floor,
                    inverter_off=((data["supply"].get("inverter") or {}).get("off")) or [],
                )
            )
        )
        # The reader gives a load without a name one of its own.
        items = {
            load.name: item for load, item in zip(core.loads, data.get("loads") or [], strict=True)
        }
        for load in loads.values():
            use_load(_checked(_entry(plan, load, items.get(load.name))))
        for item in data.get("sources") or []:
            rest = {key: value for key, value in item.items() if key not in ("kind", "name")}
            name = str(item.get("name") or item["kind"])
            save_source(
                _checked(PlanSource(plan=plan, kind=item["kind"], name=name[:60], data=rest))
            )
    return plan, [item for item in items if item not in loads]


def _checked(record: R) -> R:
    """A validated record; errors are raised as those of its document."""
    try:
        record.clean_fields(exclude={"job", "plan", "load", "supply"})
        record.clean()
    except ValidationError as error:
        raise DocumentError("", f"cannot be imported: {error.messages[0]}") from None
    return record


def _entry(plan: Plan, load: Load, item: dict[str, Any] | None) -> PlanEntry:
    if item is None:
        return PlanEntry(plan=plan, load=load, taken_in=False)
    use = item.get("use", "always")
    entry = PlanEntry(
        plan=plan,
        load=load,
        count=item.get("count", 1),
        alone=item.get("alone", False),
        flexible=item.get("flexible", []),
        steps=item.get("steps", []),
        charge=item.get("charge"),
        route="" if item.get("route", "ac") == "ac" else item["route"],
    )
    if isinstance(use, dict):
        moments = use.get("tasks") or use.get("charges")
        if isinstance(moments, int):
            moments = use_from_text(f"{moments} a day")["tasks"]
        entry.use = {"tasks": moments} if moments else {"between": use["between"]}
    entry.always = use == "always" and "use" in item
    return entry
