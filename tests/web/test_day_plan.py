"""The day plan: its document, what is tried and kept, helps, proposals, sources, comparing."""

from __future__ import annotations

from datetime import UTC, datetime

from django.utils import timezone

from needle.plan.documents.measured import with_profile
from needle.plan.documents.parse import parse_plan
from needle.profile.kinds import KINDS
from needle.profile.runs_by import USE_PRIORS
from needle.usage.usual_use import usual_use_from_text
from tests.web.base import SiteTest, clear_caches, make_job, make_load, make_supply
from web.jobs.models import Job
from web.loads.actions import add_reading
from web.loads.models import loads_of
from web.plans.draft import document, draft_of
from web.plans.models import Plan, PlanEntry, PlanSource
from web.plans.outcomes import answer_of, current_plan
from web.sheets.documents import load_document
from web.supplies.models import Input, Output

HTMX = {"HX-Request": "true"}
SUN = {
    "name": "Panels",
    "rated_w": "800 W",
    "yield": "72",
    "place": "10, 0",
    "tilt": "15",
    "azimuth": "180",
    "clouds": "30",
    "taken_in": "on",
}


class DayPlanTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.supply = make_supply(
            self.job,
            nominal_wh=3000.0,
            continuous_w=2000.0,
            surge_va=4000.0,
            idle_w=20.0,
            efficiency=0.92,
            floor=0.1,
        )
        Output.objects.create(
            supply=self.supply, name="dc12", max_w=240.0, idle_w=0.2, efficiency=0.95
        )
        Input.objects.create(supply=self.supply, name="sun", max_w=600.0)
        self.box = make_load(self.job, "Box", 120.0, kind="compressor-fixed", priority="must")
        self.router = make_load(self.job, "Router", 14.0, kind="electronics", can_dc=True)
        self.autoclave = make_load(self.job, "Autoclave", 1500.0, kind="resistive-heat")
        add_reading(self.autoclave, "spot", {"state": "heating", "watts": 1480.0})
        add_reading(self.autoclave, "task", {"wh": 592.0, "minutes": 48.0})
        self.plan = Plan.objects.create(
            job=self.job,
            name="Night",
            supply=self.supply,
            is_current=True,
            needed_hours=24.0,
            start=datetime(2027, 2, 9, 18, tzinfo=UTC),
        )
        self.entry = PlanEntry.objects.create(
            plan=self.plan, load=self.autoclave, moments=["20:15"], flexible=[["07:00", "22:00"]]
        )

        self.changes = self.job.changes.count()

    def made(self):
        """Changes since the test began."""
        return self.job.changes.count() - self.changes

    def document(self):
        return document(draft_of(self.plan))

    def loads(self):
        return {load["name"]: load for load in self.document()["loads"]}

    def block(self, does, load=None, index=0, **data):
        key = (load or self.autoclave).pk
        url = self.url(f"plans:{does}-block", self.plan.pk, "loads", key, index)
        return self.client.post(url, data, headers=HTMX)

    def undo(self):
        return self.client.post(self.url("jobs:undo", self.job.changes.first().pk))


