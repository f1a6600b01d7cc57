"""What is entered on one page is told, asked about or used on the others."""

import re
from html import unescape

from tests.web.base import SiteTest, make_load, make_supply
from web.loads.actions import add_reading
from web.plans.measurement_tips import measurement_tips
from web.plans.models import Plan, PlanEntry
from web.plans.outcomes import answer_of
from web.supplies.models import Output


class SeamTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.supply = make_supply(self.job)
        self.plan = Plan.objects.create(
            job=self.job, name="Night", supply=self.supply, is_current=True
        )

    def page(self, name, *args):
        return unescape(self.client.get(self.url(name, *args)).text)


class TellingTest(SeamTest):
    def test_a_kettle_of_which_nobody_says_when_is_by_use_on_the_survey(self):
        make_load(self.job, "Kettle", 2200.0, kind="resistive-heat")
        row = re.search(r"<tr[^>]*>(?:(?!</tr>).)*Kettle.*?</tr>", self.page("loads:survey"), re.S)
        self.assertIn("by use", row[0])
        self.assertNotIn("kWh", row[0])

    def test_a_load_measured_in_several_settings_is_asked_which(self):
        load = make_load(self.job, "Screen", kind="electronics")
        for setting, watts in (("dim", 20.0), ("bright", 60.0)):
            add_reading(load, "spot", {"state": "running", "watts": watts, "setting": setting})
        self.assertIn("say which setting it is used in", self.page("plans:plan", self.plan.pk))
        PlanEntry.objects.create(plan=self.plan, load=load, setting="dim")
        self.assertNotIn("say which setting it is used in", self.page("plans:plan", self.plan.pk))

    def test_a_load_of_another_plan_is_listed_as_left_out(self):
        load = make_load(self.job, "Screen")
        PlanEntry.objects.create(plan=self.plan, load=load, taken_in=False)
        self.assertIn("No load is included in this plan", self.page("plans:edit", self.plan.pk))


class RouteTest(SeamTest):
    def setUp(self):
        super().setUp()
        self.output = Output.objects.create(supply=self.supply, name="12 V", volts=12.0)
        self.fan = make_load(self.job, "Fan", 30.0, kind="electronics", dc=True)

    def steps(self):
        return [steady.what for steady in measurement_tips(answer_of(self.plan))]

    def test_a_dc_load_is_entered_on_dc_and_may_be_put_on_ac(self):
        page = self.page("plans:entry", self.plan.pk, self.fan.pk)
        choices = re.findall(r"<option value=\"([^\"]*)\"( selected)?>([^<]+)<", page)
        routes = {value: words for value, _, words in choices}
        self.assertEqual(routes[""], "DC, by 12 V")
        self.assertEqual(routes["ac"], "AC, by the inverter")

    def test_no_plug_meter_is_advised_for_it(self):
        page = self.page("loads:load", self.fan.pk)
        self.assertIn("a DC meter in its line", page)
        advised = re.search(r"<h2>Measure next.*?</ul>", page, re.S)
        self.assertNotIn("plug", advised[0])
        self.assertIn('<option value="shunt" selected>', page)

    def test_no_test_against_ac_is_advised_where_there_is_no_inverter(self):
        self.supply.continuous_w = self.supply.surge_va = self.supply.idle_w = None
        self.supply.efficiency = None
        self.supply.save()
        steps = self.steps()
        self.assertTrue(steps)
        self.assertFalse([step for step in steps if "AC" in step])
