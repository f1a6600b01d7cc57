"""Loads on DC: amps need the volts beside them, and a cord is judged at those."""

from datetime import timedelta

from django.utils import timezone

from tests.web.base import SiteTest, make_load, make_supply
from web.jobs.models import Job
from web.loads.models import Load
from web.plans.draft import document, draft_of
from web.plans.models import Plan, PlanEntry, PlanSource
from web.plans.outcomes import current_plan
from web.plans.runs import snapshot
from web.trials.models import CheckIn, Trial

NEW = {"appliance": "router", "name": "Box", "priority": "should", "dc": "on"}


class DcLoadTest(SiteTest):
    def add(self, **more):
        return self.client.post(self.url("loads:add"), {**NEW, **more})

    def read(self, load, kind="spot", **data):
        return self.client.post(self.url("loads:add-reading", load.pk, kind), data)

    def test_a_label_of_amps_alone_is_refused_and_kept(self):
        answer = self.add(label_amps="1 A")
        self.assertContains(answer, "the volts are needed too", status_code=422)
        self.assertContains(answer, 'value="1 A"', status_code=422)
        self.assertFalse(Load.objects.exists())

    def test_a_label_of_volts_and_amps_keeps_both(self):
        self.add(label_watts="24V 4.2A")
        load = Load.objects.get()
        self.assertEqual(load.readings.get().data, {"watts": 100.8, "volts": 24.0})
        self.assertEqual(load.volts(), 24.0)

    def test_volts_and_amps_of_mains_are_volt_amperes(self):
        self.client.post(
            self.url("loads:add"),
            {**NEW, "dc": "", "appliance": "air-conditioner", "label_watts": "230 V~ 4.1 A"},
        )
        self.assertEqual(Load.objects.get().readings.get().data, {"volts": 230.0, "amps": 4.1})

    def test_a_reading_of_amps_alone_needs_volts_once(self):
        load = make_load(self.job, watts=None, kind="electronics", dc=True)
        alone = {"state": "running", "amps": "2 A", "instrument": "shunt"}
        self.assertContains(self.read(load, **alone), "amps alone are no watts", status_code=422)
        self.assertEqual(self.read(load, **alone, volts="12.6 V").status_code, 302)
        self.assertEqual(self.read(load, **alone).status_code, 302)
        self.assertAlmostEqual(Load.objects.get().profile().running_w.value, 25.2, delta=0.1)

    def test_a_product_stays_one_where_a_form_has_no_volts(self):
        for name, dc, text, watts in (
            ("A", True, "12 V x 5 A", 60.0),
            ("B", False, "5 A @ 230 V", 1150.0),
        ):
            load = make_load(self.job, name, watts=None, kind="compressor-fixed", dc=dc)
            answer = self.read(load, "short-run", watts=text, seconds="90 s", times_per_day="10")
            with self.subTest(text):
                self.assertEqual(answer.status_code, 302)
                self.assertEqual(load.readings.get().data["watts"], watts)

    def test_one_that_has_become_dc_says_what_its_amps_lack(self):
        load = make_load(self.job, watts=None, kind="electronics")
        load.readings.create(type="label", data={"amps": 1.0})
        url = self.url("loads:load", load.pk)
        self.assertNotContains(self.client.get(url), "give the volts")
        Load.objects.update(dc=True)
        self.assertContains(self.client.get(url), "give the volts beside them")

    def test_a_cord_is_judged_at_the_loads_own_volts(self):
        load = make_load(self.job, watts=60.0, kind="electronics", dc=True)
        load.cord_m, load.cord_size, load.cord_material = 10.0, "1.5 mm²", "copper"
        load.save()
        url = self.url("matching:cord", load.pk)
        self.assertContains(self.client.get(url), "read its volts")
        load.readings.create(type="spot", data={"watts": 60.0, "volts": 12.0})
        page = self.client.get(url)
        self.assertAlmostEqual(page.context["running_a"], 5.0, delta=0.2)
        self.assertFalse(page.context["check"].fine)

    def test_it_is_put_on_an_output_of_its_volts(self):
        load = make_load(self.job, "Pump", kind="pump", watts=None, dc=True)
        load.readings.create(type="label", data={"watts": 100.8, "volts": 24.0})
        supply = make_supply(self.job, volts=12.0, series=2, continuous_w=1500.0)
        supply.outputs.create(name="converter", kind="converter", volts=12.0)

        def counted():
            (used,) = draft_of(current_plan(Job.objects.get())).used
            return used.route, used.assumed

        self.assertEqual(counted()[0], "ac")
        self.assertIn("has its volts and watts: counted on AC", counted()[1])
        supply.outputs.create(name="bus", kind="terminals", max_a=1.0)
        self.assertEqual(counted()[0], "ac")
        supply.outputs.update(max_a=40.0)
        self.assertEqual(counted()[0], "bus")

    def test_on_an_output_it_loads_no_inverter(self):
        make_load(self.job, "Kettle", 1000.0, kind="resistive-heat")
        pump = make_load(self.job, "Pump", 100.0, kind="pump", dc=True)
        supply = make_supply(self.job, volts=24.0, continuous_w=1500.0)
        supply.outputs.create(name="bus", kind="terminals")
        page = self.client.get(self.url("matching:starts"))
        self.assertContains(page, "on bus in the plan")
        chosen = {row.load.name: row.chosen for row in page.context["matrix"].rows}
        self.assertEqual(chosen, {"Kettle": True, "Pump": False})
        both = self.client.get(self.url("matching:starts"), {"chosen": 1, "load": pump.pk})
        chosen = {row.load.name: row.chosen for row in both.context["matrix"].rows}
        self.assertEqual(chosen, {"Kettle": False, "Pump": True})

    def test_a_sheet_names_what_is_not_counted(self):
        make_load(self.job, "Fridge", 90.0)
        box = make_load(self.job, "Box", watts=None, kind="electronics", dc=True)
        make_load(self.job, "Attic fan", watts=None)
        box.readings.create(type="label", data={"amps": 1.0})
        make_supply(self.job)
        page = self.client.get(self.url("sheets:sheet"))
        self.assertContains(page, "Box: not counted, amps alone are no watts on DC")
        self.assertContains(page, "Attic fan: not counted, nothing was read of it yet")

    def test_low_volts_of_a_load_on_ac_are_behind_its_adapter(self):
        load = make_load(self.job, "Laptop", kind="electronics", watts=None)
        load.readings.create(type="label", data={"volts": 19.0, "amps": 3.42})
        make_supply(self.job, ac_volts=230.0)
        self.assertEqual(Load.objects.get().volts(), self.job.mains_v)
        answer = self.client.get(self.url("plans:current"), follow=True)
        self.assertNotContains(answer, "needs 19")


