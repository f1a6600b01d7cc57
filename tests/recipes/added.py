"""Runs in the copy: what each recipe of ``docs/how_to_add.md`` added is there for its users."""

from datetime import timedelta
from io import StringIO

from django.core.management import call_command
from django.urls import reverse

from needle.drill.drill import parse_drill
from needle.drill.shipped import DRILLS
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate
from needle.profile.appliances import APPLIANCES
from needle.profile.ledger import readings_ledger
from needle.round.candidate import REMOTE
from needle.round.candidates import candidates
from needle.round.visit import Visit, carried
from tests.web.base import SiteTest, make_load, make_supply
from web.plans.models import Plan


def plan(**more):
    return {
        "start": "2027-02-09T18:00:00+00:00",
        "hours": 48,
        "supply": {
            "battery": {"chemistry": "sodium", "nominal_wh": 1200, "volts": 24.8},
            "inverter": {"continuous_w": 800},
        },
        "loads": [{"name": "Box", "running_w": 90, "duty": 0.4, "spread": 0.4}],
        **more,
    }


class AddedTest(SiteTest):
    def test_no_table_changes(self):
        call_command("makemigrations", "--check", "--dry-run", stdout=StringIO())

    def test_a_kind_of_load(self):
        self.assertIn("stirrer", [appliance.kind for appliance in APPLIANCES.values()])
        posted = {"name": "S", "kind": "stirrer", "priority": "must", "label_watts": "60 W"}
        self.assertEqual(self.client.post(self.url("loads:add"), posted).status_code, 302)
        load = self.job.loads.get()
        self.assertEqual(load.profile().grade, "D")
        self.assertContains(self.client.get(self.url("loads:load", load.pk)), "stirrer")

    def test_a_chemistry(self):
        supply = make_supply(self.job, chemistry="sodium")
        supply.full_clean()
        page = self.client.get(self.url("supplies:edit", supply.pk))
        self.assertContains(page, "sodium ion")
        self.assertGreater(simulate(parse_plan(plan()), draws=30).runtime_h.min(), 5)

    def test_a_source(self):
        pedal = {"kind": "pedal", "watts": 75, "hours": 2}
        alone = simulate(parse_plan(plan()), draws=30).runtime_h
        pedalled = simulate(parse_plan(plan(sources=[pedal])), draws=30).runtime_h
        self.assertTrue((pedalled >= alone - 1e-9).all())
        self.assertGreater(pedalled.mean(), alone.mean())
        make_load(self.job)
        supply = make_supply(self.job)
        record = Plan.objects.create(job=self.job, name="P", supply=supply, needed_hours=8)
        url = self.url("plans:add-source", record.pk, "pedal")
        self.assertContains(self.client.get(url), "A fit person keeps up")
        posted = {"name": "Bike", "watts": "75 W", "hours": "2 h", "taken_in": "on"}
        self.assertEqual(self.client.post(url, posted).status_code, 302)
        self.assertEqual(record.sources.get().data, {"watts": 75.0, "hours": 2.0})

    def test_a_reading(self):
        load = make_load(self.job, watts=None)
        url = self.url("loads:add-reading", load.pk, "daily")
        answer = self.client.post(url, {"wh": "640 Wh", "instrument": "plug"}, follow=True)
        self.assertContains(answer, "640\N{NO-BREAK SPACE}Wh in a day")
        load = self.job.loads.live().with_readings().get()
        self.assertAlmostEqual(load.profile().wh_per_day.value, 640, delta=30)
        (entry,) = readings_ledger(load.to_core())
        self.assertTrue(entry.used)

    def test_a_measurement_of_the_round(self):
        outcome = simulate(parse_plan(plan()), draws=60)
        begins = outcome.plan.start - timedelta(days=10)
        visit = Visit(begins, begins + timedelta(days=2), carried(["plug"]))
        found, _ = candidates(outcome, visit)
        self.assertIn(REMOTE, {candidate.what for candidate in found})

    def test_a_drill(self):
        (document,) = [drill for drill in DRILLS if drill["name"] == "Two lamps"]
        parse_drill(document)
        self.assertContains(self.client.get(reverse("practice:index")), "Two lamps")

    def test_a_page(self):
        make_load(self.job, "Box", 120.0)
        page = self.client.get(self.url("loads:heaviest"))
        self.assertContains(page, "<li>Box: ")
