"""What a householder enters at the door reaches the answer, and odd numbers are asked about."""

from datetime import timedelta
from html import unescape

from django.db import transaction
from django.utils import timezone

from needle.plan.limits.trips import Trip
from needle.quantity import with_unit
from needle.usage.schedule import use_from_text
from tests.web.base import SiteTest, make_job, make_load, make_supply
from web.common.models import StaleRecordError
from web.jobs.models import Job
from web.loads.actions import add_reading
from web.loads.models import Load
from web.plans.actions import use_load
from web.plans.draft import document, draft_of
from web.plans.models import Plan, PlanEntry
from web.plans.outcomes import answer_of, current_plan, energies_until
from web.plans.page import trip_sentence
from web.sheets.documents import add_load_document, load_document
from web.trials.models import Trial


class DoorTest(SiteTest):
    def add(self, appliance, **data):
        return self.client.post(
            self.url("loads:add"),
            {
                "appliance": appliance,
                "priority": "should",
                "cord_material": "copper",
                **data,
            },
        )

    def load(self):
        return self.job.loads.latest("pk")


class ApplianceTest(DoorTest):
    def test_a_household_name_is_a_kind_and_a_name(self):
        self.add("fridge", label_watts="120 W")
        self.add("fridge", label_watts="90 W")
        self.assertEqual(
            list(self.job.loads.values_list("name", "kind")),
            [("Fridge", "compressor-fixed"), ("Fridge 2", "compressor-fixed")],
        )
        self.assertEqual(self.load().safety_class, "store")
        self.add("bedside", name="Breathing machine", label_watts="90 W")
        self.assertEqual(self.load().safety_class, "life")
        self.add("air-conditioner", label_watts="900 W")
        self.assertEqual(self.load().safety_class, "")

    def test_one_tick_says_that_contents_may_warm_up(self):
        self.add("fridge", label_watts="120 W", cares="none")
        self.assertEqual(self.load().safety_class, "")

    def test_something_else_asks_for_its_kind(self):
        refused = self.add("other", name="Thing")
        self.assertContains(refused, "Choose what it is.", status_code=422)
        self.add("other", name="Thing", kind="pump")
        self.assertEqual(self.load().kind, "pump")

    def test_the_first_load_and_supply_make_the_plan_that_all_pages_speak_of(self):
        self.add("fridge", label_watts="120 W")
        self.assertFalse(self.job.plans.exists())
        self.client.post(
            self.url("supplies:add"),
            {
                "name": "Battery",
                "chemistry": "lfp",
                "nominal_wh": "1kWh battery",
                "continuous_w": "1000 W inverter",
                "waveform": "sine",
            },
        )
        plan = self.job.plans.get()
        self.assertEqual(
            (plan, self.job.supplies.get().continuous_w), (current_plan(self.job), 1000)
        )
        self.assertContains(self.client.get(self.url("plans:current")), "Try it for real")
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.assertFalse(self.job.plans.live().exists() or self.job.supplies.live().exists())