class DocumentTest(DayPlanTest):
    def test_a_measured_task_becomes_steps(self):
        load = self.loads()["Autoclave"]
        self.assertEqual(load["use"], {"tasks": ["20:15"]})
        (step,) = load["steps"]
        self.assertAlmostEqual(step["watts"] * step["duty"] * step["minutes"] / 60, 592.0)
        parse_plan(self.document())

    def test_a_task_that_nobody_timed_is_asked_about_and_not_counted_meanwhile(self):
        self.autoclave.readings.filter(type="task").delete()
        answer = answer_of(self.plan)
        used = next(used_load for used_load in answer.used if used_load.name == "Autoclave")
        self.assertIn("we do not know how long one use takes", used.assumed)
        self.assertFalse(used.counted)

    def test_charges_and_steps_of_ones_own(self):
        PlanEntry.objects.create(
            plan=self.plan,
            load=self.router,
            moments=["19:00"],
            charge={"pack_wh": 52.0, "missing": 0.8, "watts": 45.0},
        )
        self.entry.steps = [{"watts": 300.0, "minutes": 10.0, "duty": 1.0}]
        self.entry.save()
        loads = self.loads()
        self.assertEqual(loads["Router"]["use"], {"charges": ["19:00"]})
        self.assertEqual(loads["Autoclave"]["steps"][0]["watts"], 300.0)
        parse_plan(self.document())

    def test_routes_that_a_load_can_take(self):
        loads = self.loads()
        self.assertEqual((loads["Router"]["route"], loads["Router"]["can"]), ("ac", ["dc12"]))
        self.assertEqual(loads["Box"]["can"], [])
        outputs = self.document()["supply"]["outputs"]
        self.assertEqual(
            [(output["name"], output["off_unused"]) for output in outputs], [("dc12", True)]
        )

    def test_a_route_that_is_gone_falls_back_and_says_so(self):
        PlanEntry.objects.create(plan=self.plan, load=self.router, route="usb")
        used = next(
            used_load for used_load in draft_of(self.plan).used if used_load.name == "Router"
        )
        self.assertEqual(used.route, "ac")
        self.assertIn("has no output “usb”", used.assumed)

    def test_all_on_dc_lets_the_inverter_stay_off(self):
        for load in (self.box, self.autoclave):
            PlanEntry.objects.update_or_create(
                plan=self.plan, load=load, defaults={"taken_in": False}
            )
        PlanEntry.objects.create(plan=self.plan, load=self.router, route="dc12")
        outcome = answer_of(self.plan).outcome
        self.assertEqual(outcome.likely.energy_wh["inverter_idle"], 0.0)
        self.assertGreater(outcome.likely.energy_wh["outputs_idle"], 0.0)

    def test_a_bank_without_an_inverter_feeds_its_outputs(self):
        bank = make_supply(
            self.job,
            name="Bank",
            chemistry="usb",
            nominal_wh=86.4,
            continuous_w=None,
            surge_va=None,
        )
        Output.objects.create(supply=bank, name="usb", max_w=30.0)
        job_loads = [self.box, self.autoclave]
        for load in job_loads:
            PlanEntry.objects.update_or_create(
                plan=self.plan, load=load, defaults={"taken_in": False}
            )
        self.plan.supply = bank
        self.plan.save()
        answer = answer_of(self.plan)
        self.assertEqual(answer.reason, "")
        mean_w = answer.outcome.plan.loads[0].mean_w
        exact = 86.4 * 0.93 * 0.85 * 0.87 / mean_w
        self.assertAlmostEqual(answer.outcome.runtime[1], exact, delta=0.15 * exact)

    def test_another_setting_and_set_point(self):
        mat = make_load(self.job, "Mat", None, kind="thermostat-heat", setting="mid")
        for setting, watts in (("low", 30.0), ("mid", 60.0)):
            add_reading(mat, "spot", {"state": "running", "watts": watts, "setting": setting})
        load = self.loads()["Mat"]
        self.assertEqual(load["running_w"], 60.0)
        self.assertEqual([setting["name"] for setting in load["settings"]], ["low"])
        PlanEntry.objects.create(plan=self.plan, load=mat, setting="low")
        self.assertEqual(self.loads()["Mat"]["running_w"], 30.0)

    def test_warm_contents_are_pulled_down_once(self):
        self.box.set_c = 4.0
        self.box.save()
        PlanEntry.objects.create(plan=self.plan, load=self.box, warm_kg=10.0, warm_c=24.0)
        self.assertAlmostEqual(self.loads()["Box"]["pull_down_wh"], 10 * 4.18 * 20 / 3.6 / 1.5)


