"""A plan with its entries and sources in memory, stored or tried, and its open document."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from django.utils import timezone

from needle.moments import occurrences, spread_over_day
from needle.plan.documents.measured import duty_of, load_document, steps_of, use_hours, usual_use
from needle.plan.load import AC
from needle.profile.cost import named_settings
from needle.profile.profile import Profile
from needle.profile.temperature import pull_down_wh
from needle.quantity import hours_text
from needle.supply.outputs import fits_dc, limit_w, on_usb
from needle.supply.supply_tests import SupplyTest, left_on_dc, parse_test
from needle.usage.schedule import with_times
from needle.usage.usual_use import often_text, uses_per_day_of
from web.loads.models import Load, loads_of, numbers_of
from web.plans.combined import CombinedRun, combined_runs
from web.plans.honesty import spread_factor_of
from web.plans.models import Plan, PlanEntry, PlanSource
from web.plans.runs import UsedRun, runs_of
from web.plans.used import UsedLoad
from web.supplies.models import Output, StartTest, Supply, supplies_of

#: Why a load that runs by tasks is not counted.
LENGTH_NOT_KNOWN = "we do not know how long one use takes: add it, such as 19:00 4 min"


#: What a draft has found out that no entry and no source of it changes.
_OF_SUPPLY = ("_routed", "runs", "carried_readings")


@dataclass
class Draft:
    """A plan with everything that belongs to it; changing a draft stores nothing."""

    plan: Plan
    supply: Supply | None
    entries: dict[int, PlanEntry]
    sources: list[PlanSource]

    @cached_property
    def used(self) -> list[UsedLoad]:
        """Every load of the job, as the plan uses it."""
        return [self._use_of(load) for load in loads_of(self.plan.job)]

    def _use_of(self, load: Load) -> UsedLoad:
        entry = self.entries.get(load.pk) or PlanEntry(plan=self.plan, load=load)
        return _used(self, load, entry, self._routed)

    @cached_property
    def _routed(self) -> dict[str, set[str]]:
        return _routed(self.supply)

    @cached_property
    def runs(self) -> list[UsedRun]:
        """Finished trials of the supply, and whether the plan uses them."""
        return runs_of(self.supply, self.plan.job) if self.supply is not None else []

    @cached_property
    def carried_readings(self) -> frozenset[int]:
        """Primary keys of readings that a run was carried into: the run itself counts here."""
        counting = [run.trial for run in self.runs if run.document is not None]
        return frozenset().union(*(trial.carried_readings for trial in counting))

    @cached_property
    def load_documents(self) -> list[dict[str, Any]]:
        """Counted loads as the plan's document has them; none without a supply."""
        return [] if self.supply is None else _load_documents(self, self.supply)

    @cached_property
    def combined(self) -> list[CombinedRun]:
        """Readings of several loads together, and whether the plan uses them."""
        return combined_runs(self.plan.job, self.load_documents)

    def _changed(self, **fields: Any) -> Draft:
        """A copy with other fields, which keeps what is known of the supply and its runs."""
        draft = replace(self, **fields)
        draft.__dict__ |= {key: self.__dict__[key] for key in _OF_SUPPLY if key in self.__dict__}
        return draft

    def with_entry(self, entry: PlanEntry) -> Draft:
        """The draft with another entry of a load; the other loads stay as they are."""
        draft = self._changed(entries={**self.entries, entry.load_id: entry})
        draft.used = [
            draft._use_of(known.load) if known.load.pk == entry.load_id else known
            for known in self.used
        ]
        return draft

    def with_source(self, source: PlanSource) -> Draft:
        """The draft with a source added or replaced."""
        others = [other for other in self.sources if other.pk != source.pk or other.pk is None]
        draft = self._changed(sources=[*others, source])
        draft.used = self.used
        return draft

    def on(self, supply: Supply) -> Draft:
        """The same plan on another supply."""
        return replace(self, supply=supply)


def draft_of(plan: Plan) -> Draft:
    """A stored plan as a draft, in a few queries."""
    entries = {} if plan.pk is None else {entry.load_id: entry for entry in plan.entries.live()}
    sources = [] if plan.pk is None else list(plan.sources.live())
    return Draft(plan, supply_of(plan), entries, sources)


def supply_of(plan: Plan) -> Supply | None:
    """The plan's supply; the job's first if it has none or a removed one."""
    supplies = supplies_of(plan.job)
    named = (supply for supply in supplies if supply.pk == plan.supply_id)
    return next(named, supplies[0] if supplies else None)


