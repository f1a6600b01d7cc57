"""Supplies, plans, and the answer bar that speaks of them."""

import csv
import io

from tests.web.base import HTMX, SiteTest, make_load, make_supply
from web.jobs.models import Job
from web.plans.models import Plan, PlanEntry
from web.plans.outcomes import answer_of, current_plan
from web.supplies.models import Supply

FORM = {
    "name": "Cabinet",
    "chemistry": "lfp",
    "nominal_wh": "100 Ah @ 51.2 V",
    "continuous_w": "3 kW",
    "waveform": "sine",
}
PLAN = {
    "name": "Storm",
    "needed_hours": "24 h",
    "start": "2027-02-09T18:00",
    "start_charge": "100 %",
}


class SupplyTest(SiteTest):
    def post(self, **changes):
        return self.client.post(self.url("supplies:add"), {**FORM, **changes})

    def test_label_units_are_understood(self):
        self.assertRedirects(self.post(), self.url("plans:current"))
        supply = self.job.supplies.get()
        self.assertAlmostEqual(supply.nominal_wh, 5120.0)
        self.assertEqual(supply.continuous_w, 3000.0)

    def test_shares_are_stored_as_shares_and_shown_in_percent(self):
        self.post(floor="12 %", efficiency="92", overload_ratio="115 %", overload_s="60")
        supply = self.job.supplies.get()
        self.assertAlmostEqual(supply.floor, 0.12)
        self.assertEqual(supply.to_core().inverter.overload, ((1.15, 60.0),))
        page = self.client.get(self.url("supplies:edit", supply.pk))
        self.assertContains(page, 'value="12 %"')
        self.assertContains(page, 'value="5120 Wh"')

    def test_bad_input(self):
        for changes, said in [
            ({"nominal_wh": "24 Ah"}, "Give the volts too"),
            ({"nominal_wh": "-5 Wh"}, "too small"),
            ({"surge_va": "2 kVA"}, "below the continuous"),
            ({"floor": "100 %"}, "more than this can be"),
            ({"continuous_w": "", "idle_w": "20 W"}, "need its continuous watts"),
            ({"overload_ratio": "115 %"}, "both a percentage and a time"),
            ({"overload_ratio": "50 %", "overload_s": "5 s"}, "too small"),
            ({"efficiency": "120 %"}, "more than this can be"),
            ({"chemistry": "muesli"}, "valid choice"),
        ]:
            with self.subTest(said=said):
                self.assertContains(self.post(**changes), said, status_code=422)
        self.assertFalse(Supply.objects.exists())

    def test_the_staircase_shows_its_numbers(self):
        self.post(idle_w="28 W", efficiency="92 %")
        listed = self.client.get(self.url("supplies:list"))
        self.assertContains(listed, "5.12\u00a0kWh")
        self.assertContains(listed, "reaches the loads")
        page = self.client.get(self.url("supplies:supply", self.job.supplies.get().pk))
        self.assertContains(page, "until a trial")
        self.assertContains(page, "52\u00a0%")

    def test_a_usb_bank_has_no_inverter(self):
        self.post(chemistry="usb", nominal_wh="24000 mAh @ 3.6 V", continuous_w="")
        self.assertContains(self.client.get(self.url("supplies:list")), "no inverter")
        make_load(self.job)
        self.assertContains(self.client.get(self.url("plans:current")), "has no way out yet")

    def test_removed_supplies_leave_the_plan_and_come_back(self):
        supply = make_supply(self.job)
        make_load(self.job)
        self.client.post(self.url("supplies:remove", supply.pk))
        self.assertEqual(answer_of(current_plan(self.job)).reason, "supply")
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        # The next request: what one has fetched of a job is kept for it.
        job = Job.objects.get(pk=self.job.pk)
        self.assertEqual(answer_of(current_plan(job)).reason, "")