class SameLoadTest(DayPlanTest):
    """A load's own document in a plan says what the site counts it with."""

    #: What a plan says of a load beside its evidence, and what only the site knows.
    OF_PLANS = ("use", "steps", "can", "settings", "purpose", "id", "route", "priority", "count")

    USES = ("always", {"between": [["18:00", "23:00"]]}, {"tasks": ["07:00", "19:00"]})

    def test_of_every_kind_and_use(self):
        for kind in KINDS.values():
            for who in ("", *(person for key, person in USE_PRIORS if key == kind.key)):
                load = make_load(self.job, f"{kind.key} {who}", 300.0, kind=kind.key, runs_by=who)
                add_reading(load, "spot", {"watts": 280.0, "instrument": "plug"})
                if who:
                    add_reading(load, "task", {"wh": 90.0, "minutes": 25.0})
        for use in self.USES:
            always = use == "always"
            for load in loads_of(self.job):
                PlanEntry.objects.update_or_create(
                    plan=self.plan,
                    load=load,
                    defaults={
                        "always": always,
                        "windows": [] if always else use.get("between", []),
                        "moments": [] if always else use.get("tasks", []),
                    },
                )
            self.check(use)

    def check(self, use):
        job = Job.objects.get(pk=self.job.pk)
        plan = job.plans.get(pk=self.plan.pk)
        entries = {load["name"]: load for load in document(draft_of(plan))["loads"]}
        for load in loads_of(job):
            if load.name not in entries:  # Nobody timed a use of it.
                self.assertIn("tasks", use)
                continue
            with self.subTest(load=load.name, use=use):
                mine = entries[load.name]
                own = with_profile({"profile": load_document(load), "use": use}, "load")
                shared = [key for key in own if key in mine and key not in self.OF_PLANS]
                self.assertGreater(len(shared), 12)
                self.assertEqual({key: own[key] for key in shared}, {k: mine[k] for k in shared})
                self.assertEqual("uses_per_day" in own, "uses_per_day" in mine)
                self.assertEqual(own.get("steps"), mine.get("steps"))

    def test_what_is_used_by_water_is_drawn_by_its_uses(self):
        make_load(self.job, "Tank", 2000.0, kind="water-tank")
        (tank,) = (
            load for load in document(draft_of(self.plan))["loads"] if load["name"] == "Tank"
        )
        self.assertEqual(tank["runs_by"], "water")
        self.assertGreater(tank["uses_per_day"], 1)
        self.assertGreater(tank["day_spread"], 0.2)

    def test_a_number_of_uses_is_drawn_and_times_that_are_set_are_kept(self):
        kettle = make_load(self.job, "Kettle", 2000.0, kind="resistive-heat", runs_by="person")
        kettle.usual_use = usual_use_from_text("twice a day, 3 minutes")
        kettle.save()

        def entry():
            plan = Plan.objects.select_related("job").get(pk=self.plan.pk)
            draft = draft_of(plan)
            (mine,) = (load for load in document(draft)["loads"] if load["name"] == "Kettle")
            used = next(used for used in draft.used if used.name == "Kettle")
            return mine, used

        mine, used = entry()
        self.assertEqual((mine["uses_per_day"], mine["runs_by"]), (2.0, "person"))
        self.assertEqual(len(mine["use"]["tasks"]), 2)
        self.assertIn("2 a day, at times assumed", used.assumed)
        given = {"use": {"tasks": 2}, "steps": mine["steps"]}
        own = with_profile({"profile": load_document(kettle), **given}, "load")
        for key in ("spread", "task_spread", "day_spread", "uses_per_day"):
            self.assertEqual(own[key], mine[key], key)
        evening = timezone.make_aware(datetime(2027, 2, 9, 18))
        Plan.objects.filter(pk=self.plan.pk).update(start=evening, needed_hours=4.0)
        self.assertIn("at times assumed, none of them in this plan", entry()[1].assumed)
        PlanEntry.objects.create(plan=self.plan, load=kettle, moments=["07:00", "19:00"])
        mine, used = entry()
        self.assertNotIn("uses_per_day", mine)
        self.assertEqual(used.assumed, "")
        # A time that was said with the load is one, whatever would be assumed without it.
        PlanEntry.objects.all().delete()
        for said, drawn, assumed in (
            ("at 14:00, 3 minutes", None, ""),
            ("once a day, 3 minutes", 1.0, "1 a day, at times assumed"),
            ("10 times a week, 3 minutes", 1.0, "10 times a week, counted as 1 a day"),
        ):
            with self.subTest(said=said):
                kettle.usual_use = usual_use_from_text(said)
                kettle.save()
                mine, used = entry()
                self.assertEqual(mine.get("uses_per_day"), drawn)
                self.assertEqual(len(mine["use"]["tasks"]), 1)
                self.assertTrue(used.assumed.startswith(assumed), used.assumed)
                self.assertEqual(bool(used.assumed), bool(assumed))

    def test_what_is_seldom_used_and_too_large_says_how_it_goes_when_it_is_used(self):
        kettle = make_load(self.job, "Kettle", 9000.0, kind="resistive-heat", runs_by="person")
        kettle.usual_use = usual_use_from_text("every other day, 3 minutes")
        kettle.save()
        page = self.client.get(self.url("plans:current"))
        self.assertContains(page, "Cannot run")
        self.assertContains(page, "Kettle needs")
        self.assertContains(page, "when it is used)")
        self.assertNotContains(page, "Kettle overloads the supply (chance less")
        sheet = self.client.get(self.url("sheets:sheet"))
        self.assertContains(sheet, "when it is used")


class DirectCurrentTest(DayPlanTest):
    def used(self):
        draft = draft_of(Plan.objects.select_related("job").get(pk=self.plan.pk))
        return draft, next(used for used in draft.used if used.name == "Pump")

    def test_a_dc_load_goes_to_the_output_and_never_to_ac(self):
        make_load(self.job, "Pump", 60.0, kind="induction-motor", dc=True)
        draft, pump = self.used()
        self.assertEqual((pump.route, pump.can), ("dc12", []))
        self.assertNotIn("counted on AC", pump.assumed)
        (written,) = [load for load in document(draft)["loads"] if load["name"] == "Pump"]
        self.assertNotIn("power_factor", written)
        self.assertNotIn("adapter", written)

    def test_without_an_output_it_is_said(self):
        Output.objects.all().delete()
        make_load(self.job, "Pump", 60.0, kind="induction-motor", dc=True)
        _, pump = self.used()
        self.assertEqual(pump.route, "ac")
        self.assertIn("has no DC output for it", pump.assumed)