def _routed(supply: Supply | None) -> dict[str, set[str]]:
    """Names of loads that were tested on an output, by output."""
    routes: dict[str, set[str]] = {}
    for test in supply.known_tests() if supply else ():
        if test.type == "route":
            routes.setdefault(test.data.get("output", ""), set()).add(test.data.get("load", ""))
    return routes


def _used(draft: Draft, load: Load, entry: PlanEntry, routed: dict[str, set[str]]) -> UsedLoad:
    profile = load.profile(entry.setting, without=draft.carried_readings)
    routes = _routes_of(draft.supply, load)
    able = _able_outputs(draft.supply, load, profile, routed)
    route, on_route = _route_of(draft.supply, load, entry.route, routes, able)
    use, on_use = _use(draft.plan, load, entry, profile)
    times_assumed = use is not None and isinstance(use.get("tasks"), int)
    use = use and with_times(use)
    if use is not None and use_hours(use) > 0:
        profile = load.profile(entry.setting, True, draft.carried_readings)
    tasks = use is not None and "tasks" in use
    steps = (entry.steps or _usual_steps(load, profile)) if tasks else []
    if tasks and not steps and entry.charge is None:
        use, on_use = (
            None,
            "we do not know how long one use takes: say it with its hours, such as 19:00 4 min",
        )
    others = able if load.dc else [AC, *able]
    can = [other for other in others if other != route and other in routes]
    assumptions = [*on_route, on_use, _on_setting(load, entry, profile)]
    words = "; ".join(filter(None, assumptions))
    return UsedLoad(
        load,
        profile,
        entry,
        use or {},
        steps,
        route,
        can,
        words,
        use_known=use is not None,
        times_assumed=times_assumed and entry.charge is None,
    )


def _routes_of(supply: Supply | None, load: Load) -> list[str]:
    """Routes of the supply, in the order in which a load would use them."""
    if supply is None:
        return []
    on_ac = [AC] if supply.continuous_w else []
    on_dc = [output.name for output in supply.known_outputs()]
    return on_dc + on_ac if load.dc else on_ac + on_dc


def _able_outputs(
    supply: Supply | None, load: Load, profile: Profile | None, routed: dict[str, set[str]]
) -> list[str]:
    """Outputs that can feed a load: by its kind of current or a test, their limit, their volts."""
    watts, load_v = profile.running_w.value if profile else 0.0, load.volts()
    outputs = supply.known_outputs() if supply else []
    return [
        output.name
        for output in outputs
        if (_takes_dc(load, output) or load.name in routed.get(output.name, ()))
        and _most_w(output) >= watts
        and fits_dc(load_v, output.kind, _given_v(output))
    ]


def _takes_dc(load: Load, output: Output) -> bool:
    """Whether a load is one for an output, by its details; limits come on top."""
    if load.dc and output.kind == "usb":
        return on_usb(load.volts())
    return load.dc or load.can_dc


def _route_of(
    supply: Supply | None, load: Load, wanted: str, routes: list[str], able: list[str]
) -> tuple[str, list[str]]:
    """The route that a load is counted on, and what was assumed."""
    route = wanted or (able[0] if load.dc and able else AC)
    assumptions = []
    if load.dc and AC in routes:
        assumptions += _why_on_ac(supply, "" if wanted else route, routes)
    if not routes or route in routes:
        return route, assumptions
    gone = "AC output" if route == AC else f"output “{route}”"
    if not load.dc and AC not in routes and not able:
        return AC, [f"{supply} has no AC output, and this load runs on AC"]
    other = AC if AC in routes and not load.dc else (able or routes)[0]
    return other, [*assumptions, f"{supply} has no {gone}: counted on {other}"]


def _why_on_ac(supply: Supply | None, route: str, routes: list[str]) -> list[str]:
    """Why a DC load is counted on AC; empty if it is not."""
    if routes == [AC]:
        return [f"{supply} has no DC output for it: counted on AC"]
    if route == AC:
        return [f"no output of {supply} has its volts and watts: counted on AC"]
    return []


def _on_setting(load: Load, entry: PlanEntry, profile: Profile | None) -> str:
    """Which setting was assumed; empty if it was chosen, or there is only one."""
    if entry.setting or load.setting or profile is None or len(named_settings(load.to_core())) < 2:
        return ""
    one = f"“{profile.setting}”" if profile.setting else "readings that name no setting"
    return f"counted by {one}: say which setting it is used in"


