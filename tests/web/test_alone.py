"""Each load alone on a supply, as a page."""

import re

from tests.web.base import HTMX, SiteTest, make_load, make_supply
from web.loads.actions import add_reading
from web.plans.models import Plan, PlanEntry
from web.supplies.models import Output


class AlonePageTest(SiteTest):
    def page(self, **query):
        return self.client.get(self.url("plans:alone"), query).content.decode()

    def test_hours_by_every_route_and_what_does_not_run(self):
        supply = make_supply(self.job)
        Output.objects.create(supply=supply, name="dc12", max_w=240.0)
        router = make_load(self.job, "Router", None, kind="electronics", can_dc=True)
        add_reading(router, "spot", {"watts": 14.0})
        make_load(self.job, "Furnace", 5000.0, kind="resistive-heat")
        page = self.page()
        self.assertIn("On Cabinet, one at a time", page)
        self.assertEqual(page.count(">Router</a>"), 2)
        self.assertIn("longer", page)
        self.assertIn("✕ more than the inverter carries", page)

    def test_tasks_are_counted_and_what_outlasts_two_weeks_is_more_than_that(self):
        plan = Plan.objects.create(
            job=self.job, name="Cups", is_current=True, supply=make_supply(self.job, idle_w=1.0)
        )
        kettle = make_load(self.job, "Kettle", None, kind="resistive-heat")
        add_reading(kettle, "task", {"wh": 100.0, "minutes": 5.0, "runs": 8})
        PlanEntry.objects.create(plan=plan, load=kettle, use={"tasks": ["12:00"]})
        clock = make_load(self.job, "Clock", None, kind="electronics")
        add_reading(clock, "energy", {"wh": 20.0, "hours": 40.0, "step_wh": 0.1})
        lasting = re.findall(r"<strong>(\d+ tasks|more than \d+)", self.page())
        self.assertEqual(lasting[0], "more than 336")
        self.assertRegex(self.page(), r'<td class="num range">336\s+h or more</td>')
        # Of 1,024 Wh on the label some 900 come out, and a cup takes 12.5 Wh at its plug.
        self.assertTrue(50 <= int(lasting[1].split()[0]) <= 75, lasting)

    def test_packs_are_charged(self):
        plan = Plan.objects.create(
            job=self.job, name="Packs", is_current=True, supply=make_supply(self.job)
        )
        radio = make_load(self.job, "Radio", 45.0, kind="electronics")
        PlanEntry.objects.create(
            plan=plan,
            load=radio,
            use={"tasks": ["19:00"]},
            charge={"pack_wh": 52.0, "missing": 0.8, "watts": 45.0},
        )
        self.assertRegex(self.page(), r"<strong>\d+ charges</strong>")

    def test_another_supply_by_a_fragment(self):
        make_load(self.job, "Lamp", 40.0, kind="led")
        make_supply(self.job)
        small = make_supply(self.job, name="Small", nominal_wh=300.0)
        answer = self.client.get(self.url("plans:alone"), {"supply": small.pk}, **HTMX)
        part = answer.content.decode()
        self.assertNotIn("<html", part)
        self.assertIn("On Small, one at a time", part)
        self.assertIn("On Cabinet", self.page(supply="x"))

    def test_what_is_missing_is_said(self):
        self.assertIn("No supply yet", self.page())
        make_supply(self.job)
        self.assertIn("No load has a label or a reading yet", self.page())

    def test_a_load_left_out_of_the_plan_is_listed_too(self):
        load = make_load(self.job, "Lamp", 40.0, kind="led")
        make_supply(self.job)
        self.client.post(self.url("plans:use-load", 0, load.pk), {})
        self.assertIn(">Lamp</a>", self.page())