class BlocksTest(DayPlanTest):
    def test_a_try_answers_and_stores_nothing(self):
        clear_caches()
        answered = self.block("move", by_min="60", quick="1")
        self.assertContains(answered, 'id="plan-charts"')
        self.assertContains(answered, 'id="answer-bar"')
        self.assertContains(answered, "while it moves")
        self.assertNotContains(answered, 'id="plan-goes"')
        # Back where it was, the whole answer is at hand.
        self.client.get(self.url("plans:plan", self.plan.pk))
        answered = self.block("move", by_min="0", quick="1")
        self.assertNotContains(answered, "while it moves")
        self.assertContains(answered, 'id="plan-goes"')
        self.entry.refresh_from_db()
        self.assertEqual((self.entry.moments, self.made()), (["20:15"], 0))

    def test_a_move_is_stored_and_undone(self):
        self.assertContains(self.block("move", by_min="60"), "Changed the use of Autoclave")
        self.entry.refresh_from_db()
        self.assertEqual(self.entry.moments, ["21:15"])
        self.undo()
        self.entry.refresh_from_db()
        self.assertEqual(self.entry.moments, ["20:15"])

    def test_an_assumed_use_becomes_a_stored_one_when_moved(self):
        self.router.hours_per_day = 4.0
        self.router.save()
        self.assertEqual(self.block("move", self.router, by_min="30").status_code, 200)
        entry = self.plan.entries.get(load=self.router)
        self.assertEqual(entry.windows, [["18:30", "22:30"]])

    def test_stretching_copying_and_taking_out(self):
        lamp = make_load(self.job, "Lamp", 38.0, kind="led")
        entry = PlanEntry.objects.create(plan=self.plan, load=lamp, windows=[["18:00", "20:00"]])
        self.block("move", lamp, by_min="45", edge="end")
        self.block("copy", lamp)
        entry.refresh_from_db()
        self.assertEqual(entry.windows, [["18:00", "20:45"], ["22:45", "01:30"]])
        self.block("remove", lamp, index=0)
        self.block("remove", lamp, index=0)
        entry.refresh_from_db()
        self.assertFalse(entry.taken_in)

    def test_what_cannot_be_is_a_sentence_and_stores_nothing(self):
        for data, said in (
            ({"by_min": "soon"}, "by how many minutes"),
            ({"by_min": "999999"}, "farther than a plan reaches"),
            ({"by_min": "15", "edge": "end"}, "as long as its steps"),
        ):
            with self.subTest(data=data):
                self.assertContains(self.block("move", **data), said, status_code=422)
        self.assertContains(self.block("move", index=7, by_min="15"), "not there", status_code=422)
        self.assertEqual(self.made(), 0)

    def test_foreign_ids_are_not_found(self):
        other = make_load(make_job(self.other, "Theirs"), "Secret")
        self.assertEqual(self.block("move", other, by_min="15").status_code, 404)
        url = self.url("plans:move-block", self.plan.pk, "sources", 999, 0)
        self.assertEqual(self.client.post(url, {"by_min": "15"}).status_code, 404)


