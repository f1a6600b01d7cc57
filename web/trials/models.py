"""Trials and their check-ins."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from datetime import datetime, timedelta
from typing import Any

from django.core.exceptions import ValidationError
from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models
from django.utils import timezone

from needle.measure.readings import MOST_W, MOST_WH
from needle.plan.load import AC
from needle.plan.sources.source import Source
from needle.trial.finished_run import FinishedRun, run_of, sources_give
from needle.trial.honesty import Foretold
from needle.trial.trial import BATTERY, MOST_H, leg_name, parse_check_ins, parse_trial
from needle.trial.trial import Trial as CoreTrial
from needle.watch.rehearsal import SPEED
from web.common.models import ChoiceField, Record, RecordQuerySet
from web.common.validation import ROOM_C, in_our_time, refused_by_core
from web.jobs.models import Job
from web.jobs.renaming import in_values
from web.loads.models import Load, Reading
from web.plans.models import Plan
from web.supplies.models import Output, Supply, SupplyTest

ENDS = {
    "floor": "reached its floor",
    "cutoff": "cut off by itself",
    "trip": "tripped",
    "by hand": "ended by hand",
}


#: How the contents of a box begin: two trials that begin apart are two different trials.
STARTS = {"warm": "a warm start that is pulled down", "cold": "a cold start that is held"}

#: What a display shows in a check-in.
_SHOWN = ("percent", "bars", "of")
_RAN_KEYS = {"name", "route", "use", "setting", "count", "watts"}
#: Stored since later: Wh that a load took to be cooled down, and its number in the job.
_PULLED_DOWN, _ID = "pulled_down_wh", "id"


#: What ``expected`` has besides a plan or W: keys of the document, and the hours promised.
_BESIDE = ("display", "on", "runtime_h", "chargers")


def known_ran(ran: Any) -> None:
    """Refuse data that :func:`web.plans.runs.snapshot` does not make, as imports may have any."""
    loads = ran.get("loads", []) if isinstance(ran, dict) else None
    right = isinstance(loads, list) and all(
        isinstance(load, dict)
        and set(load) - {_PULLED_DOWN, _ID} == _RAN_KEYS
        and isinstance(load.get(_ID, ""), str)
        and isinstance(load["watts"], int | float)
        and 0 <= load["watts"] <= MOST_W
        and isinstance(load.get(_PULLED_DOWN, 0.0), int | float)
        and 0 <= load.get(_PULLED_DOWN, 0.0) <= MOST_WH
        for load in loads
    )
    if not right:
        raise ValidationError("These are no loads that ran in a trial.")


def known_promise(hours: Any) -> None:
    """Refuse promised hours other than a low, a middle and a high one."""
    if hours is None:
        return
    right = isinstance(hours, list) and len(hours) == 3
    if not right or not all(isinstance(h, int | float) and 0 < h < 1e6 for h in hours):
        raise ValidationError("These are no hours that a plan promised.")


class TrialQuerySet(RecordQuerySet):
    """Trials of a job."""

    def with_check_ins(self) -> TrialQuerySet:
        """With their live check-ins, in one more query."""
        return self.prefetch_related(
            models.Prefetch("check_ins", CheckIn.objects.live(), to_attr="live_check_ins")
        )


def owned(trial: Trial, job: Job) -> Trial:
    """A trial with the job's own object in it and in its supply: its caches are of one request."""
    trial.job = job
    if trial.supply is not None:
        trial.supply.job = job
    return trial


