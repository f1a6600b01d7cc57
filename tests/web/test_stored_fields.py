"""Each stored field reaches a document that answers are worked out from, or is named here."""

import json
from datetime import timedelta
from zoneinfo import ZoneInfo

from django.db import models
from django.utils import timezone

from needle.document import DocumentError
from tests.web.base import SiteTest, clear_caches, make_load, make_supply
from web.jobs.models import Job
from web.loads.actions import add_reading
from web.loads.models import Load, Reading, loads_of
from web.meters.models import Meter
from web.plans.draft import document, draft_of
from web.plans.models import Plan, PlanEntry, PlanSource
from web.plans.runs import snapshot
from web.sheets.documents import load_document
from web.supplies.models import Input, Output, StartTest, Supply, SupplyTest
from web.trials.models import CheckIn, Trial

#: What every record has, and what says where it belongs.
OF_THE_RECORD = {
    "id",
    "client_key",
    "version",
    "created_at",
    "changed_at",
    "removed_at",
    "made_by",
    "job",
    "owner",
    "load",
    "supply",
    "plan",
    "trial",
}
#: Fields that move no document, each with what it is for.
ELSEWHERE = {
    "Job.name": "a name",
    "Job.currency": "what energy costs",
    "Job.tariff": "what energy costs",
    "Job.tariff_hours": "what energy costs",
    "Load.litres": "compared per litre",
    "Load.cord_m": "the check of its cord",
    "Load.cord_size": "the check of its cord",
    "Load.cord_material": "the check of its cord",
    "Load.note": "a note",
    "Load.put_off": "left out of what to measure",
    "Reading.note": "a note",
    "Meter.note": "a note",
    "Supply.build": "which fields its form shows",
    "Supply.note": "a note",
    "SupplyTest.note": "a note",
    "StartTest.beside": "names: their W count",
    "StartTest.note": "a note",
    "StartTest.order": "said with the test",
    "StartTest.tested_at": "which is the newest",
    "Plan.is_current": "which plan the answer bar speaks of",
    "Plan.note": "a note",
    "Trial.believed": "without a plan only, and compared at its end",
    "Trial.needed_h": "of a watch: tested with it",
    "Trial.contents": "for comparing trials",
    "Trial.begins": "for comparing trials",
    "Trial.ran": "settings and cooling down of the loads in it: tested with runs",
    "Job.follows_runs": "from six finished runs on: tested with them",
    "Trial.carried_test": "which test counts once: tested with runs",
    "Trial.carried_reading": "which reading it was made",
    "Trial.note": "a note",
    "Trial.simulated_seed": "of the simulated supply",
}
#: Other values where a field's type does not tell one.
OTHERS = {
    "Job.zone": "Pacific/Auckland",
    "Job.mains": "230-50",
    "Meter.against": None,
    "Meter.pairs": [[100.0, 104.0]],
    "Meter.shows": ["watts", "wh"],
    "Meter.formerly": ["Old plug"],
    "Reading.type": "label",
    "Reading.data": {"watts": 130.0},
    "Load.cord_size": "4 mm2",
    "SupplyTest.type": "efficiency",
    "SupplyTest.data": {"watts": 19.0, "hours": 8.0},
    "Plan.inverter_off": [["23:00", "05:00"]],
    "Load.usual_use": {"always": True},
    "PlanEntry.windows": [],
    "PlanEntry.moments": ["19:30", "20:30"],
    "PlanEntry.steps": [{"watts": 700.0, "minutes": 5.0}],
    "PlanEntry.flexible": [["18:00", "23:00"]],
    "PlanEntry.charge": {"wall_wh": 80.0, "watts": 60.0},
    "PlanSource.kind": "battery",
    "PlanSource.data": {"watts": 90.0, "between": [["20:00", "22:00"]]},
    "PlanEntry.route": "dc12",
    "PlanEntry.setting": "high",
    "Load.setting": "high",
    "Trial.expected": {"value": 50.0},
    "Trial.counted": "ac",
    "CheckIn.data": {"percent": 80.0, "wh": 160.0},
}