class SourceTest(DayPlanTest):
    def add(self, kind, **data):
        return self.client.post(self.url("plans:add-source", self.plan.pk, kind), data)

    def test_sun_lengthens_the_plan_and_can_be_taken_back(self):
        before = answer_of(self.plan).outcome.runtime[1]
        self.assertEqual(self.add("sun", **SUN).status_code, 302)
        source = self.plan.sources.get()
        self.assertEqual((source.data["yield"], source.data["clouds"]), (0.72, 0.3))
        self.assertGreater(answer_of(self.plan).outcome.runtime[1], before)
        self.undo()
        self.assertEqual(self.plan.sources.live().count(), 0)

    def test_editing_shows_what_is_stored_and_refuses_a_stale_form(self):
        self.add("sun", **SUN)
        source = self.plan.sources.get()
        url = self.url("plans:source", self.plan.pk, source.pk)
        self.assertContains(self.client.get(url), 'value="72 %"')
        self.client.post(url, {**SUN, "clouds": "80", "version": "1"})
        source.refresh_from_db()
        self.assertEqual(source.data["clouds"], 0.8)
        stale = self.client.post(url, {**SUN, "version": "1"})
        self.assertContains(stale, "another window", status_code=422)

    def test_an_edit_keeps_what_an_import_said_and_the_form_does_not_show(self):
        sun = {"rated_w": 800.0, "latitude": 38.7, "longitude": -9.1, "spread": 0.1}
        window = {"watts": 300.0, "between": [["18:00", "20:00"]], "spread": 0.4}
        battery = {"nominal_wh": 900.0, "max_w": 200.0, "efficiency": 0.95}
        for kind, data, typed, kept in (
            ("sun", sun, {**SUN, "place": "Lisbon"}, "spread"),
            ("window", window, {"watts": "300 W", "hours": "19-21"}, "spread"),
            ("battery", battery, {"nominal_wh": "1 kWh", "max_w": "200 W"}, "efficiency"),
        ):
            with self.subTest(kind=kind):
                source = self.plan.sources.create(kind=kind, name="Source", data=data)
                url = self.url("plans:source", self.plan.pk, source.pk)
                shared = {"name": "Renamed", "taken_in": "on", "version": "1"}
                self.assertEqual(self.client.post(url, {**typed, **shared}).status_code, 302)
                source.refresh_from_db()
                self.assertEqual((source.name, source.data[kept]), ("Renamed", data[kept]))
                changed = "between" if kind == "window" else "nominal_wh"
                if kind != "sun":
                    self.assertNotEqual(source.data[changed], data[changed])

    def test_panels_as_people_know_them(self):
        given = {
            "place": "Lisbon",
            "tilt": "roof",
            "azimuth": "south-east",
            "strings": "400 W, flat, W",
            "connected": "8am-6pm",
            "shade": "15-18",
            "measured": "2026-06-20 2.1 kWh\n2026-06-21 12:30 410 W",
        }
        self.assertEqual(self.add("sun", **{**SUN, **given}).status_code, 302)
        source = self.plan.sources.get()
        self.assertEqual(source.data["latitude"], 38.7)
        self.assertEqual(source.data["strings"][0], {"rated_w": 800, "tilt": 35, "azimuth": 135})
        self.assertEqual(source.data["strings"][1]["azimuth"], 270)
        self.assertEqual(source.data["shade"], [["15:00", "18:00"]])
        self.assertEqual(source.data["measured"][0], {"on": "2026-06-20", "wh": 2100})
        shown = self.client.get(self.url("plans:source", self.plan.pk, source.pk))
        for words in ('value="Lisbon"', "400 W, 0, 270", "2026-06-21 12:30 410 W"):
            self.assertContains(shown, words)
        page = self.client.get(self.url("plans:plan", self.plan.pk))
        self.assertContains(page, "by 1 reading in full sun, Wh of 1 day")

    def test_panels_that_cannot_be_understood(self):
        for given, said in (
            ({"place": "Atlantis"}, "not in the list"),
            ({"place": ""}, "required"),
            ({"tilt": "steepish"}, "flat, roof"),
            ({"strings": "400 W east"}, "watts, tilt, way"),
            ({"shade": "tea time"}, "not a span"),
            ({"measured": "yesterday 2 kWh"}, "write 2026-11-20"),
            ({"measured": "2026-06-20 90 kWh"}, "more than these panels give"),
        ):
            with self.subTest(said=said):
                self.assertContains(self.add("sun", **{**SUN, **given}), said, status_code=422)

    def test_wind_in_the_units_that_people_write(self):
        wind = {"name": "Mast", "taken_in": "on", "mean_speed": "18 km/h", "spread": "10 %"}
        answer = self.add("wind", **wind, curve="3 m/s 0 W\n8; 120\n12 m/s 0.3 kW")
        self.assertEqual(answer.status_code, 302)
        source = self.plan.sources.get()
        self.assertEqual(
            source.data,
            {"mean_speed": 5.0, "spread": 0.1, "curve": [[3.0, 0.0], [8.0, 120.0], [12.0, 300.0]]},
        )
        page = self.client.get(self.url("plans:source", self.plan.pk, source.pk))
        self.assertContains(page, 'value="10 %"')
        self.assertContains(page, "12  300")
        for curve, said in (
            ("-3 10\n8 120", "too small"),
            ("3 1,000", "can mean 1000 or 1.000"),
            ("3 10 W 5", "Line 1"),
            ("3 V 10", "this field wants"),
            ("", "Is needed"),
        ):
            with self.subTest(curve=curve):
                answer = self.add("wind", **wind, curve=curve)
                self.assertContains(answer, said, status_code=422)
                self.assertContains(answer, "18 km/h", status_code=422)

    def test_a_generator_by_hours(self):
        self.add(
            "window",
            name="Generator",
            watts="900 W",
            hours="18:30-20:30",
            litres_per_kwh="0.5",
            taken_in="on",
        )
        source = self.plan.sources.get()
        self.assertEqual(source.data["between"], [["18:30", "20:30"]])
        outcome = answer_of(self.plan).outcome
        self.assertGreater(outcome.likely.fuel_l, 0.1)
        url = self.url("plans:move-block", self.plan.pk, "sources", source.pk, 0)
        self.client.post(url, {"by_min": "60"}, headers=HTMX)
        source.refresh_from_db()
        self.assertEqual(source.data["between"], [["19:30", "21:30"]])

    def test_another_battery(self):
        self.add("battery", name="Case", nominal_wh="1 kWh", max_w="130 W", taken_in="on")
        self.assertIn("Case", answer_of(self.plan).outcome.likely.by_source_wh)

    def test_refusals_keep_what_was_typed(self):
        for kind, data, said in (
            ("sun", {**SUN, "place": "99, 0"}, "within ±90"),
            ("window", {"name": "G", "watts": "900 W", "hours": "evenings"}, "not a span"),
            ("window", {"name": "G", "watts": "900 W", "hours": "20:15"}, "Wants hours from and"),
            ("window", {"name": "G", "watts": "9 kWh", "hours": "18-19"}, "wants a rate"),
        ):
            with self.subTest(said=said):
                answered = self.add(kind, **data)
                self.assertContains(answered, said, status_code=422)
                self.assertContains(answered, f'value="{data["name"]}"', status_code=422)
        self.assertEqual(self.add("moon", name="x").status_code, 404)
        self.assertFalse(PlanSource.objects.exists())

    def test_on_another_supply_it_takes_the_input_that_fits(self):
        self.add("sun", **SUN, input="sun")
        other = make_supply(self.job, name="Other")
        plan = document(draft_of(self.plan).on(other))
        self.assertNotIn("input", plan["sources"][0])