class Trial(Record):
    """A run of a supply. ``believed`` is the battery as known at the start.

    ``expected`` has the plan as it was then (``plan``), or the expected W at the battery (``value``
    and ``spread``, or ``by_hour``); both with the document's keys. ``ran`` has the loads that ran
    in it, from :func:`web.plans.runs.snapshot`.
    """

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="trials")
    name = models.CharField(max_length=80)
    plan = models.ForeignKey(
        Plan, on_delete=models.SET_NULL, null=True, blank=True, related_name="trials"
    )
    supply = models.ForeignKey(
        Supply, on_delete=models.SET_NULL, null=True, blank=True, related_name="trials"
    )
    started_at = models.DateTimeField("started at", default=timezone.now, validators=[in_our_time])
    start_charge = models.FloatField(default=1.0)
    stop_at = models.FloatField(default=0.1)
    believed = models.JSONField(default=dict)
    expected = models.JSONField(default=dict)
    needed_h = models.FloatField(
        "hours that it must last",
        null=True,
        blank=True,
        validators=[MinValueValidator(0.1), MaxValueValidator(MOST_H)],
        help_text="Of a watch, which is an outage for real; empty for a trial.",
    )
    counted = models.CharField("Wh, Ah and W are read at", max_length=40, default=BATTERY)
    room_c = models.FloatField("room", null=True, blank=True, validators=ROOM_C)
    contents = models.CharField(max_length=200, blank=True)
    begins = ChoiceField("contents begin", max_length=4, blank=True, choices=list(STARTS.items()))
    ended_at = models.DateTimeField("ended at", null=True, blank=True, validators=[in_our_time])
    ended_why = ChoiceField(max_length=8, blank=True, choices=list(ENDS.items()))
    ran = models.JSONField(default=dict, blank=True)
    counts = models.BooleanField("use it in plans", default=True)
    carried_test = models.ForeignKey(
        SupplyTest,
        on_delete=models.SET_NULL,
        null=True,
        blank=True,
        related_name="+",
        help_text="The capacity test that it was carried into.",
    )
    carried_reading = models.ForeignKey(
        Reading,
        on_delete=models.SET_NULL,
        null=True,
        blank=True,
        related_name="+",
        help_text="The reading of its load that it was carried into.",
    )
    simulated_seed = models.PositiveIntegerField(null=True, blank=True)
    note = models.CharField(max_length=400, blank=True)

    objects = TrialQuerySet.as_manager()  # type: ignore[misc]

    class Meta:
        ordering = ["-started_at", "-pk"]

    def __str__(self) -> str:
        return self.name

    def clean(self) -> None:
        known_ran(self.ran)
        known_promise(self.expected.get("runtime_h"))

    @property
    def is_watch(self) -> bool:
        """Whether it is an outage for real, which is watched."""
        return self.needed_h is not None

    @property
    def running(self) -> bool:
        return self.ended_at is None

    @property
    def is_rehearsal(self) -> bool:
        """Whether it is an outage on a simulated household, on a fast clock."""
        return self.is_watch and self.simulated_seed is not None

    @property
    def cut_short(self) -> bool:
        """Whether it was ended before its battery was at the floor or cut off."""
        return self.ended_at is not None and self.ended_why not in ("floor", "cutoff")

    def now(self, moment: datetime | None = None) -> datetime:
        """Now, or a moment, by its own clock.

        A rehearsal goes many times as fast, up to the hour needed.
        """
        now = moment or timezone.now()
        if not self.is_rehearsal:
            return now
        passed: timedelta = (now - self.started_at) * SPEED
        until: datetime = self.started_at + min(passed, timedelta(hours=self.needed_h or 0.0))
        return until

    def known_check_ins(self) -> list[CheckIn]:
        """Live check-ins in order of time, prefetched if possible."""
        if not hasattr(self, "live_check_ins"):
            self.live_check_ins = list(self.check_ins.live()) if self.pk else []
        return sorted(self.live_check_ins, key=lambda check_in: (check_in.at, check_in.pk or 0))

    def hours_to(self, moment: datetime) -> float:
        """Hours from the start to a moment."""
        return (moment - self.started_at).total_seconds() / 3600

    def to_document(self) -> dict[str, Any]:
        """The trial as the open document of ``docs/formats.md``."""
        document: dict[str, Any] = {
            "name": self.name,
            "start_charge": self.start_charge,
            "stop_at": self.stop_at,
            "check_ins": [self.seen(check_in) for check_in in self.known_check_ins()],
        }
        if plan := self.expected.get("plan"):
            own: dict[str, Any] = {"start": timezone.localtime(self.started_at).isoformat()}
            if self.room_c is not None:
                own["room_c"] = self.room_c
            document["plan"] = {**plan, **own}
        else:
            document["supply"] = self.believed
        if self.expected and not plan:
            expected = {key: value for key, value in self.expected.items() if key not in _BESIDE}
            document |= {"expected_w": expected} if expected else {}
        for key in ("display", "on", "start_step"):
            if key in self.expected:
                document[key] = self.expected[key]
        if self.ended_at is not None:
            hours = round(self.hours_to(self.ended_at), 4)
            document["ended"] = {"h": hours, "why": self.ended_why}
        return document

    def seen(self, check_in: CheckIn) -> dict[str, Any]:
        """A check-in as in the document; figures are by default at the trial's place."""
        place = {} if self.counted == BATTERY else {"counted": self.counted}
        return {"h": round(self.hours_to(check_in.at), 4), **place, **check_in.data}

    @property
    def places(self) -> list[str]:
        """Where Wh, Ah and W can be read; other than the battery only with a plan."""
        supply = (self.expected.get("plan") or {}).get("supply", {})
        ac = [AC] if supply.get("inverter") else []
        return [BATTERY, *ac, *(output["name"] for output in supply.get("outputs", ()))]

    def foretold(self) -> Foretold | None:
        """The hours that its plan promised and those it had; None if they do not compare.

        It must have run as planned, to its floor or cut-off.
        """
        plan, said = self.expected.get("plan"), self.expected.get("runtime_h")
        changed = any({"leg", "on"} & check_in.data.keys() for check_in in self.known_check_ins())
        if self.ended_at is None or self.cut_short or changed:
            return None
        if not plan or not isinstance(said, list) or len(said) != 3 or not self.counts:
            return None
        low, mid, high = said
        hours, factor = self.hours_to(self.ended_at), plan.get("spread_factor", 1.0)
        return Foretold(low, mid, high, hours, factor) if 0 < low < mid < high else None

    def why_not_a_run(self) -> str:
        """Why plans cannot use a finished trial; "" if they can."""
        reasons = (
            (self.is_rehearsal, "it was a rehearsal"),
            (self.simulated_seed is not None, "it ran on the simulated supply"),
            (not self.counts, "it was switched off for plans"),
            (not (self.expected.get("plan") or {}).get("loads"), "what ran in it was not recorded"),
        )
        if own := next((words for holds, words in reasons if holds), ""):
            return own
        core = self.to_core()
        made = run_of(core)
        if isinstance(made, str):
            return made
        charged = self.ran.get("charged") and (not _sources_of(core) or sources_give(core))
        if charged and made.wh_in is None:
            return "it was charged meanwhile, and nobody noted the Wh, or often the W, that went in"
        return ""

    @property
    def carried(self) -> bool:
        """Whether it was stored as a capacity test, so that it does not count twice."""
        return self.supply is not None and any(
            test.pk == self.carried_test_id for test in self.supply.known_tests() if test.pk
        )

    @property
    def load_names(self) -> list[str]:
        """Names of its plan's loads, as they were called at its start."""
        return [load["name"] for load in (self.expected.get("plan") or {}).get("loads", [])]

    @property
    def load_ids(self) -> set[str]:
        """Keys of its plan's loads in documents: ``load 3``."""
        return {load.get("id", "") for load in (self.expected.get("plan") or {}).get("loads", [])}

    def on_now(self) -> list[str]:
        """Names of its plan's loads that are on by the last check-in."""
        return self.on_at(
            max((record.at for record in self.known_check_ins()), default=timezone.now())
        )

    def on_at(self, moment: datetime, without: CheckIn | None = None) -> list[str]:
        """Names of its plan's loads that run at a moment, by the check-ins before it.

        ``without`` is a check-in that is left out.
        """
        names = self.load_names
        on = [name for name in names if name in self.expected.get("on", names)]
        legs = {"start": on}
        for check_in in self.known_check_ins():
            if check_in.at > moment or (without is not None and check_in.pk == without.pk):
                continue
            leg = check_in.data.get("leg", "")
            on = [name for name in names if name in check_in.data.get("on", legs.get(leg, on))]
            legs[leg or leg_name(on)] = on
        return on

    @property
    def carried_readings(self) -> frozenset[int]:
        """Primary keys of readings that it was carried into, so that it does not count twice."""
        own: int | None = self.carried_reading_id
        return frozenset() if own is None else frozenset({own})

    def ran_as(self, load: Mapping[str, Any]) -> dict[str, Any]:
        """What ``ran`` has of a load of its plan's document; empty if nothing."""
        ran = self.ran.get("loads", [])
        own = [other for other in ran if other.get(_ID) and other[_ID] == load.get(_ID)]
        named = [other for other in ran if other["name"] == load["name"]]
        return next(iter(own or named), {})

    @classmethod
    def naming(cls, record: Record) -> models.QuerySet[Trial]:
        """Trials that may refer to a load or an output."""
        if isinstance(record, Load):
            return cls.objects.filter(job=record.job)
        if isinstance(record, Output):
            return cls.objects.filter(supply=record.supply)
        return cls.objects.none()

    def rename(self, record: Load | Output, before: str) -> bool:
        """Update a record's name in ``ran``; return whether it was referred to."""
        key = "name" if isinstance(record, Load) else "route"
        ran = self.ran.get("loads", [])
        renamed = [in_values(load, key, before, record.name) for load in ran]
        return any(renamed)

    def with_load_ids(self, new: Mapping[str, str]) -> dict[str, Any]:
        """Its documents with other ids of the loads in them, for a package."""

        def renamed(loads: list[dict[str, Any]]) -> list[dict[str, Any]]:
            return [
                {**load, _ID: new.get(load[_ID], load[_ID])} if load.get(_ID) else load
                for load in loads
            ]

        expected, ran = self.expected, self.ran
        if plan := expected.get("plan"):
            expected = {**expected, "plan": {**plan, "loads": renamed(plan.get("loads", []))}}
        if ran.get("loads"):
            ran = {**ran, "loads": renamed(ran["loads"])}
        return {"expected": expected, "ran": ran}

    def as_run(self, fed: Mapping[str, dict[str, Any]]) -> dict[str, Any]:
        """A finished trial as a run of the plan document.

        ``fed`` has a document for each load of its plan, by the load's name in it.
        """
        made = run_of(self.to_core())
        assert not isinstance(made, str)
        run: dict[str, Any] = {
            "hours": made.hours,
            "from": made.start,
            "to": made.end,
            "why": made.why,
            "at": timezone.localtime(self.started_at).isoformat(),
            **_loads_of(made, fed),
            **self._cooled_down(made, fed),
        }
        if made.wh is not None:
            run |= {"wh": made.wh, "counted": made.counted, "counted_h": made.counted_h}
        if self.begins:
            run["begins"] = self.begins
        if made.wh_in:
            run |= {"wh_in": made.wh_in, "wh_in_spread": made.wh_in_spread}
        if self.room_c is not None:
            run["room_c"] = self.room_c
        looks = [
            {"h": check_in["h"], **{key: check_in[key] for key in _SHOWN if key in check_in}}
            for check_in in self.to_document()["check_ins"]
            if "percent" in check_in or "bars" in check_in
        ]
        return {**run, "check_ins": looks} if looks else run

    def _cooled_down(self, made: FinishedRun, fed: Mapping[str, Any]) -> dict[str, Any]:
        """What its loads took to be cooled down at its start, if anything."""
        first = made.legs[0].on if made.legs else None
        pulled = {
            fed[load["name"]]["name"]: self.ran_as(load).get(_PULLED_DOWN, 0.0)
            for load in self.expected["plan"]["loads"]
            if load["name"] in fed and (first is None or load["name"] in first)
        }
        return {"begins": "warm", "pull_down_wh": pulled} if any(pulled.values()) else {}

    def to_core(self) -> CoreTrial:
        return parse_trial(self.to_document())


def _sources_of(core: CoreTrial) -> tuple[Source, ...]:
    return () if core.plan is None else core.plan.sources


def _loads_of(made: FinishedRun, fed: Mapping[str, dict[str, Any]]) -> dict[str, Any]:
    """What a run fed, or its legs, as in the plan document."""

    def loads(on: Collection[str] | None) -> list[dict[str, Any]]:
        return [load for name, load in fed.items() if on is None or name in on]

    if not made.legs:
        return {"loads": loads(None)}
    return {
        "legs": [
            {"h": leg.h, "loads": loads(leg.on) if leg.watts is None else [{"watts": leg.watts}]}
            for leg in made.legs
        ]
    }


class CheckIn(Record):
    """Figures at one moment of a trial: ``data`` has the open document's keys."""

    trial = models.ForeignKey(Trial, on_delete=models.CASCADE, related_name="check_ins")
    at = models.DateTimeField(default=timezone.now, validators=[in_our_time])
    data = models.JSONField(default=dict)

    class Meta:
        ordering = ["at", "pk"]

    def __str__(self) -> str:
        return f"check-in of {self.trial}"

    def clean(self) -> None:
        with refused_by_core():
            parse_check_ins([{"h": 0.0, **self.data}])