class AnswerTest(SiteTest):
    def bar(self):
        return self.client.get(self.url("answer:bar")).content.decode()

    def test_says_what_is_missing_in_order(self):
        self.assertIn("No load yet", self.bar())
        load = make_load(self.job, watts=None)
        self.assertIn("No supply yet", self.bar())
        make_supply(self.job)
        self.assertIn("No load has a label", self.bar())
        from web.loads.actions import add_reading

        add_reading(load, "label", {"watts": 120.0})
        self.assertRegex(self.bar(), "Lasts .* to .* likely")

    def test_sentence_has_value_range_starts_and_shortfall(self):
        make_load(self.job, "Heater", 1200.0, kind="resistive-heat")
        make_supply(self.job)
        bar = self.bar()
        for words in (
            "Lasts",
            "most likely",
            "Everything",
            "Measure next",
            "Not enough for the 24\u00a0h needed: chance less than 1 in 10.",
            "Most likely end: battery empty,",
        ):
            self.assertIn(words, bar)

    def test_a_covered_need_is_said_so(self):
        make_load(self.job, "Lamp", 10.0, kind="electronics")
        make_supply(self.job, nominal_wh=5120.0)
        bar = self.bar()
        self.assertIn("Enough for the 24\u00a0h needed (chance more than 9 in 10).", bar)

    def test_a_load_that_trips_is_named(self):
        make_load(self.job, "Furnace", 5000.0, kind="resistive-heat")
        make_supply(self.job)
        bar = self.bar()
        self.assertIn("Furnace needs 4.9\u00a0kW; the inverter gives 3\u00a0kW.", bar)
        # It is all that the plan is for, so that it is not to be left off.
        self.assertRegex(bar, "Furnace needs an inverter that gives at least 5.[12]")

    def test_names_are_escaped(self):
        make_load(self.job, "<i>Heater</i>", 1200.0, kind="resistive-heat")
        make_supply(self.job, name="<b>Cab</b>")
        self.assertNotIn("<b>Cab", self.bar())
        self.assertNotIn("<i>Heater", self.bar())


class PlanTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.load = make_load(self.job, "Box")
        self.lamp = make_load(self.job, "Lamp", 40.0, kind="led")
        self.supply = make_supply(self.job)

    def use(self, load, plan=0, **data):
        prefixed = {f"load{load.pk}-{key}": value for key, value in data.items()}
        return self.client.post(self.url("plans:use-load", plan, load.pk), prefixed, **HTMX)

    def test_a_new_job_has_a_plan_without_storing_one(self):
        self.assertContains(self.client.get(self.url("plans:current")), "Outage")
        self.assertFalse(Plan.objects.exists())

    def test_saving_makes_the_first_plan_current(self):
        self.client.post(self.url("plans:edit", 0), {**PLAN, "floor": "20 %", "room_c": "31 °C"})
        plan = self.job.plans.get()
        self.assertTrue(plan.is_current)
        self.assertAlmostEqual(plan.floor, 0.2)
        self.assertEqual(answer_of(plan).outcome.plan.supply.battery.floor, 0.2)
        page = self.client.get(self.url("plans:plan", plan.pk))
        self.assertContains(page, "31")

    def test_bad_input(self):
        for changes, said in [
            ({"needed_hours": "24 kW"}, "length of time"),
            ({"needed_hours": "0"}, "too small"),
            ({"needed_hours": "5000 h"}, "more than this can be"),
            ({"start": "soon"}, "valid date"),
            ({"start_charge": "5 %", "supply": self.supply.pk}, "already at its floor"),
            ({"room_c": "1000 °C"}, "more than this can be"),
            ({"name": "x" * 10_000}, "at most 80"),
        ]:
            with self.subTest(said=said):
                answer_ = self.client.post(self.url("plans:add"), {**PLAN, **changes})
                self.assertContains(answer_, said, status_code=422)
        self.assertFalse(Plan.objects.exists())

    def test_use_changes_the_answer_in_one_round_trip(self):
        answer_ = self.use(self.lamp, taken_in="on", use="18:00–22:30", count="2")
        self.assertContains(answer_, 'id="plan-body"')
        self.assertContains(answer_, "hx-swap-oob")
        entry = PlanEntry.objects.get()
        self.assertEqual((entry.windows, entry.count), ([["18:00", "22:30"]], 2))
        lamp = {load.name: load for load in answer_of(entry.plan).outcome.plan.loads}["Lamp"]
        self.assertEqual((lamp.count, len(lamp.use.windows)), (2, 1))

    def test_leaving_out_and_undo(self):
        self.use(self.lamp, use="", count="1")
        plan = self.job.plans.get()
        names = [load.name for load in answer_of(plan).outcome.plan.loads]
        self.assertEqual(names, ["Box"])
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.assertEqual(len(answer_of(self.job.plans.get()).outcome.plan.loads), 2)
        self.use(self.lamp, plan.pk, use="", count="1")
        self.assertEqual(len(answer_of(self.job.plans.get()).outcome.plan.loads), 1)

    def test_a_bad_use_is_said_and_kept(self):
        answer_ = self.use(self.lamp, taken_in="on", use="mostly", count="1")
        self.assertContains(answer_, "How often? Such as “twice a day, 3 minutes”", status_code=422)
        self.assertContains(answer_, 'value="mostly"', status_code=422)
        self.assertFalse(PlanEntry.objects.exists())

    def test_hours_a_day_replace_times_with_a_notice(self):
        self.lamp.hours_per_day = 4.5
        self.lamp.save()
        page = self.client.get(self.url("plans:current"))
        self.assertContains(page, "a day, assumed from the start of the plan")
        used = {
            used_load.load.name: used_load for used_load in answer_of(current_plan(self.job)).used
        }
        self.assertEqual(used["Lamp"].use, {"between": [["18:00", "22:30"]]})

    def test_plans_side_by_side_and_the_current_one(self):
        self.client.post(self.url("plans:add"), PLAN)
        self.client.post(self.url("plans:add"), {**PLAN, "name": "Visit"})
        first, second = self.job.plans.all()
        self.assertTrue(first.is_current and not second.is_current)
        self.client.post(self.url("plans:make-current", second.pk))
        self.assertEqual(current_plan(self.job), second)
        self.client.post(self.url("plans:remove", second.pk))
        self.assertEqual(current_plan(self.job), first)

    def test_the_room_moves_a_measured_box(self):
        from web.loads.actions import add_reading

        self.load.set_c = 4.0
        self.load.save()
        add_reading(self.load, "energy", {"wh": 800.0, "hours": 24.0, "room_c": 24.0})
        self.client.post(self.url("plans:edit", 0), {**PLAN, "room_c": "24"})
        plan = self.job.plans.get()
        cool = answer_of(plan).outcome.plan.loads[0].draw.duty
        plan.room_c = 31.0
        plan.save()
        self.assertAlmostEqual(
            answer_of(plan).outcome.plan.loads[0].draw.duty / cool, 1.48, delta=0.02
        )

    def test_downloads_are_open_and_agree(self):
        import needle.plan.documents.parse

        plan = self.client.get(self.url("plans:download", 0, "plan.json"))
        read = needle.plan.documents.parse.parse_plan(plan.json())
        self.assertEqual([load.name for load in read.loads], ["Box", "Lamp"])
        rows = list(
            csv.reader(
                io.StringIO(
                    self.client.get(self.url("plans:download", 0, "curve.csv")).content.decode()
                )
            )
        )
        self.assertEqual(rows[0][:2], ["time", "charge_low"])
        self.assertEqual(float(rows[1][2]), 1.0)
        svg = self.client.get(self.url("plans:download", 0, "curve.svg"))
        self.assertEqual(svg.headers["Content-Type"], "image/svg+xml")
        self.assertTrue(svg.content.startswith(b"<?xml"))
        self.assertEqual(self.client.get(self.url("plans:download", 0, "x.exe")).status_code, 404)

    def test_every_chart_has_words(self):
        page = self.client.get(self.url("plans:current"))
        self.assertContains(page, 'role="img" aria-label="Stored and drawn. From 100 % to')
        numbers = self.client.get(self.url("plans:current"), {"show": "numbers"})
        self.assertContains(numbers, "stored, low")
        self.assertContains(page, "If nothing ever cycled off")