class WhatIfTest(DayPlanTest):
    def values(self, **change):
        return {"start_charge": "100", "floor": "10", "needed_hours": "24", "odds": "90", **change}

    def post(self, name, **change):
        url = self.url(f"plans:{name}", self.plan.pk)
        return self.client.post(url, self.values(**change), headers=HTMX)

    def test_trying_moves_the_answer_and_keeps_nothing(self):
        answered = self.post("what-if", start_charge="60", quick="1")
        self.assertContains(answered, "A try: not saved")
        self.plan.refresh_from_db()
        self.assertEqual((self.plan.start_charge, self.made()), (1.0, 0))
        self.assertNotContains(self.post("what-if"), "Only tried")

    def test_keeping_is_one_change_and_one_undo(self):
        self.client.post(self.url("plans:add-source", self.plan.pk, "sun"), SUN)
        self.post("keep-what-if", start_charge="60", clouds="90")
        self.plan.refresh_from_db()
        self.assertEqual(self.plan.start_charge, 0.6)
        self.assertEqual(self.plan.sources.get().data["clouds"], 0.9)
        self.undo()
        self.plan.refresh_from_db()
        self.assertEqual(self.plan.start_charge, 1.0)
        self.assertEqual(self.plan.sources.get().data["clouds"], 0.3)

    def test_impossible_conditions_are_a_sentence(self):
        for change, said in (
            ({"start_charge": "5"}, "already at its floor"),
            ({"needed_hours": "400"}, "less than or equal to 336"),
            ({"needed_hours": "0"}, "greater than or equal"),
            ({"floor": "hot"}, "number"),
        ):
            with self.subTest(said=said):
                self.assertContains(self.post("what-if", **change), said, status_code=422)
                self.assertContains(self.post("keep-what-if", **change), said, status_code=422)


class HelpTest(DayPlanTest):
    def help(self, kind, load="", to=""):
        return self.client.post(
            self.url("plans:help", self.plan.pk),
            {"kind": kind, "load": load, "to": to},
            headers=HTMX,
        )

    def test_leaving_off_and_back(self):
        before = answer_of(self.plan).outcome.runtime[1]
        self.assertContains(self.help("leave_off", "Autoclave"), "Autoclave left off")
        self.assertGreater(answer_of(self.plan).outcome.runtime[1], before)
        self.undo()
        self.assertAlmostEqual(answer_of(self.plan).outcome.runtime[1], before)

    def test_what_keeps_somebody_alive_is_not_advised_on_and_the_caution_stays(self):
        pump = make_load(self.job, "Breather", 300.0, kind="induction-motor", cares="life")
        pump.priority = "nice"
        pump.save()
        answer = answer_of(self.plan)
        self.assertNotIn("Breather", {suggestion.load for suggestion in answer.suggestions})
        self.assertNotIn("rest", {suggestion.change.kind for suggestion in answer.suggestions})
        page = self.client.get(self.url("loads:survey"))
        self.assertContains(page, "Breather: never rely on an estimate alone")

    def test_the_caveat_stands_beside_the_advice_in_the_answer_bar(self):
        for load in self.job.loads.exclude(pk=self.box.pk):
            load.removed_at = timezone.now()
            load.save()
        self.box.set_c, self.plan.room_c, self.box.cares = 4.0, 24.0, "none"
        self.box.save()
        self.plan.save()
        page = self.client.get(self.url("loads:survey"))
        self.assertContains(page, "Only within the range that the contents")

    def test_on_a_dc_output(self):
        add_reading(self.router, "spot", {"state": "running", "watts": 120.0})
        suggestion = next(
            suggestion
            for suggestion in answer_of(self.plan).suggestions
            if suggestion.change.kind == "route"
        )
        self.help("route", "Router", "dc12")
        self.assertEqual(self.plan.entries.get(load=self.router).route, "dc12")
        self.assertGreater(suggestion.value, 0)

    def test_a_help_that_is_none_changes_nothing(self):
        answer = self.help("leave_off", "Box")
        self.assertContains(answer, "this is not among what helps now")
        self.assertEqual(self.made(), 0)

    def test_a_charger_runs_longer(self):
        PlanSource.objects.create(
            plan=self.plan,
            kind="window",
            name="Generator",
            data={"watts": 400.0, "between": [["18:30", "19:00"]]},
        )
        suggestion = next(
            suggestion
            for suggestion in answer_of(self.plan).suggestions
            if suggestion.change.kind == "charge"
        )
        self.help("charge", "", suggestion.change.to)
        between = self.plan.sources.get().data["between"]
        self.assertEqual(len(between), 2)
        self.assertEqual(between[1][0], suggestion.change.to)

    def test_a_set_point(self):
        self.box.set_c, self.box.cares = 4.0, "none"
        self.box.save()
        self.plan.room_c = 24.0
        self.plan.save()
        self.help("set_point", "Box", "6")
        self.assertEqual(self.plan.entries.get(load=self.box).set_c, 6.0)
        duty = answer_of(self.plan).outcome.plan.loads
        self.assertLess(next(load for load in duty if load.name == "Box").draw.duty, 0.35)


