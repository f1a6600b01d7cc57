"""Measuring rounds on the site: planned, checked off, planned anew, taken along."""

from datetime import datetime, timedelta
from unittest import mock

from django.db import connection
from django.test.utils import CaptureQueriesContext
from django.urls import reverse
from django.utils import timezone

from needle.plan import answering
from tests.web.base import SiteTest, make_job, make_load, make_supply
from web.loads.actions import add_reading
from web.meters.actions import add_meter, remove_meter
from web.meters.models import Meter
from web.plans.models import Plan, PlanEntry
from web.rounds import actions
from web.rounds.models import DONE, IMPOSSIBLE, STARTED, MeasuringRound


class RoundTest(SiteTest):
    def setUp(self):
        super().setUp()
        # Enough that what each load is worth stands out.
        more = mock.patch.object(answering, "MOST_DRAWS", 160)
        more.start()
        self.addCleanup(more.stop)
        make_supply(self.job, nominal_wh=2000.0, continuous_w=1500.0)
        self.box = make_load(self.job, "Box", 140.0)
        self.router = make_load(self.job, "Router", 60.0, kind="electronics")
        self.mat = make_load(self.job, "Mat", 300.0, kind="thermostat-heat", cares="life")

    def plan(self, hours=3.0, **more):
        begins = timezone.localtime() + timedelta(minutes=2)
        form = self.client.get(self.url("rounds:index")).context["form"]
        data = {
            "begins": f"{begins:%Y-%m-%dT%H:%M}",
            "ends": f"{begins + timedelta(hours=hours):%Y-%m-%dT%H:%M}",
            "plug": "2",
            "clamp": "1",
            "target": "plan",
            "keep": form.initial["keep"],
            **more,
        }
        return self.client.post(self.url("rounds:index"), data)

    def made(self):
        return MeasuringRound.objects.get(job=self.job)

    def mark(self, record, number, state):
        data = {"step": record.steps[number]["key"], "state": state}
        return self.client.post(self.url("rounds:mark", record.pk), data, follow=True)

    def subjects(self, record):
        return {step["load"] for step in record.steps if not step["state"]}

    def test_it_is_planned_and_leaves_alone_what_keeps_somebody_alive(self):
        answer = self.plan()
        record = self.made()
        self.assertRedirects(answer, self.url("rounds:round", record.pk))
        page = self.client.get(self.url("rounds:round", record.pk))
        self.assertContains(page, "Step by step")
        self.assertContains(page, "Its plug stays in")
        self.assertIn("Box", self.subjects(record))
        # Ears may listen to what no hand may unplug.
        of_mat = [step for step in record.steps if step["load"] == "Mat"]
        self.assertEqual([step["what"] for step in of_mat], ["tally"])
        row = next(row for row in page.context["page"].rows if row.key == of_mat[0]["key"])
        self.assertIn("?type=tally", row.form_url)
        self.assertContains(self.client.get(row.form_url), "on 0:00")
        low, _, high = record.told["after_h"]
        self.assertLess(high - low, record.before_h[2] - record.before_h[0])

    def test_what_decides_whether_the_plan_holds_is_said(self):
        supply = self.job.supplies.get()
        supply.continuous_w, supply.nominal_wh, supply.surge_va = 900.0, 3000.0, 9000.0
        supply.save()
        saw = make_load(self.job, "Saw", 700.0, kind="induction-motor")
        start = timezone.now().replace(hour=18, minute=0) + timedelta(days=1)
        plan = Plan.objects.create(
            job=self.job, supply=supply, name="Evening", start=start, needed_hours=4.0
        )
        PlanEntry.objects.create(plan=plan, load=saw, windows=[["20:00", "20:30"]])
        PlanEntry.objects.create(plan=plan, load=self.mat, taken_in=False)
        self.plan(plan=plan.pk)
        record = self.made()
        decisive = max(record.steps, key=lambda step: step["settles"])
        self.assertEqual(decisive["load"], "Saw")
        page = self.client.get(self.url("rounds:round", record.pk))
        decides = '<p class="mute">It can decide whether the plan holds.</p>'
        self.assertContains(page, decides, count=1)

    def test_somebody_may_say_that_it_can_be_unplugged(self):
        self.plan(keep=[])
        self.assertIn("Mat", self.subjects(self.made()))
        self.assertEqual(self.made().told["alone"], [])

    def test_what_is_wrong_is_said_and_kept(self):
        for wrong, said in (
            ({"plug": "0", "clamp": "0"}, "at least one meter"),
            ({"hours": 0.05}, "A round takes"),
            ({"plug": "99"}, "less than or equal to 6"),
            ({"begins": "soon"}, "valid date"),
        ):
            with self.subTest(said=said):
                self.assertContains(self.plan(**wrong), said, status_code=422)
        self.assertFalse(MeasuringRound.objects.exists())

    def test_without_an_answer_it_says_what_is_missing(self):
        self.job.supplies.all().delete()
        self.assertContains(self.plan(), "No supply yet", status_code=422)

    def test_steps_begin_are_done_and_the_rest_is_planned_anew(self):
        self.plan()
        record = self.made()
        self.mark(record, 0, STARTED)
        record.refresh_from_db()
        self.assertEqual(record.steps[0]["state"], STARTED)
        self.mark(record, 0, DONE)
        record.refresh_from_db()
        self.assertEqual(record.steps[0]["state"], DONE)
        again = [step["key"] for step in record.steps if not step["state"]]
        self.assertNotIn(record.steps[0]["key"], again)
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        record.refresh_from_db()
        self.assertEqual(record.steps[0]["state"], STARTED)

    def test_what_cannot_be_done_is_not_planned_again(self):
        self.plan()
        record = self.made()
        number = next(n for n, step in enumerate(record.steps) if step["load"] == "Box")
        self.mark(record, number, IMPOSSIBLE)
        self.assertNotIn("Box", self.subjects(self.made()))

    def test_a_meter_that_is_removed_while_its_step_runs(self):
        meter = add_meter(Meter(owner=self.user, name="Blue", kind="plug"))
        self.plan(own=["own:Blue"], plug="1")
        record = self.made()
        number = next(n for n, step in enumerate(record.steps) if step["meter"] == "Blue")
        self.mark(record, number, STARTED)
        remove_meter(meter)
        answer = self.client.post(self.url("rounds:anew", record.pk), follow=True)
        self.assertEqual(answer.status_code, 200)
        started = [step for step in self.made().steps if step["state"] == STARTED]
        self.assertEqual([step["meter"] for step in started], ["Blue"])

    def test_a_reading_that_comes_plans_the_rest_anew(self):
        self.plan()
        record = self.made()
        url = self.url("rounds:round", record.pk)
        self.assertNotContains(self.client.get(url), 'hx-trigger="load, submit"')
        add_reading(self.box, "energy", {"wh": 900.0, "hours": 26.0})
        self.assertContains(self.client.get(url), 'hx-trigger="load, submit"')
        self.client.post(self.url("rounds:anew", record.pk))
        self.assertNotContains(self.client.get(url), 'hx-trigger="load, submit"')
        self.assertNotIn("Box", self.subjects(self.made()))

    def test_the_form_of_a_step_is_filled_in(self):
        self.plan()
        record = self.made()
        step = next(step for step in record.steps if step["what"] == "counter")
        load = self.job.loads.get(name=step["load"])
        page = self.client.get(self.url("rounds:round", record.pk))
        first, last = (datetime.fromisoformat(step[key]) for key in ("first", "last"))
        counted_h = (last - first - timedelta(minutes=5)) / timedelta(hours=1)
        self.assertContains(page, f"/loads/{load.pk}/?type=energy&amp;hours={counted_h:.2f}")
        form = self.client.get(self.url("loads:load", load.pk), {"type": "energy", "hours": "1.5"})
        self.assertContains(form, 'value="1.5"')

    def test_a_count_of_everything_is_entered_where_plans_rest_on_it(self):
        self.job.plans.create(
            name="Later", is_current=True, start=timezone.now() + timedelta(days=9)
        )
        for number in range(5):
            make_load(self.job, f"Set {number}", 90.0, kind="electronics")
        self.plan(plug="0", shunt="1")
        record = self.made()
        step = next(step for step in record.steps if step["what"] == "together")
        self.assertNotIn("Mat", step["loads"])
        page = self.client.get(self.url("rounds:round", record.pk)).context["page"]
        url = next(row.form_url for row in page.rows if row.key == step["key"])
        form = self.client.get(url).context["form"]
        self.assertEqual(form["loads"].value(), step["loads"])
        data = {"loads": step["loads"], "hours": form["hours"].value(), "wh": "1200"}
        self.assertEqual(self.client.post(url, data).status_code, 302)
        test = self.job.supplies.get().to_core().tests[0]
        self.assertEqual((test.loads, test.wh), (tuple(step["loads"]), 1200.0))

    def test_its_page_asks_the_same_of_the_store_for_many_steps(self):
        self.plan()
        record = self.made()
        page = self.url("rounds:round", record.pk)
        with CaptureQueriesContext(connection) as few:
            self.client.get(page)
        record.steps = record.steps * 5
        record.save()
        with self.assertNumQueries(len(few)):
            self.client.get(page)

    def test_files_to_take_along(self):
        self.plan()
        record = self.made()
        for name, holds in (
            ("round.json", b'"steps"'),
            ("round.csv", b"from,until,meter"),
            ("round.ics", b"BEGIN:VEVENT"),
            ("round.svg", b"<svg"),
        ):
            answer = self.client.get(self.url("rounds:download", record.pk, name))
            self.assertIn(holds, answer.content, name)
        self.assertEqual(
            self.client.get(self.url("rounds:download", record.pk, "x.exe")).status_code, 404
        )

    def test_nobody_sees_another_ones_round(self):
        theirs = MeasuringRound.objects.create(
            job=make_job(self.other), ends=timezone.now() + timedelta(hours=1)
        )
        for name in ("rounds:round", "rounds:anew", "rounds:remove"):
            url = reverse(name, args=[self.job.pk, theirs.pk])
            self.assertEqual(self.client.post(url).status_code in (404, 405), True, name)
        self.assertEqual(self.client.get(self.url("rounds:round", theirs.pk)).status_code, 404)

    def test_a_step_or_a_state_that_is_none(self):
        self.plan()
        record = self.made()
        self.assertEqual(self.mark(record, 0, "flown").status_code, 404)
        record.steps[0]["key"] = "spot: Nothing"
        self.assertContains(self.mark(record, 0, DONE), "no longer in this round")

    def test_a_page_of_before_the_rest_was_planned_anew_marks_the_step_it_showed(self):
        self.plan()
        old, shown = self.made(), self.made().steps[-1]["key"]
        self.mark(old, 0, IMPOSSIBLE)
        self.mark(old, len(old.steps) - 1, DONE)
        states = {step["key"]: step["state"] for step in self.made().steps}
        self.assertEqual(states[shown], DONE)
        self.assertEqual(states[old.steps[0]["key"]], IMPOSSIBLE)

    def test_of_two_hands_at_once_neither_is_lost(self):
        self.plan()
        record, plan_rest = self.made(), actions._plan_rest
        other = record.steps[1]["key"]
        hands = iter([lambda: actions.mark(self.made(), other, STARTED, timezone.now())])

        def plan_slowly(record, at):
            plan_rest(record, at)
            next(hands, lambda: None)()

        with mock.patch.object(actions, "_plan_rest", plan_slowly):
            self.mark(record, 0, DONE)
        states = {step["key"]: step["state"] for step in self.made().steps}
        self.assertEqual((states[record.steps[0]["key"]], states[other]), (DONE, STARTED))

    def test_sent_twice_it_is_one_change(self):
        self.plan()
        record, before = self.made(), self.job.changes.count()
        for _ in range(2):
            self.mark(record, 0, STARTED)
        self.assertEqual(self.job.changes.count(), before + 1)