class StoredFieldsTest(SiteTest):
    def setUp(self):
        super().setUp()
        Job.objects.filter(pk=self.job.pk).update(mains="120-240-60")
        self.job.refresh_from_db()
        clamp = Meter.objects.create(owner=self.user, name="Clamp", kind="clamp")
        self.meter = Meter.objects.create(
            owner=self.user, name="Plug one", kind="plug", against=clamp, pairs=[[100.0, 103.0]]
        )
        box = make_load(
            self.job, "Box", 120.0, set_c=4.0, hours_per_day=20.0, cord_m=20.0, cord_size="2.5 mm2"
        )
        self.spot = add_reading(
            box,
            "spot",
            {
                "state": "running",
                "watts": 110.0,
                "amps": 1.1,
                "setting": "low",
                "meter": "Plug one",
            },
        )
        add_reading(box, "spot", {"state": "running", "watts": 150.0, "setting": "high"})
        add_reading(box, "energy", {"wh": 600.0, "hours": 24.0, "room_c": 22.0, "setting": "low"})
        self.kettle = make_load(self.job, "Kettle", 880.0, kind="resistive-heat")
        self.lamp = make_load(self.job, "Lamp", 20.0, kind="led", can_dc=True)
        self.supply = make_supply(
            self.job,
            volts=12.8,
            series=2,
            parallel=2,
            floor=0.12,
            capacity_factor=0.9,
            capacity_spread=0.05,
            peukert_n=1.05,
            internal_ohm=0.02,
            cutoff_v=21.0,
            continuous_va=3200.0,
            ac_volts=120.0,
            overload_ratio=1.2,
            overload_s=300.0,
            total_max_w=3500.0,
        )
        self.output = Output.objects.create(
            supply=self.supply,
            name="dc12",
            volts=12.0,
            max_a=10.0,
            max_w=120.0,
            idle_w=1.0,
            efficiency=0.9,
        )
        self.input = Input.objects.create(
            supply=self.supply, name="in", volts=24.0, max_a=10.0, max_w=200.0, controller_a=15.0
        )
        self.idle = SupplyTest.objects.create(
            supply=self.supply, type="idle", data={"watts": 12.0, "hours": 9.0}
        )
        self.plan = Plan.objects.create(
            job=self.job,
            name="Night",
            supply=self.supply,
            needed_hours=12.0,
            room_c=20.0,
            room_swing_c=3.0,
            start_charge=0.95,
            is_current=True,
        )
        self.entries = [
            PlanEntry.objects.create(
                plan=self.plan,
                load=box,
                set_c=5.0,
                warm_kg=4.0,
                warm_c=20.0,
                windows=[["18:00", "23:00"]],
                setting="low",
            ),
            PlanEntry.objects.create(
                plan=self.plan,
                load=self.kettle,
                moments=["19:00"],
                steps=[{"watts": 880.0, "minutes": 4.0}],
            ),
            PlanEntry.objects.create(plan=self.plan, load=self.lamp),
        ]
        self.source = PlanSource.objects.create(
            plan=self.plan,
            kind="window",
            name="Mains",
            data={"watts": 100.0, "between": [["20:00", "22:00"]], "input": "in"},
        )
        self.start_test = StartTest.objects.create(
            supply=self.supply, load=box, result="held", times=2, beside_w=100.0, ran_s=60.0
        )
        ended = timezone.now() - timedelta(days=2)
        self.trial = Trial.objects.create(
            job=self.job,
            name="Dry run",
            plan=self.plan,
            supply=self.supply,
            started_at=ended - timedelta(hours=6),
            ended_at=ended,
            ended_why="by hand",
            expected={"plan": document(draft_of(self.plan))},
            ran=snapshot(draft_of(self.plan).used, {}, {}, charged=False),
            room_c=19.0,
        )
        self.check_in = CheckIn.objects.create(
            trial=self.trial, at=ended - timedelta(minutes=5), data={"percent": 70.0, "wh": 900.0}
        )

    def told(self):
        """All documents of the job that answers are worked out from, or why there are none."""
        clear_caches()
        job = Job.objects.get(pk=self.job.pk)
        with timezone.override(ZoneInfo(job.zone or "UTC")):
            return json.dumps(self.documents(job), default=str)

    def documents(self, job):
        found = []
        try:
            for load in loads_of(job):
                found.append([load_document(load), str(load.to_core())])
            for plan in job.plans.live():
                plan.job = job
                found.append(document(draft_of(plan)))
            for trial in job.trials.live():
                found.append([trial.to_document(), trial.why_not_a_run()])
        except DocumentError as error:
            found.append(str(error))
        return found

    def others(self, record, field):
        """Values that might stand in a field instead."""
        value, name = getattr(record, field.name), f"{type(record).__name__}.{field.name}"
        if name in OTHERS:
            return [OTHERS[name]]
        if field.choices:
            return [key for key, _ in field.choices if key != value]
        if isinstance(field, models.BooleanField):
            return [not value]
        if isinstance(field, models.DateTimeField):
            return [(value or timezone.now()) - timedelta(days=1, hours=3)]
        if isinstance(field, models.FloatField | models.IntegerField):
            whole = isinstance(field, models.IntegerField)
            return [(value or 0) + 1 if whole else value * 1.04 if value else 0.4]
        return [f"{value}x"]

    def test_each_reaches_a_document_or_is_named_here(self):
        before = self.told()
        records = [
            self.job,
            self.meter,
            *Load.objects.all(),
            self.spot,
            self.supply,
            self.output,
            self.input,
            self.idle,
            self.start_test,
            self.plan,
            *self.entries,
            self.source,
            self.trial,
            self.check_in,
        ]
        self.assertIsInstance(self.spot, Reading)
        self.assertIsInstance(self.supply, Supply)
        moved, all_fields = set(), set()
        for record in records:
            for field in record._meta.concrete_fields:
                name = f"{type(record).__name__}.{field.name}"
                if field.name in OF_THE_RECORD or name in moved:
                    continue
                all_fields.add(name)
                rows = type(record).objects.filter(pk=record.pk)
                value = getattr(record, field.attname)
                for other in self.others(record, field) if name not in ELSEWHERE else ():
                    rows.update(**{field.attname: other})
                    if self.told() != before:
                        moved.add(name)
                        break
                rows.update(**{field.attname: value})
        self.assertEqual(self.told(), before)
        self.assertEqual(sorted(all_fields - moved - set(ELSEWHERE)), [])
        self.assertEqual(sorted(set(ELSEWHERE) - all_fields), [])