def _usual_steps(load: Load, profile: Profile | None) -> list[dict[str, float]]:
    """A task as measured; else running W for the duration of one use."""
    if profile is None:
        return []
    minutes = load.usual_use.get("minutes")
    if (measured := steps_of(profile)) or minutes is None:
        return measured
    return [{"watts": profile.running_w.value, "minutes": minutes, "duty": 1.0}]


def _most_w(output: Output) -> float:
    return limit_w(output.max_w, output.max_a, _given_v(output))


def _given_v(output: Output) -> float | None:
    given: float | None = output.volts
    return output.supply.bank_v if given is None and output.kind == "terminals" else given


def _use(
    plan: Plan, load: Load, entry: PlanEntry, profile: Profile | None
) -> tuple[dict[str, Any] | None, str]:
    """Times of use of a load, or how often a day (None: unknown), and what was assumed."""
    if entry.always:
        return {}, ""
    if entry.use:
        return entry.use, ""
    if profile is None or load.usual_use.get("always"):
        return {}, ""
    if usual := {key: load.usual_use[key] for key in ("between", "tasks") if key in load.usual_use}:
        return usual, ""
    if (per_day := uses_per_day_of(load.usual_use)) is not None and per_day >= 1:
        usual = {"tasks": round(per_day)}
        return usual, _on_use(plan, load, profile, usual)
    start = timezone.localtime(plan.start)
    use = usual_use(profile, start.hour * 60 + start.minute)
    return use, _on_use(plan, load, profile, use)


def _on_number(plan: Plan, load: Load, tasks: int) -> str:
    """What was assumed where only the number of tasks per day is known."""
    times, minutes = spread_over_day(tasks), round(plan.needed_hours * 60)
    met = occurrences(times, timezone.localtime(plan.start), minutes)
    out = "" if met else ", none of them in this plan"
    rounded = load.usual_use.get("days", 1) > 1
    said = f"{often_text(load.usual_use)}, counted as " if rounded else ""
    return f"{said}{tasks} a day, at times assumed{out}: set the real ones"


def _on_use(plan: Plan, load: Load, profile: Profile, use: dict[str, Any] | None) -> str:
    """What was assumed of a use that follows from a load's evidence; empty if nothing."""
    often = often_text(load.usual_use) if "times" in load.usual_use else ""
    if use is None:
        if often:
            return f"it is used {often}: say when, if it is used in this plan"
        return "say when it is used"
    if "between" in use:
        hours = hours_text(profile.hours_per_day or 0.0, exact=True)
        return f"{hours} a day, assumed from the start of the plan: set the real times"
    if "tasks" in use:
        return _on_number(plan, load, use["tasks"])
    if often:
        return f"{often}, at any hour: set the time if it is known"
    if load.core_kind.by_use and load.hours_per_day is None:
        return "counted as always on: say when it is used"
    return ""


def document(draft: Draft) -> dict[str, Any]:
    """The plan as the open document of ``docs/formats.md``."""
    plan, supply = draft.plan, draft.supply
    assert supply is not None
    battery: dict[str, Any] = {"start_charge": plan.start_charge}
    if plan.floor is not None:
        battery["floor"] = plan.floor
    named = {used_load.route for used_load in draft.used} | {
        route for used_load in draft.used for route in used_load.can
    }
    runs = [run for run in draft.runs if run.document is not None]
    named = named.union(*(run.routes for run in runs))
    # What a run was carried into would count the same evidence twice.
    carried = {run.trial.carried_test_id for run in runs}
    document = supply.to_document(outputs=named, without=carried, **battery)
    for output in document.get("outputs", ()):
        output["off_unused"] = True
    if "inverter" in document:
        document["inverter"] |= {"off_unused": True, "off": plan.inverter_off}
    factor = spread_factor_of(plan.job)
    combined = [run.document for run in draft.combined if run.document]
    return {
        "name": plan.name,
        "start": timezone.localtime(plan.start).isoformat(),
        "hours": plan.needed_hours,
        "needed_hours": plan.needed_hours,
        "odds": min(0.999, max(0.01, plan.odds)),
        "room_c": plan.room_c,
        "room_swing_c": plan.room_swing_c,
        "supply": document,
        "loads": draft.load_documents,
        "runs": [*(run.document for run in runs), *combined],
        **({} if factor == 1 else {"spread_factor": factor}),
        "sources": [
            {**_source_document(source, supply), "id": f"source {number}"}
            for number, source in enumerate(draft.sources)
            if source.taken_in
        ],
    }


