"""Each load alone on a supply, as a page."""

from tests.web.base import HTMX, SiteTest, make_load, make_supply
from web.loads.actions import add_reading
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

    def test_a_load_left_out_of_the_plan_stands_there_too(self):
        load = make_load(self.job, "Lamp", 40.0, kind="led")
        make_supply(self.job)
        self.client.post(self.url("plans:use-load", 0, load.pk), {})
        self.assertIn(">Lamp</a>", self.page())