class PlacingTest(DayPlanTest):
    def setUp(self):
        super().setUp()
        PlanSource.objects.create(
            plan=self.plan,
            kind="sun",
            name="Panels",
            data={"rated_w": 2000.0, "latitude": 10.0, "longitude": 0.0, "clouds": 0.0},
        )
        self.supply.inputs.all().delete()

    def test_proposed_as_ghosts_then_accepted_with_one_undo(self):
        self.entry.moments = ["20:15", "21:15"]
        self.entry.save()
        page = self.client.get(self.url("plans:proposal", self.plan.pk))
        self.assertContains(page, "2\u00a0tasks could move")
        self.assertContains(page, "ghost", count=2)
        self.entry.refresh_from_db()
        self.assertEqual(self.entry.moments, ["20:15", "21:15"])
        self.client.post(self.url("plans:place", self.plan.pk), headers=HTMX)
        self.entry.refresh_from_db()
        hours = sorted(int(moment[:2]) for moment in self.entry.moments)
        self.assertTrue(9 <= hours[0] <= hours[1] <= 15, self.entry.moments)
        self.undo()
        self.entry.refresh_from_db()
        self.assertEqual(self.entry.moments, ["20:15", "21:15"])

    def test_accepting_what_fits_no_more_is_said(self):
        self.entry.moments = ["20:15", "20:30"]
        self.entry.flexible = [["20:00", "21:10"]]
        self.entry.save()
        answered = self.client.post(self.url("plans:place", self.plan.pk), headers=HTMX)
        self.assertContains(answered, "Nothing was moved")
        self.assertEqual(self.made(), 0)

    def test_nowhere_to_go_is_said(self):
        self.entry.moments = ["20:15", "20:30"]
        self.entry.flexible = [["20:00", "21:10"]]
        self.entry.save()
        page = self.client.get(self.url("plans:proposal", self.plan.pk))
        self.assertContains(page, "allow more hours")


class PageTest(DayPlanTest):
    def page(self, query="", name="plans:plan"):
        return self.client.get(self.url(name, self.plan.pk) + query)

    def test_zoom_is_kept_inside_the_plan(self):
        self.assertContains(self.page("?span=6&from=3"), "6\u00a0h shown")
        for query in ("?span=nonsense&from=-4", "?span=99999&from=99999", "?span=0"):
            with self.subTest(query=query):
                self.assertEqual(self.page(query).status_code, 200)

    def test_blocks_say_what_they_are(self):
        page = self.page()
        self.assertContains(page, 'aria-label="Autoclave, Tue 20:15 to 21:03')
        self.assertContains(page, 'role="group" aria-label="Loads and sources over the hours."')

    def test_sizes(self):
        page = self.page(name="plans:sizes")
        self.assertContains(page, "to be 90\u00a0% sure")
        self.assertContains(page, "By twice the average")
        self.assertContains(page, "Inverter, just enough")
        self.assertContains(page, "Further tasks that fit")

    def test_sizes_without_an_answer(self):
        self.job.loads.all().delete()
        self.assertEqual(self.page(name="plans:sizes").status_code, 200)

    def test_a_copy_has_it_all_and_goes_with_one_undo(self):
        self.client.post(self.url("plans:copy", self.plan.pk))
        copy = self.job.plans.get(name="Night, copy")
        self.assertEqual(copy.entries.get().moments, ["20:15"])
        self.assertFalse(copy.is_current)
        self.undo()
        self.assertEqual(self.job.plans.live().count(), 1)

    def test_side_by_side(self):
        other = make_supply(self.job, name="Small", nominal_wh=500.0)
        page = self.page(f"?with=supply-{other.pk}", "plans:compare")
        self.assertContains(page, "Night on Small")
        self.assertContains(page, "longer")
        self.client.post(self.url("plans:copy", self.plan.pk))
        copy = self.job.plans.get(name="Night, copy")
        page = self.page(f"?with=plan-{copy.pk}", "plans:compare")
        self.assertContains(page, "No real difference")

    def test_a_battery_that_is_a_little_larger_lasts_longer_in_every_pair(self):
        little = make_supply(self.job, name="Little more", nominal_wh=self.supply.nominal_wh * 1.05)
        for name in ("volts", "internal_ohm", "cutoff_v"):
            setattr(little, name, getattr(self.supply, name))
        little.save()
        page = self.page(f"?with=supply-{little.pk}", "plans:compare")
        self.assertContains(page, "longer")
        self.assertNotContains(page, "No real difference")

    def test_another_plan_is_what_its_page_speaks_of(self):
        self.client.post(self.url("plans:copy", self.plan.pk))
        copy = self.job.plans.get(name="Night, copy")
        copy.needed_hours = 5.0
        copy.save()
        page = self.client.get(self.url("plans:plan", copy.pk))
        self.assertContains(page, "Enough for the 5\u00a0h needed")
        self.assertEqual(current_plan(self.job), self.plan)

    def test_lanes_download(self):
        answered = self.client.get(self.url("plans:download", self.plan.pk, "lanes.svg"))
        self.assertEqual(answered["Content-Type"], "image/svg+xml")

    def test_the_last_change_can_be_taken_back_after_a_reload(self):
        self.block("move", by_min="60")
        page = self.page()
        self.assertContains(page, "Last change in this job: Changed the use of Autoclave")
        self.undo()
        self.assertNotContains(self.page(), "Changed the use of Autoclave")

    def test_a_refusal_names_the_load(self):
        self.entry.steps = [{"watts": 300.0, "minutes": 3000.0, "duty": 1.0}]
        self.entry.save()
        answer = answer_of(self.plan)
        self.assertEqual(answer.reason, "refused")
        self.assertIn("Autoclave: steps take 50 h together", answer.words)
        self.assertContains(self.page(), "Autoclave: steps take 50 h together")


