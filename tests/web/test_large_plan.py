"""A plan of many loads: read as text, changed one at a time, drawn when it is opened."""

from __future__ import annotations

from tests.web.base import HTMX, SiteTest, make_job, make_load, make_supply
from web.plans.models import Plan
from web.plans.page import MANY_ROWS

LOADS = MANY_ROWS + 8


class LargePlanTest(SiteTest):
    def setUp(self):
        super().setUp()
        make_supply(self.job, nominal_wh=50_000.0, continuous_w=20_000.0, surge_va=40_000.0)
        self.loads = [
            make_load(self.job, f"Lamp {number:02}", 20.0, kind="led") for number in range(LOADS)
        ]
        self.plan = Plan.default_of(self.job)
        self.plan.save()
        self.url_of_plan = self.url("plans:plan", self.plan.pk)

    def page(self, query="", **more):
        # What is slow comes later: the answer is there the second time.
        self.client.get(self.url("answer:bar"))
        return self.client.get(f"{self.url_of_plan}{query}", **more)

    def test_the_first_loads_are_listed_as_text_and_all_on_request(self):
        page = self.page()
        self.assertContains(page, f"All {LOADS}\xa0loads")
        self.assertNotContains(page, f'name="load{self.loads[0].pk}-use"')
        first, last = (
            self.url("plans:row", self.plan.pk, load.pk) for load in (self.loads[0], self.loads[-1])
        )
        self.assertContains(page, first)
        self.assertNotContains(page, last)
        self.assertContains(self.page("?show=loads&all=1"), last)

    def test_a_row_becomes_a_form_and_is_saved(self):
        load = self.loads[-1]
        row = self.client.get(self.url("plans:row", self.plan.pk, load.pk))
        self.assertContains(row, f'name="load{load.pk}-use"')
        sent = {f"load{load.pk}-taken_in": "on", f"load{load.pk}-use": "18:00-22:00"}
        sent |= {f"load{load.pk}-count": "2"}
        answer = self.client.post(self.url("plans:use-load", self.plan.pk, load.pk), sent, **HTMX)
        self.assertEqual(answer.status_code, 200)
        entry = self.plan.entries.get(load=load)
        self.assertEqual((entry.count, entry.windows), (2, [["18:00", "22:00"]]))

    def test_a_row_with_an_error_is_shown_among_many(self):
        load = self.loads[-1]
        sent = {f"load{load.pk}-use": "whenever", f"load{load.pk}-count": "1"}
        answer = self.client.post(self.url("plans:use-load", self.plan.pk, load.pk), sent, **HTMX)
        self.assertContains(answer, "whenever", status_code=422)

    def test_lanes_are_drawn_when_they_are_opened(self):
        self.assertNotContains(self.page(), 'class="block')
        lanes = self.client.get(self.url("plans:lanes", self.plan.pk))
        self.assertContains(lanes, f"Lamp {LOADS - 1:02}")

    def test_a_load_of_another_job_has_no_row(self):
        theirs = make_load(make_job(self.other), "Theirs", 20.0, kind="led")
        answer = self.client.get(self.url("plans:row", self.plan.pk, theirs.pk))
        self.assertEqual(answer.status_code, 404)