class UsualUseTest(DoorTest):
    def setUp(self):
        super().setUp()
        make_load(self.job, "Fridge")
        self.supply = make_supply(self.job)

    def used(self):
        return next(
            used for used in answer_of(current_plan(self.job)).used if used.name != "Fridge"
        )

    def test_a_number_of_uses_of_some_minutes_is_a_task_of_that_energy(self):
        self.add("kettle", label_watts="2200 W", often="twice a day, 3 minutes")
        used = self.used()
        self.assertEqual(used.use, {"tasks": ["11:00", "17:00"]})
        self.assertEqual([step["minutes"] for step in used.steps], [3.0])
        # A heater runs at its watts, and without a break while it is on.
        self.assertAlmostEqual(used.profile.mean_w.value, 2200, delta=100)
        self.assertEqual(used.profile.duty.value, 1.0)
        outcome = answer_of(current_plan(self.job)).outcome
        # 2.14 kW for 3 min, at 11:00 only before the battery is empty or twice in its 24 h.
        wh = outcome.plan.loads[1].use.task_wh
        self.assertAlmostEqual(wh, used.profile.running_w.value / 20, delta=0.1)
        self.assertAlmostEqual(used.profile.wh_per_day.value, 2 * wh, delta=1)

    def test_evenings_are_the_plan_s_hours_until_it_says_otherwise(self):
        self.add("lamp", label_watts="9 W", often="in the evening")
        self.assertEqual(self.used().use, {"between": [["18:00", "23:00"]]})
        plan, lamp = current_plan(self.job), self.load()
        prefix = f"load{lamp.pk}"
        for text, use in (
            ("always", {}),
            ("19:00 4 min", {"tasks": ["19:00"]}),
            ("", {"between": [["18:00", "23:00"]]}),
        ):
            entry = PlanEntry.objects.filter(load=lamp).first()
            data = {
                f"{prefix}-taken_in": "on",
                f"{prefix}-count": "1",
                f"{prefix}-use": text,
                f"{prefix}-version": entry.version if entry else "",
            }
            self.client.post(self.url("plans:use-load", plan.pk or 0, lamp.pk), data)
            plan = current_plan(self.job)
            self.assertEqual(self.used().use, use, text)

    def test_less_than_once_a_day_is_its_energy_a_day_and_no_use_of_a_plan(self):
        """Whether it is used in an outage is decided there; its energy in the long run is not."""
        self.add("kettle", label_watts="2200 W", often="twice a week, 3 minutes")
        used, load = self.used(), self.load()
        self.assertEqual(load.usual_use, {"times": 2, "days": 7, "minutes": 3.0})
        self.assertFalse(used.counted)
        self.assertIn("it is used twice a week", used.why_not_counted)
        wh = used.profile.running_w.value * 3 / 60 * 2 / 7
        self.assertAlmostEqual(used.profile.wh_per_day.value / wh, 1, delta=0.02)
        plan = current_plan(self.job)
        for page in ("plans:current", "sheets:sheet"):
            shown = self.client.get(self.url(page))
            self.assertContains(shown, "it is used twice a week")
            self.assertContains(shown, f"Everything that is counted. Not counted: {load.name}.")
        self.assertContains(
            self.client.get(self.url("loads:edit", load.pk)), 'value="twice a week, 3 min"'
        )
        shown = self.client.get(self.url("loads:load", load.pk))
        self.assertContains(shown, "Used twice a week, 3 min, as said.")
        # A time in the plan is one use a day, of the length that is known.
        prefix = f"load{load.pk}"
        data = {f"{prefix}-taken_in": "on", f"{prefix}-count": "1", f"{prefix}-version": ""}
        for text, status in (("twice a week, 3 min", 422), ("19:00", 200)):
            data[f"{prefix}-use"] = text
            url = self.url("plans:use-load", plan.pk or 0, load.pk)
            answered = self.client.post(url, data, HTTP_HX_REQUEST="true")
            self.assertEqual(answered.status_code, status, text)
        (step,) = self.used().steps
        self.assertEqual((self.used().use, step["minutes"]), ({"tasks": ["19:00"]}, 3.0))
        # Out and in again it is the same use, once.
        copy = add_load_document(make_job(self.user), load_document(self.load()))
        self.assertEqual((copy.usual_use, copy.hours_per_day), (load.usual_use, None))

    def test_less_than_once_a_day_at_any_hour_where_a_person_makes_it_run(self):
        often = "twice a week, 3 minutes"
        self.add("kettle", label_watts="2200 W", often=often, runs_by="person")
        used = self.used()
        self.assertTrue(used.counted)
        self.assertIn("twice a week, at any hour", used.assumed)
        self.assertEqual(used.use_text, "at any hour")
        shown = self.client.get(self.url("loads:load", self.load().pk))
        self.assertContains(shown, "None was counted yet: how often is as said.")
        self.assertEqual(use_from_text(used.use_text), used.use)
        (entry,) = (
            load
            for load in document(draft_of(current_plan(self.job)))["loads"]
            if load["name"] == used.name
        )
        self.assertAlmostEqual(entry["uses_per_day"], 2 / 7, delta=0.05)

    def test_how_long_it_is_used_is_said_once(self):
        refused = self.add("lamp", label_watts="9 W", often="in the evening", hours_per_day="3 h")
        self.assertContains(refused, "give it once", status_code=422)

    def test_how_long_is_asked_where_only_how_often_is_said(self):
        refused = self.add("kettle", label_watts="2200 W", often="twice a day")
        self.assertContains(refused, "How long each time?", status_code=422)
        self.assertContains(refused, 'value="twice a day"', status_code=422)

    def test_two_forms_at_once_make_one_plan_and_one_entry(self):
        self.add("lamp", label_watts="9 W")
        Plan.objects.all().delete()
        job = Job.objects.get(pk=self.job.pk)
        # Both were read before either was stored.
        entries = [
            PlanEntry(plan=current_plan(job), load=self.load(), windows=[["18:00", end]])
            for end in ("22:00", "23:00")
        ]
        use_load(entries[0])
        # What another hand stored is not written over.
        with self.assertRaises(StaleRecordError), transaction.atomic():
            use_load(entries[1])
        # The same form sent twice is one entry.
        entries[1].client_key = entries[0].client_key
        entries[1].plan = Plan.default_of(job)
        use_load(entries[1])
        self.assertEqual(Plan.objects.filter(job=self.job).count(), 1)
        self.assertEqual(PlanEntry.objects.get().windows, [["18:00", "22:00"]])