class DcOnlyTest(SiteTest):
    """A battery with DC outputs and no inverter."""

    def setUp(self):
        super().setUp()
        self.supply = make_supply(self.job, volts=12.8, continuous_w=None, surge_va=None)
        self.supply.outputs.create(name="fuse box", kind="terminals", max_a=30.0)
        self.supply.outputs.create(name="USB", kind="usb", max_w=60.0)
        self.box = make_load(self.job, "Box", 40.0, dc=True)
        self.box.readings.create(type="spot", data={"watts": 40.0, "volts": 12.6})

    def used(self):
        draft = draft_of(current_plan(Job.objects.get()))
        return {used.name: used for used in draft.used}

    def test_what_runs_on_ac_is_said_to_need_an_inverter(self):
        make_load(self.job, "Lamp", 20.0, kind="led")
        self.assertEqual(self.used()["Lamp"].route, "ac")
        page = self.client.get(self.url("plans:current"))
        self.assertContains(page, "Lamp runs on AC; this supply has no inverter.")
        self.assertContains(page, "✕ no AC here")
        self.assertContains(page, "this load runs on AC")
        alone = self.client.get(self.url("plans:alone"))
        self.assertContains(alone, "runs on AC, and there is no inverter")

    def test_mains_may_run_it_while_they_are_on(self):
        lamp = make_load(self.job, "Lamp", 20.0, kind="led")
        plan = Plan.objects.create(
            job=self.job, name="Night", supply=self.supply, is_current=True, needed_hours=6.0
        )
        begins = timezone.localtime(plan.start)
        use = {"tasks": [f"{begins + timedelta(hours=1):%H:%M}"]}
        PlanEntry.objects.create(
            plan=plan, load=lamp, use=use, steps=[{"watts": 20.0, "minutes": 10.0}]
        )
        mains = {"watts": 100.0, "on_h": 3.0, "off_h": 21.0, "comes": f"{begins:%H:%M}"}
        PlanSource.objects.create(plan=plan, kind="mains", name="Street", data=mains)
        page = self.client.get(self.url("plans:current"))
        self.assertContains(page, "from mains only")
        self.assertNotContains(page, "no inverter")

    def test_what_can_go_dc_goes_to_an_output_that_can_feed_it(self):
        make_load(self.job, "Laptop", 50.0, kind="electronics", can_dc=True)
        used = self.used()
        self.assertEqual((used["Laptop"].route, used["Box"].route), ("fuse box", "fuse box"))
        self.assertEqual((used["Laptop"].can, used["Box"].can), (["USB"], []))
        self.assertContains(self.client.get(self.url("plans:current")), "has no AC output: counted")

    def test_the_worst_minute_is_that_of_its_outputs(self):
        page = self.client.get(self.url("loads:survey"))
        self.assertNotContains(page, "an inverter that trips")
        self.assertTrue(40.0 < page.context["worst_w"] < 46.0)

    def test_meters_of_a_dc_line_come_first(self):
        form = self.client.get(self.url("loads:load", self.box.pk) + "?type=energy").context["form"]
        self.assertEqual(form["instrument"].value(), "shunt")
        page = self.client.get(self.url("loads:load", self.box.pk))
        self.assertContains(page, "hundreds of amps into a short circuit")

    def test_a_run_without_ac_says_nothing_of_what_would_need_it(self):
        make_load(self.job, "Lamp", 20.0, kind="led")
        ended = timezone.now() - timedelta(hours=1)
        draft = draft_of(current_plan(Job.objects.get()))
        trial = Trial.objects.create(
            job=self.job,
            supply=self.supply,
            started_at=ended - timedelta(hours=10),
            ended_at=ended,
            ended_why="by hand",
            expected={"plan": document(draft)},
            ran=snapshot(draft.used, {}, {}, charged=False),
        )
        CheckIn.objects.create(trial=trial, at=ended, data={"percent": 60.0})
        self.supply.continuous_w = 500.0
        self.supply.save()
        (run,) = draft_of(current_plan(Job.objects.get())).runs
        self.assertEqual([load["name"] for load in run.document["loads"]], ["Box"])