class EntryPageTest(DayPlanTest):
    def post(self, load=None, **data):
        load = load or self.autoclave
        values = {"taken_in": "on", "count": "1", "use": "at 20:15", **data}
        if load == self.autoclave:
            values["version"] = self.entry.version
        return self.client.post(self.url("plans:entry", self.plan.pk, load.pk), values)

    def test_everything_is_stored(self):
        self.post(
            use="at 12:30, 20:15", steps="1480 W 12 min; 300 W 15 min", movable="7-22", alone="on"
        )
        self.entry.refresh_from_db()
        self.assertEqual(self.entry.moments, ["12:30", "20:15"])
        self.assertEqual(self.entry.steps[1], {"watts": 300.0, "minutes": 15.0, "duty": 1.0})
        self.assertEqual((self.entry.flexible, self.entry.alone), ([["07:00", "22:00"]], True))
        page = self.client.get(self.url("plans:entry", self.plan.pk, self.autoclave.pk))
        self.assertContains(page, "1480 W 12 min; 300 W 15 min")

    def test_a_pack_and_contents(self):
        self.post(
            self.router,
            use="at 19:00",
            pack_wh="52 Wh",
            missing="80 %",
            charge_w="45 W",
            route="dc12",
        )
        entry = self.plan.entries.get(load=self.router)
        self.assertEqual(entry.charge, {"pack_wh": 52.0, "missing": 0.8, "watts": 45.0})
        self.assertEqual(entry.route, "dc12")

    def test_refusals(self):
        for load, data, said in (
            (None, {"steps": "hot"}, "is not a step"),
            (None, {"movable": "20:15"}, "Wants hours from and to"),
            (self.router, {"pack_wh": "52 Wh"}, "needs all three"),
            (self.box, {"warm_kg": "5 kg"}, "Give both"),
            (self.box, {"warm_kg": "5 kg", "warm_c": "20", "pull_down_h": "3"}, "not both"),
            (
                self.router,
                {"use": "always", "pack_wh": "52 Wh", "missing": "80", "charge_w": "45 W"},
                "Say when it is charged",
            ),
            (None, {"route": "usb"}, "valid choice"),
        ):
            with self.subTest(said=said):
                self.assertContains(self.post(load, **data), said, status_code=422)
        self.entry.refresh_from_db()
        self.assertEqual(self.entry.version, 1)

    def test_it_asks_what_a_load_of_its_kind_needs(self):
        for load, has, lacks in (
            (self.box, "warm_kg", "steps"),
            (self.box, "set_c", "pack_wh"),
            (self.autoclave, "steps", "warm_kg"),
            (self.router, "pack_wh", "pull_down_h"),
        ):
            page = self.client.get(self.url("plans:entry", self.plan.pk, load.pk))
            self.assertContains(page, f'name="{has}"')
            self.assertNotContains(page, f'name="{lacks}"')

    def test_a_stored_value_stays_though_its_kind_does_not_use_it(self):
        self.entry.pull_down_h = 3.0
        self.entry.save()
        page = self.client.get(self.url("plans:entry", self.plan.pk, self.autoclave.pk))
        self.assertContains(page, 'name="pull_down_h"')