class OddNumberTest(DoorTest):
    def setUp(self):
        super().setUp()
        self.fridge = make_load(self.job, "Fridge")

    def post(self, **data):
        url = self.url("loads:add-reading", self.fridge.pk, "energy")
        return self.client.post(url, {"hours": "24", "instrument": "plug", **data})

    def test_it_is_asked_about_with_two_answers_and_nothing_is_kept(self):
        asked = unescape(self.post(wh="0.8").content.decode())
        self.assertIn("0.8\u00a0Wh, or 0.8 kWh?", asked)
        self.assertIn('name="sure" value="wh=0.8 Wh"', asked)
        self.assertEqual(self.fridge.readings.count(), 1)
        self.post(wh="0.8", sure="wh=0.8 kWh")
        self.assertEqual(self.fridge.readings.latest("pk").data["wh"], 800.0)

    def test_who_means_it_is_believed(self):
        self.post(wh="0.8", sure="wh=0.8 Wh")
        self.assertEqual(self.fridge.readings.latest("pk").data["wh"], 0.8)

    def test_a_bare_number_is_in_what_the_meter_shows(self):
        self.post(wh="0.8", counter_unit="kWh")
        self.assertEqual(self.fridge.readings.latest("pk").data["wh"], 800.0)

    def test_an_answer_holds_as_long_as_its_text_stands(self):
        """What is typed after an answer is what counts, and it is asked about anew."""
        self.post(wh="0.8 Wh", was_sure="wh=0.8 Wh")
        self.assertEqual(self.fridge.readings.latest("pk").data["wh"], 0.8)
        self.post(wh="700", was_sure="wh=0.8 kWh")
        self.assertEqual(self.fridge.readings.latest("pk").data["wh"], 700.0)
        self.assertEqual(self.post(wh="0.9", was_sure="wh=0.8 Wh").status_code, 422)

    def test_a_counter_that_stood_still_is_not_asked_about(self):
        self.assertEqual(self.post(wh="0").status_code, 302)

    def test_a_comma_is_asked_about(self):
        url = self.url("loads:add-reading", self.fridge.pk, "label")
        asked = self.client.post(url, {"watts": "1,000 W"}).content.decode()
        self.assertIn('value="watts=1000 W"', asked)
        self.assertIn('value="watts=1.000 W"', asked)

    def test_a_battery_of_one_is_a_kilowatt_hour(self):
        data = {"name": "Battery", "chemistry": "lfp", "nominal_wh": "1", "waveform": "sine"}
        asked = unescape(self.client.post(self.url("supplies:add"), data).content.decode())
        self.assertIn("1\u00a0Wh, or 1 kWh?", asked)
        self.assertFalse(self.job.supplies.exists())

    def test_what_is_typed_comes_along_to_another_kind_of_reading(self):
        url = self.url("loads:add-reading", self.fridge.pk, "short-run")
        form = self.client.get(url, {"watts": "92", "note": "mine"}, HTTP_HX_REQUEST="true")
        self.assertContains(form, 'value="92"')
        self.assertContains(form, "mine")