def _load_documents(draft: Draft, supply: Supply) -> list[dict[str, Any]]:
    """Counted loads; the job's first load is what the plan is made for."""
    numbers, tried = numbers_of(draft.plan.job), tried_on(supply)
    routes = [
        parse_test(test.to_document()) for test in supply.known_tests() if test.type == "route"
    ]
    first = min((used.load.pk for used in draft.used), default=None)
    return [
        {
            **_load_document(used, tried.get(used.load.pk), routes, numbers),
            "purpose": used.load.pk == first,
        }
        for used in draft.used
        if used.counted
    ]


def _source_document(source: PlanSource, supply: Supply) -> dict[str, Any]:
    """A source's document; with a suitable input if the supply lacks the named one."""
    document = source.to_document()
    if document.get("input") not in {charge_input.name for charge_input in supply.known_inputs()}:
        document.pop("input", None)
    return document


def tried_on(supply: Supply) -> dict[int, StartTest]:
    """The newest start test of each load on a supply, by the load's primary key."""
    return newest_of(supply.start_tests.live() if supply.pk else ())


def newest_of(tests: Iterable[StartTest]) -> dict[int, StartTest]:
    """The last of some start tests of each load, by the load's primary key."""
    return {test.load_id: test for test in tests}


def _load_document(
    used: UsedLoad,
    tried: StartTest | None,
    routes: Sequence[SupplyTest],
    numbers: Mapping[int, int],
) -> dict[str, Any]:
    profile, load, entry = used.profile, used.load, used.entry
    assert profile is not None
    by_task = bool(used.use.get("tasks"))
    use = {"tasks": len(used.use["tasks"])} if used.times_assumed else used.use
    document: dict[str, Any] = {
        **load_document(profile, load.name, use),
        "id": f"load {numbers[load.pk]}",
        "kind": load.kind,
        "route": used.route,
        "use": used.use or "always",
        "priority": load.priority,
        "cares": load.safety_class,
        "count": entry.count,
        "can": used.can,
        "settings": _settings(used),
        "alone": entry.alone,
    }
    if (volts := load.volts()) is not None:
        document["volts"] = volts
    if load.is_wired:
        document["wired"] = True
    if load.on_both_legs:
        document["legs"] = "both"
    document |= _adapter(used, routes)
    # A test of another setting says nothing of this one.
    if tried is not None and tried.setting in ("", used.setting):
        document |= {
            "start_tested": tried.result,
            "start_beside_w": tried.beside_w,
            "start_times": tried.times,
            "start_ran_s": tried.ran_s,
        }
    if by_task and entry.charge is not None:
        document |= {"use": {"charges": used.use["tasks"]}, "charge": entry.charge}
    elif by_task:
        document |= {"steps": used.steps, "flexible": entry.flexible}
    document |= _temperatures(used, profile.measured_room_c)
    if entry.pull_down_h is not None:
        document["pull_down_h"] = entry.pull_down_h
    return document


def _adapter(used: UsedLoad, routes: Sequence[SupplyTest]) -> dict[str, Any]:
    """Share of an electronic load's W that it draws on its DC output, without its adapter."""
    outputs = [route for route in (used.route, *used.can) if route != AC]
    if not outputs or used.load.dc or not used.load.core_kind.electronic:
        return {}
    left = left_on_dc(routes, used.load.name, outputs[0])
    return {"adapter": left.value, "adapter_spread": left.spread}


def _temperatures(used: UsedLoad, measured_room_c: float | None) -> dict[str, Any]:
    """Set point, room while measuring, and energy to cool down warm contents."""
    load, entry = used.load, used.entry
    set_c, room_c = load.set_c, measured_room_c
    if entry.set_c is not None:
        # If no reading has the room, it is assumed to have been the plan's.
        set_c, room_c = entry.set_c, entry.plan.room_c if room_c is None else room_c
    if set_c is None:
        return {}
    document = {"set_c": set_c, "measured_room_c": room_c, "measured_set_c": load.set_c}
    if entry.warm_kg is not None and entry.warm_c is not None:
        document["pull_down_wh"] = pull_down_wh(entry.warm_kg, entry.warm_c, set_c)
    return document


def _settings(used: UsedLoad) -> list[dict[str, Any]]:
    """Other measured settings of a load, which the plan could use."""
    settings = []
    for name in named_settings(used.load.to_core()):
        other = used.load.profile(name) if name != used.setting else None
        if other is not None:
            running, _, duty = duty_of(other, use_hours(used.use))
            settings.append({"name": name, "running_w": running, "duty": duty})
    return settings
