"""The start matrix with its tests, cords, and power-factor pages."""

import re

from django.core.exceptions import ValidationError

from needle.words import text_of
from needle.words.plan import start_text
from tests.web.base import HTMX, SiteTest, make_job, make_load, make_supply
from web.jobs.models import Member, Role
from web.loads.actions import add_reading
from web.matching.models import Correction
from web.plans.outcomes import QUICK_LOADS, answer_of, current_plan
from web.supplies.models import StartTest, Supply

MOTOR = {"state": "running", "watts": 610.0, "volts": 230.0, "va": 762.0, "pf": 0.8}
TRIED = {
    "fitted_uf": "12 µF",
    "watts_without": "610",
    "va_without": "762 VA",
    "watts_with": "610 W",
    "va_with": "662",
    "tested_at": "2026-05-01T10:00",
}


class StartsTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.pump = make_load(self.job, "Pump", None, kind="pump")
        add_reading(self.pump, "spot", MOTOR)
        add_reading(self.pump, "start", {"amps": 40.0, "volts": 230.0, "seconds": 0.3})
        self.large = make_supply(self.job, name="Large", surge_va=10_000.0)
        self.small = make_supply(
            self.job, name="Small", continuous_w=900.0, surge_va=1600.0, waveform="stepped"
        )

    def page(self, **query):
        return self.client.get(self.url("matching:starts"), query).content.decode()

    def record(self, **data):
        first = {
            "load": self.pump.pk,
            "supply": self.small.pk,
            "times": "3",
            "note": "on first",
            "result": "held",
            "tested_at": "2026-05-01T10:00",
        }
        return self.client.post(self.url("matching:record-start"), {**first, **data})

    def test_verdicts_sizes_and_the_order(self):
        page = self.page()
        self.assertIn("Pump on Large, as in the plan: holds", page)
        self.assertIn("Pump on Small, as in the plan: trips", page)
        self.assertIn("runs hot on a modified sine", page)
        self.assertIn("just enough", page)
        self.assertIn("Worst moment 9.20", page)

    def test_names_stay_text_and_who_only_looks_gets_no_way_to_record(self):
        self.pump.name = '<b>"Pump" & Co'
        self.pump.save()
        page = self.page()
        self.assertIn("&lt;b&gt;&quot;Pump&quot; &amp; Co on Large, as in the plan: holds", page)
        self.assertNotIn("<b>", page)
        Member.objects.create(job=self.job, user=self.other, role=int(Role.VIEWER))
        self.client.force_login(self.other)
        seen = self.page()
        self.assertIn('<span class="verdict holds">● holds</span>', seen)
        self.assertNotIn("Record a test", seen)

    def test_what_is_ticked_runs_together(self):
        make_load(self.job, "Kettle", 2000.0, kind="resistive-heat")
        self.assertIn("Pump on Small, alone: trips", self.page())
        self.assertIn("together is more than it carries: shown alone", self.page())
        alone = self.page(chosen="1", load=str(self.pump.pk))
        self.assertNotIn("together is more than it carries: shown alone", alone)
        nothing = self.page(chosen="1")
        self.assertNotIn("Switching on,", nothing)
        odd = self.page(chosen="1", load="9" * 30, supply="x")
        self.assertNotIn("Switching on,", odd)

    def test_the_size_is_the_sum_that_is_too_much_for_the_others(self):
        for watts in (300.0, 900.0):
            fan = make_load(self.job, f"Fan {watts:.0f}", None, kind="induction-motor")
            add_reading(fan, "spot", {"state": "running", "watts": watts, "pf": 0.7})
        page = self.page()
        told = re.search(r"([\d.]+)\u00a0kVA together is more than it carries", page)[1]
        self.assertIn(f"{told}\u00a0kVA", page.split("just enough")[1][:400])

    def test_a_fragment_serves_the_change(self):
        part = self.client.get(self.url("matching:starts"), **HTMX).content.decode()
        self.assertTrue(part.strip().startswith('<div id="starts"'))

    def test_of_many_loads_the_page_stands_before_their_plans_answer(self):
        for number in range(QUICK_LOADS):
            make_load(self.job, f"Fan {number}", 20.0, kind="induction-motor")
        page = self.page()
        self.assertIn("Pump on Large, with all that is ticked:", page)
        self.assertIn('hx-trigger="load delay:800ms"', page)
        fetched = self.client.get(self.url("matching:starts"), **HTMX).content.decode()
        self.assertIn("Pump on Large, as in the plan:", fetched)
        self.assertNotIn("load delay:800ms", fetched)

    def test_the_highest_state_counts(self):
        fridge = make_load(self.job, "Fridge", None)
        add_reading(fridge, "spot", {"state": "running", "watts": 90.0})
        add_reading(fridge, "spot", {"state": "defrost", "watts": 310.0})
        self.assertIn("310\u00a0W at its highest", self.page())

    def test_a_start_test_overrules_matrix_plan_and_bar(self):
        plan = current_plan(self.job)
        plan.supply = self.small
        plan.save()
        answer = answer_of(current_plan(self.job)).outcome
        self.assertEqual([trip.why for trip in answer.trips], ["start"])
        self.assertRedirects(self.record(), self.url("matching:starts"))
        page = self.page()
        self.assertIn("Pump on Small, as in the plan: holds", page)
        self.assertIn("by the numbers it trips", page)
        self.assertEqual(answer_of(current_plan(self.job)).outcome.trips, [])
        bar = self.client.get(self.url("answer:bar")).content.decode()
        self.assertNotIn("the start of Pump", bar)
        self.record(result="refused", tested_at="2026-06-01T10:00")
        self.assertIn("Pump on Small, as in the plan: trips", self.page())
        newest = StartTest.objects.get(result="refused")
        self.client.post(self.url("matching:remove-start", newest.pk))
        self.assertIn("Pump on Small, as in the plan: holds", self.page())

    def test_a_test_settles_starts_with_no_more_beside_it(self):
        lamp = make_load(self.job, "Lamp", 400.0, kind="resistive-heat")
        plan = current_plan(self.job)
        plan.supply = Supply.objects.create(
            job=self.job,
            name="Wide",
            chemistry="lfp",
            nominal_wh=2000.0,
            continuous_w=3000.0,
            surge_va=6000.0,
        )
        plan.save()
        self.record(supply=plan.supply.pk)
        # Alone it held, so that it draws no more than that left; beside the lamp it may trip.
        alone = self.page()
        self.assertIn("Pump on Wide, as in the plan: likely holds", alone)
        self.assertIn("tested: it held, 3 times, alone", alone)
        self.record(supply=plan.supply.pk, ran=[lamp.pk], tested_at="2026-07-01T10:00")
        test = StartTest.objects.latest("tested_at")
        self.assertEqual((test.beside, test.beside_w > 100), (["Lamp"], True))
        beside = self.page()
        self.assertIn("Pump on Wide, as in the plan: holds", beside)
        self.assertIn("Beside Lamp,", beside)

    def test_other_volts_do_not_start(self):
        self.large.ac_volts = 120.0
        self.large.save()
        page = self.page()
        self.assertIn("Pump on Large, as in the plan: trips", page)
        self.assertIn("it wants 230", page)

    def test_on_its_own_supply_the_matrix_says_what_the_plan_says(self):
        make_load(self.job, "Fan", 60.0, kind="induction-motor")
        plan = current_plan(self.job)
        plan.supply = self.large
        plan.save()
        answer = answer_of(current_plan(self.job))
        for start in answer.outcome.starts:
            told = start_text(start.verdict.verdict, start.verdict.chance)
            said = f"{start.load} on Large, as in the plan: {told}"
            self.assertIn(said, self.page())
            self.assertIn(text_of(start.verdict.reason), self.page())

    def test_what_ran_is_a_list_of_names(self):
        test = StartTest(load=self.pump, supply=self.large, result="held")
        for beside in ({"a": 1}, [1], "Lamp"):
            test.beside = beside
            with self.assertRaises(ValidationError):
                test.full_clean()
        test.beside, test.beside_w = ["Lamp"], 1e9
        with self.assertRaises(ValidationError):
            test.full_clean()

    def test_bad_start_tests(self):
        theirs = make_load(make_job(self.other), "Theirs")
        for data in (
            {"load": theirs.pk},
            {"result": "fine"},
            {"times": "0"},
            {"tested_at": "then"},
        ):
            with self.subTest(data=data):
                self.assertEqual(self.record(**data).status_code, 422)
        self.assertFalse(StartTest.objects.exists())

    def test_queries_do_not_grow(self):
        self.page()
        with self.assertNumQueries(20):
            self.page()
        for number in range(6):
            load = make_load(self.job, f"Motor {number}", 200.0, kind="induction-motor")
            supply = make_supply(self.job, name=f"Supply {number}")
            StartTest.objects.create(load=load, supply=supply, result="held")
        self.page()
        with self.assertNumQueries(20):
            self.page()

    def test_empty_jobs_say_what_to_do(self):
        self.job = make_job(self.user, "Empty")
        self.assertIn("No load yet", self.page())
        make_load(self.job, "Box")
        self.assertIn("No supply with an inverter yet", self.page())


class CordTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.pump = make_load(self.job, "Pump", None, kind="pump")
        add_reading(self.pump, "spot", {"watts": 1178.0, "va": 1472.0, "volts": 230.0})
        add_reading(self.pump, "start", {"amps": 30.0, "volts": 230.0})

    def post(self, **data):
        self.pump.refresh_from_db()
        data = {
            "cord_m": "30 m",
            "cord_size": "1.5 mm²",
            "cord_material": "copper",
            "version": self.pump.version,
            **data,
        }
        return self.client.post(self.url("matching:cord", self.pump.pk), data)

    def test_the_worked_cord(self):
        self.assertRedirects(self.post(), self.url("matching:cord", self.pump.pk))
        page = self.client.get(self.url("matching:cord", self.pump.pk)).content.decode()
        self.assertIn("0.726", page)
        self.assertIn("21.8\u00a0V", page)
        self.assertIn("9.47\u00a0%", page)
        make_supply(self.job)
        self.assertIn("cord 30", self.client.get(self.url("matching:starts")).content.decode())

    def test_a_long_thin_cord_endangers_the_start(self):
        self.post(cord_m="200 ft", cord_size="16 AWG")
        page = self.client.get(self.url("matching:cord", self.pump.pk))
        self.assertContains(page, "a motor may not start on it")

    def test_refusals(self):
        for data, said in [
            ({"cord_size": "thick"}, "is not a size"),
            ({"cord_size": ""}, "needs a conductor size"),
            ({"cord_m": "30 kg"}, "length"),
            ({"cord_material": "gold"}, "valid choice"),
        ]:
            with self.subTest(said=said):
                self.assertContains(self.post(**data), said, status_code=422)
        self.pump.refresh_from_db()
        self.assertIsNone(self.pump.cord_m)


class CorrectionTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.pump = make_load(self.job, "Pump", None, kind="pump")
        add_reading(self.pump, "spot", MOTOR)

    def page(self, load=None, **query):
        load = load or self.pump
        return self.client.get(self.url("matching:correction", load.pk), query).content.decode()

    def test_the_worked_motor(self):
        page = self.page()
        self.assertIn("15.4\u00a0µF", page)
        self.assertIn("27.5\u00a0µF", page)
        self.assertIn("10 + 5 µF", page)
        self.assertIn('class="triangle"', page)
        self.assertNotIn("10 + 5 µF", self.page(target="1.0"))
        self.assertIn("10 + 5 µF", self.page(target="muesli"))

    def test_in_another_state_and_from_ones_own_stock(self):
        add_reading(self.pump, "spot", {"state": "spin", "watts": 300, "va": 600, "volts": 230})
        page = self.page(state="spin")
        self.assertIn('aria-current="true">spin', page)
        self.assertIn("600\u00a0VA", page)
        # The range is of that state, as the figure is: 300 W at PF 0.5 need 25 µF to PF 0.95.
        to_target, low, high = re.search(
            r"([\d.]+)\u00a0µF</span>\s*<span class=\"range\">([\d.]+)–([\d.]+) µF", page
        ).groups()
        self.assertTrue(float(low) <= float(to_target) <= float(high))
        url = self.url("matching:correction", self.pump.pk)
        self.client.post(url, {"stock": "6 µF, 7.5; 3"})
        self.assertIn("7.5 + 7.5 µF", self.page())
        self.assertIn('value="3, 6, 7.5"', self.page())
        refused = self.client.post(url, {"stock": "six"})
        self.assertContains(refused, "is not a value in µF", status_code=422)
        self.client.post(url, {"stock": ""})
        self.assertIn("10 + 5 µF", self.page())

    def test_who_is_refused_and_who_is_not_known(self):
        self.assertIn("distorted", self.page(make_load(self.job, "Router", kind="electronics")))
        guessed = make_load(self.job, "Fan", kind="induction-motor")
        self.assertIn("never from a table", self.page(guessed))

    def test_what_was_tried_is_checked_against_the_estimate(self):
        url = self.url("matching:record-correction", self.pump.pk)
        self.assertContains(self.client.get(url), 'value="610 W"')
        self.assertRedirects(
            self.client.post(url, {**TRIED, "battery_w_without": "700", "battery_w_with": "672"}),
            self.url("matching:correction", self.pump.pk),
        )
        make_supply(self.job)
        page = self.page()
        self.assertIn("bear each other out", page)
        self.assertIn("less at the battery, as read", page)
        self.assertIn("battery amps", page)
        self.assertIn("efficiency test", page)
        tried = Correction.objects.get()
        self.client.post(self.url("matching:remove-correction", self.pump.pk, tried.pk))
        self.assertNotIn("bear each other out", self.page())

    def test_refusals_keep_what_was_typed(self):
        url = self.url("matching:record-correction", self.pump.pk)
        for data, said in [
            ({"watts_with": "700 W"}, "cannot exceed"),
            ({"fitted_uf": "12 V"}, "farads"),
            ({"battery_w_with": "600 W"}, "both battery readings"),
            ({"va_without": "0"}, "too small"),
        ]:
            with self.subTest(said=said):
                page = self.client.post(url, {**TRIED, **data})
                self.assertContains(page, said, status_code=422)
        self.assertFalse(Correction.objects.exists())

    def test_another_s_load_is_not_found(self):
        theirs = make_load(make_job(self.other), "Theirs")
        for name in ("matching:correction", "matching:record-correction", "matching:cord"):
            self.assertEqual(self.client.get(self.url(name, theirs.pk)).status_code, 404)

    def test_from_a_live_session(self):
        from needle.standin.appliances import timeline
        from web.bench.models import Session

        at = timeline("pump", 1).starts_s()[0] + 10
        session = Session.objects.create(load=self.pump, standin="pump", clock_s=at, speed=1)
        self.assertIn("on the bench just now", self.page(session=str(session.pk)))
        self.assertNotIn("on the bench just now", self.page(session="999"))