class OneStoryTest(SiteTest):
    """What one page says of the household's plan, another does not deny."""

    def setUp(self):
        super().setUp()
        self.fridge = make_load(self.job, "Fridge")
        self.kettle = make_load(
            self.job,
            "Kettle",
            2200.0,
            kind="resistive-heat",
            usual_use={"tasks": ["07:00", "19:00"], "minutes": 3.0},
        )
        self.supply = make_supply(self.job, nominal_wh=1000.0, continuous_w=1000.0, surge_va=None)

    def page(self, name, *args):
        return unescape(self.client.get(self.url(name, *args)).content.decode())

    def test_bar_plan_and_sheet_open_with_the_same_lines(self):
        for name in ("plans:current", "sheets:sheet", "loads:survey"):
            page = self.page(name)
            self.assertIn("Kettle needs 2.1\u00a0kW; the inverter gives 1\u00a0kW.", page)
            self.assertIn("Leave off Kettle: everything else then runs", page)
            self.assertNotIn("Leave off Fridge", page)

    def test_the_worst_minute_is_the_kettle_s(self):
        survey = self.page("loads:survey")
        self.assertRegex(survey, r"Worst minute in the plan.*without power: Kettle")
        self.assertIn("2.14\u00a0kW", survey.split("Worst minute in the plan")[1][:200])

    def test_a_start_agrees_with_the_load_s_page(self):
        add_reading(self.fridge, "start", {"va": 900.0})
        outcome = answer_of(current_plan(self.job)).outcome
        start = next(start for start in outcome.starts if start.load == "Fridge")
        trip = Trip("Fridge", 10, 40, "start", 1510.0, 1190.0, 0.06, "VA")
        told = trip_sentence(outcome, trip, 1)
        low, _, high = start.required_va
        self.assertIn(f"{with_unit(low, 'VA')} to {with_unit(high, 'VA')}", told)
        self.assertIn("rated for 1.00\u00a0kVA", told)
        self.assertIn("(chance 1 in 10)", told)

    def test_energy_a_year_is_of_what_it_rests_on(self):
        self.job.tariff = 0.3
        self.job.save()
        self.assertIn("per year, from its label", self.page("loads:load", self.fridge.pk))
        add_reading(self.fridge, "energy", {"wh": 800.0, "hours": 24.0})
        self.assertIn("per year, from its readings", self.page("loads:load", self.fridge.pk))

    def test_energies_on_plan_and_sheet_are_of_the_same_hours(self):
        until = energies_until(answer_of(current_plan(self.job)).outcome)
        for name in ("plans:current", "sheets:sheet"):
            self.assertIn(until, self.page(name))

    def test_a_trial_that_has_ended_is_offered_on_its_supply(self):
        ended = timezone.now()
        trial = Trial.objects.create(
            job=self.job,
            name="Night run",
            supply=self.supply,
            started_at=ended - timedelta(hours=9),
            ended_at=ended,
            ended_why="floor",
        )
        page = self.page("supplies:supply", self.supply.pk)
        self.assertIn("“Night run” has ended", page)
        self.assertIn(self.url("trials:taught", trial.pk), page)


class ListTest(SiteTest):
    def test_what_a_load_is_named_is_escaped_everywhere(self):
        load = make_load(self.job, "<b>Kettle</b>", 5000.0, kind="resistive-heat")
        make_load(self.job, "Lamp", 5.0, kind="led")
        make_supply(self.job)
        for name, args in (("loads:load", [load.pk]), ("plans:current", []), ("sheets:sheet", [])):
            self.assertNotContains(self.client.get(self.url(name, *args)), "<b>Kettle")
        self.assertEqual(Load.objects.count(), 2)
