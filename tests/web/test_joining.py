"""A load that is added joins the plan one comes from, and no other, and is told with its hours."""

import re

from tests.web.base import SiteTest, make_load, make_supply
from web.jobs.actions import latest_change, undo
from web.plans.models import Plan


class JoiningTest(SiteTest):
    def setUp(self):
        super().setUp()
        make_load(self.job, "Box")
        self.supply = make_supply(self.job)
        self.night = Plan.objects.create(
            job=self.job, name="Night", supply=self.supply, is_current=True
        )
        self.day = Plan.objects.create(job=self.job, name="Day", supply=self.supply)

    def add(self, name, **query):
        self.client.post(
            self.url("loads:add"),
            {
                "name": name,
                "kind": "electronics",
                "label_watts": "90 W",
                "priority": "should",
                "cord_material": "copper",
            },
            query_params=query,
        )
        return self.job.loads.get(name=name)

    def taken_in(self, load):
        left_out = load.entries.live().filter(taken_in=False).values_list("plan__name", flat=True)
        return {"Night", "Day"} - set(left_out)

    def test_it_joins_one_plan_and_the_bar_shows_its_effect(self):
        load = self.add("Screen")
        self.assertEqual(self.taken_in(load), {"Night"})
        page = self.client.get(self.url("loads:load", load.pk)).text
        told = re.search(r"Screen joined this plan: with it (.+), without it (.+)\.", page)
        self.assertIsNotNone(told)
        self.assertNotEqual(told[1], told[2])
        undo(self.job, latest_change(self.job).pk)
        self.assertFalse(self.job.loads.live().filter(name="Screen").exists())
        self.assertNotIn("joined this plan", self.client.get(self.url("loads:survey")).text)

    def test_what_takes_next_to_nothing_leaves_the_hours(self):
        self.client.post(
            self.url("loads:add"),
            {
                "appliance": "kettle",
                "name": "Iron",
                "label_watts": "20 W",
                "priority": "should",
                "often": "once a day, 1 minute",
                "cord_material": "copper",
            },
        )
        page = self.client.get(self.url("loads:survey")).text
        self.assertIn("Iron joined this plan, which lasts about as long:", page)

    def test_it_joins_the_plan_one_comes_from(self):
        load = self.add("Screen", plan=self.day.pk)
        self.assertEqual(self.taken_in(load), {"Day"})
        self.assertNotIn("joined this plan", self.client.get(self.url("loads:survey")).text)

    def test_the_first_load_of_a_plan_is_compared_with_nothing(self):
        self.job.loads.update(removed_at=self.night.created_at)
        load = self.add("Screen")
        page = self.client.get(self.url("loads:load", load.pk)).text
        self.assertNotIn("joined this plan", page)
