"""Several loads on one meter: one count of all of them, in the plans that run them all."""

import uuid

from needle.package import write
from tests.web.base import SiteTest, import_job, make_load, make_supply
from web.loads.models import CombinedReading
from web.plans.draft import document, draft_of
from web.plans.models import Plan
from web.plans.outcomes import answer_of
from web.sheets.exchange import package_of


class CombinedTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.printer = make_load(self.job, "Printer", 60.0, kind="electronics")
        self.screen = make_load(self.job, "Screen", 60.0, kind="electronics")
        self.supply = make_supply(self.job)
        self.plan = Plan.default_of(self.job)
        self.plan.save()

    def count(self, loads=None, **more):
        chosen = [self.printer, self.screen] if loads is None else loads
        data = {"loads": [load.pk for load in chosen], "wh": "600", "hours": "24", **more}
        data.setdefault("client_key", str(uuid.uuid4()))
        return self.client.post(self.url("loads:combined"), data)

    def runs(self):
        self.job.refresh_from_db()
        vars(self.job).pop("cache", None)
        plan = Plan.objects.get(pk=self.plan.pk)
        plan.job = self.job
        return document(draft_of(plan))["runs"]

    def likely_h(self):
        vars(self.job).pop("cache", None)
        plan = Plan.objects.get(pk=self.plan.pk)
        plan.job = self.job
        return answer_of(plan).outcome.runtime

    def test_a_count_of_both_reaches_the_plan_and_narrows_it(self):
        before = self.likely_h()
        self.assertEqual(self.count().status_code, 302)
        (run,) = self.runs()
        self.assertEqual((run["why"], run["counted"], run["wh"]), ("counted", "ac", 600.0))
        self.assertEqual([load["name"] for load in run["loads"]], ["Printer", "Screen"])
        after = self.likely_h()
        # Labels of 60 W each guessed about 60 W together; 25 W were counted.
        self.assertGreater(after[1], 1.2 * before[1])
        self.assertLess(after[2] / after[0], before[2] / before[0])

    def test_undone_it_is_gone_whole(self):
        before = self.likely_h()
        self.count()
        change = self.job.changes.filter(undone=False).first()
        self.client.post(self.url("jobs:undo", change.pk))
        self.assertEqual(self.runs(), [])
        self.assertEqual(self.likely_h(), before)

    def test_renaming_a_load_keeps_it_and_another_of_its_name_is_not_meant(self):
        self.count()
        self.printer.name = "Old printer"
        self.printer.save()
        make_load(self.job, "Printer", 10.0)
        (run,) = self.runs()
        self.assertEqual({load["name"] for load in run["loads"]}, {"Old printer", "Screen"})

    def test_a_plan_that_leaves_one_out_names_it_as_not_used(self):
        self.count()
        self.client.post(self.url("loads:remove", self.screen.pk))
        self.assertEqual(self.runs(), [])
        page = self.client.get(self.url("plans:plan", self.plan.pk))
        self.assertContains(page, "not all of them are counted in this plan")

    def test_on_all_the_time_is_not_by_the_hours_of_the_plan(self):
        self.client.post(
            self.url("plans:use-load", self.plan.pk, self.screen.pk),
            {"taken_in": "on", "use": "18:00-22:00", "count": "1"},
        )
        self.count(always_on="yes")
        (run,) = self.runs()
        self.assertEqual([load.get("use", "always") for load in run["loads"]], ["always"] * 2)

    def test_what_is_no_count_of_several_is_refused(self):
        for more, words in (
            ({"loads": [self.printer]}, "Tick two to"),
            ({"wh": "20"}, "too small"),
            ({"hours": "0"}, "too small"),
            ({"wh": "soon"}, "not a quantity"),
        ):
            with self.subTest(more):
                self.assertContains(self.count(**more), words, status_code=422)
        stranger = make_load(import_job(write(package_of(self.job)), self.other), "Theirs")
        self.assertEqual(self.count([self.printer, stranger]).status_code, 422)
        self.assertEqual(CombinedReading.objects.filter(job=self.job).count(), 0)

    def test_sent_twice_is_one_and_removing_takes_it_out(self):
        key = str(uuid.uuid4())
        for _ in range(2):
            self.count(client_key=key)
        self.assertEqual(len(self.runs()), 1)
        reading = self.job.combined_readings.get()
        self.assertContains(
            self.client.get(self.url("loads:load", self.printer.pk)), "Counted together"
        )
        self.client.post(self.url("loads:remove-combined", reading.pk))
        self.assertEqual(self.runs(), [])

    def test_a_package_takes_it_along_with_its_loads(self):
        make_load(self.job, "Removed before", 5.0).delete()
        self.count(note="a strip", always_on="yes")
        copy = import_job(write(package_of(self.job)), self.other)
        reading = copy.combined_readings.get()
        self.assertEqual((reading.wh, reading.always_on, reading.note), (600.0, True, "a strip"))
        self.assertEqual([load.job for load in reading.known_loads()], [copy, copy])
        self.assertEqual([load.name for load in reading.known_loads()], ["Printer", "Screen"])
