"""The watch on the site: begun with one tap, switched, asked, ended; the card for the wall."""

from __future__ import annotations

from datetime import datetime, timedelta
from unittest import mock

from django.utils import timezone

from tests.web.base import HTMX, SiteTest, make_load, make_supply
from web.background.asking import worked_out
from web.jobs.actions import undo
from web.plans.draft import draft_of
from web.plans.models import Plan, PlanEntry, PlanSource
from web.trials.models import CheckIn, Trial
from web.watch import actions
from web.watch.actions import change_watch, running_watch
from web.watch.page import page_of


class WatchTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.supply = make_supply(self.job, nominal_wh=2000.0, volts=25.6)
        self.box = make_load(self.job, "Box", 80.0, priority="must")
        self.lamp = make_load(self.job, "Lamp", 60.0, kind="led", priority="nice")
        self.saw = make_load(self.job, "Saw", 700.0, kind="induction-motor", priority="nice")
        self.plan = Plan.objects.create(
            job=self.job, name="Night", supply=self.supply, is_current=True, needed_hours=12.0
        )
        PlanEntry.objects.create(plan=self.plan, load=self.saw, taken_in=False)

    def begin(self, **more):
        return self.client.post(self.url("watch:begin"), **more)

    def trial(self):
        return Trial.objects.live().get()

    def page(self, **headers):
        return self.client.get(self.url("watch:watch"), **headers)

    def switch(self, name, on=False):
        data = {"load": name, **({"on": "1"} if on else {})}
        return self.client.post(self.url("watch:switch"), data, **HTMX)


class BeginTest(WatchTest):
    def test_one_tap_begins_it_and_a_second_one_goes_on_with_it(self):
        self.assertContains(self.page(), "Power is out?")
        self.assertRedirects(self.begin(), self.url("watch:watch"))
        self.begin()
        trial = self.trial()
        self.assertEqual((trial.plan, trial.needed_h, trial.supply), (self.plan, 12.0, self.supply))
        page = self.page()
        self.assertContains(page, "Lasts until about")
        self.assertContains(page, "with only what must run")

    def test_a_must_that_cannot_run_is_named_beside_the_chance(self):
        make_load(self.job, "Heater", 4000.0, kind="resistive-heat", priority="must")
        self.begin()
        page = self.page()
        self.assertContains(page, "without Heater")
        self.assertContains(page, "fails in most simulated runs")

    def test_from_the_answer_bar_and_the_jobs_page(self):
        self.assertContains(self.client.get(self.url("loads:survey")), self.url("watch:begin"))
        self.assertContains(self.client.get("/jobs/"), self.url("watch:begin"))
        response = self.begin(**HTMX)
        self.assertEqual(response["HX-Redirect"], self.url("watch:watch"))

    def test_loads_that_the_plan_leaves_out_are_off_and_may_be_asked_about(self):
        self.begin()
        trial = self.trial()
        self.assertEqual(trial.load_names, ["Box", "Lamp", "Saw"])
        self.assertEqual(trial.on_now(), ["Box", "Lamp"])
        answer = self.client.get(self.url("watch:may"), {"load": "Saw"}, **HTMX)
        self.assertContains(answer, "at its start")
        self.assertContains(answer, "at the end")

    def test_without_a_plan_it_goes_by_the_supply_and_the_loads(self):
        Plan.objects.all().delete()
        self.begin()
        self.assertIsNone(self.trial().plan)
        self.assertContains(self.page(), "Lasts until about")

    def test_an_empty_job_says_what_is_missing(self):
        self.supply.delete()
        self.assertContains(self.page(), "needs a load and a battery")
        self.begin()
        self.assertFalse(Trial.objects.exists())

    def test_undo(self):
        self.begin()
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.assertIsNone(running_watch(self.job))


class NowTest(WatchTest):
    def setUp(self):
        super().setUp()
        self.begin()

    def test_a_tap_records_what_is_on_and_the_answer_follows(self):
        before = self.page(**HTMX).content.decode()
        page = self.switch("Lamp")
        self.assertContains(page, 'id="watch"')
        self.assertEqual(self.trial().on_now(), ["Box"])
        self.assertNotEqual(page.content.decode(), before)
        self.switch("Lamp", on=True)
        self.assertEqual(self.trial().on_now(), ["Box", "Lamp"])
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.assertEqual(self.trial().on_now(), ["Box"])
        self.assertEqual(self.switch("Piano").status_code, 404)

    def test_the_same_tap_twice_is_one(self):
        self.switch("Lamp")
        self.switch("Lamp")
        self.assertEqual(self.trial().check_ins.live().count(), 1)

    def test_a_look_in_bars(self):
        self.client.post(self.url("watch:look"), {"shown": "4 of 4"}, **HTMX)
        self.client.post(self.url("watch:look"), {"shown": "3 of 4"}, **HTMX)
        self.assertEqual(self.trial().check_ins.live().get().data, {"bars": 3, "of": 4})
        refused = self.client.post(self.url("watch:look"), {"shown": "half"}, **HTMX)
        self.assertContains(refused, "a percentage, or bars such as 3 of 4", status_code=422)
        self.assertContains(refused, 'value="half"', status_code=422)

    def test_a_question_is_of_its_page_until_something_is_noted(self):
        Trial.objects.update(started_at=timezone.now() - timedelta(hours=2))
        ask = {"load": "Saw", "h": "1.9"}
        with mock.patch("web.watch.page.worked_out", wraps=worked_out) as asked:
            self.client.get(self.url("watch:may"), ask, **HTMX)
            self.assertEqual(asked.call_args.args[5], 1.9)
            self.client.post(self.url("watch:look"), {"shown": "80"}, **HTMX)
            self.client.get(self.url("watch:may"), ask, **HTMX)
            self.assertGreater(asked.call_args.args[5], 1.95)
        for odd in ("x", "nan", "-5", "1e9"):
            page = self.client.get(self.url("watch:may"), {"load": "Saw", "h": odd}, **HTMX)
            self.assertEqual(page.status_code, 200)

    def test_a_look_is_a_check_in(self):
        self.client.post(self.url("watch:look"), {"shown": "84"}, **HTMX)
        self.client.post(self.url("watch:look"), {"shown": "83"}, **HTMX)
        self.assertEqual(self.trial().check_ins.live().get().data, {"percent": 83.0})
        refused = self.client.post(self.url("watch:look"), {"shown": "183"}, **HTMX)
        self.assertContains(refused, "183", status_code=422)
        self.assertEqual(self.trial().check_ins.live().count(), 1)

    def test_what_helps_can_be_done(self):
        self.assertContains(self.page(), "Leave off Lamp")
        self.switch("Lamp")
        self.assertNotContains(self.page(), "Leave off Lamp")

    def test_a_charger_is_planned_and_never_what_was(self):
        source = {"watts": 500, "between": [["03:00", "03:30"]], "litres_per_kwh": 0.5}
        PlanSource.objects.create(plan=self.plan, kind="window", name="Generator", data=source)
        Trial.objects.all().delete()
        self.begin()
        page = self.page()
        self.assertContains(page, "Run Generator for 2\u00a0h from")
        self.assertContains(page, "with an alarm indoors")
        url, soon = self.url("watch:charge"), timezone.localtime() + timedelta(hours=5)
        self.client.post(url, {"source": "Generator", "at": soon.isoformat()}, **HTMX)
        between = self.trial().expected["plan"]["sources"][0]["between"]
        self.assertEqual(between[-1][0], soon.isoformat())
        # It is still planned when the hours are corrected.
        since = timezone.localtime() - timedelta(hours=1)
        until = since + timedelta(hours=20)
        data = {"since": f"{since:%Y-%m-%dT%H:%M}", "charge_percent": "90"}
        self.client.post(self.url("watch:change"), {**data, "until": f"{until:%Y-%m-%dT%H:%M}"})
        between = self.trial().expected["plan"]["sources"][0]["between"]
        self.assertEqual((round(self.trial().needed_h), between[-1][0]), (20, soon.isoformat()))
        for data in (
            {"source": "Nothing", "at": soon.isoformat()},
            {"source": "Generator", "at": (soon + timedelta(days=40)).isoformat()},
        ):
            self.assertEqual(self.client.post(url, data).status_code, 404)
        past = (soon - timedelta(hours=20)).isoformat()
        self.client.post(url, {"source": "Generator", "at": past})
        begins = self.trial().expected["plan"]["sources"][0]["between"][-1][0]
        self.assertGreater(begins, timezone.localtime().isoformat()[:13])

    def test_the_answer_bar_is_the_watchs(self):
        survey = self.client.get(self.url("loads:survey"))
        self.assertContains(survey, "Lasts until about")
        self.assertContains(survey, "Power is out, since")
        self.assertNotContains(survey, "Measure next")

    def test_since_charge_and_until_are_corrected(self):
        self.switch("Lamp")
        CheckIn.objects.update(at=timezone.now())
        url = self.url("watch:change")
        since = timezone.localtime() - timedelta(hours=2)
        until = since + timedelta(hours=30)
        data = {
            "since": f"{since:%Y-%m-%dT%H:%M}",
            "charge_percent": "70",
            "until": f"{until:%Y-%m-%dT%H:%M}",
        }
        self.assertRedirects(self.client.post(url, data), self.url("watch:watch"))
        trial = self.trial()
        self.assertEqual((trial.start_charge, round(trial.needed_h)), (0.7, 30))
        self.assertEqual(trial.on_now(), ["Box"])
        for change, words in (
            ({"until": data["since"]}, "before it went out"),
            ({"charge_percent": "5"}, "not above where it stops"),
            ({"since": f"{until:%Y-%m-%dT%H:%M}"}, "in the future"),
        ):
            refused = self.client.post(url, {**data, **change})
            self.assertContains(refused, words, status_code=422)

    def test_what_keeps_alive_stands_on_top_and_has_no_switch(self):
        self.box.cares = "life"
        self.box.priority = "must"
        self.box.save()
        Trial.objects.all().delete()
        self.begin()
        page = self.page()
        self.assertContains(page, "never off. Keep the second means ready")
        self.assertNotContains(page, 'name="load" value="Box"')
        self.assertContains(page, "Box must stay on; know the second means.")

    def test_handing_over(self):
        page = self.page()
        for words in ("Power is out since", "On: Box, Lamp.", "Off: Saw."):
            self.assertContains(page, words)

    def test_may_of_what_is_none(self):
        self.assertEqual(self.client.get(self.url("watch:may"), {"load": "x"}).status_code, 404)
        whole = self.client.get(self.url("watch:may"), {"load": "Lamp"})
        self.assertContains(whole, "Can I switch on Lamp?")
        self.assertContains(whole, "It counts as on already")


class AfterTest(WatchTest):
    def test_power_is_back_and_it_teaches(self):
        self.begin()
        Trial.objects.update(started_at=timezone.now() - timedelta(hours=6))
        response = self.client.post(self.url("watch:back"), {"last_shown": "55"})
        trial = self.trial()
        self.assertRedirects(response, self.url("trials:taught", trial.pk))
        self.assertFalse(trial.running)
        self.assertEqual(trial.why_not_a_run(), "")
        (run,) = draft_of(Plan.objects.get(pk=self.plan.pk)).runs
        names = [load["name"] for load in run.document["legs"][0]["loads"]]
        self.assertEqual(names, ["Box", "Lamp"])
        self.assertContains(self.page(), "Power is out?")
        self.assertEqual(self.client.post(self.url("watch:back")).status_code, 404)

    def test_where_a_source_charged_the_wh_are_asked_for(self):
        source = {"watts": 300, "between": [["00:00", "23:59"]]}
        PlanSource.objects.create(plan=self.plan, kind="window", name="Mains", data=source)
        self.begin()
        self.assertContains(self.page(), "Charged meanwhile")
        Trial.objects.update(started_at=timezone.now() - timedelta(hours=6))
        self.client.post(self.url("watch:back"), {"last_shown": "70", "charged_wh": "400"})
        self.assertEqual(self.trial().why_not_a_run(), "")
        self.assertEqual(
            self.trial().check_ins.live().get().data, {"percent": 70.0, "wh_in": 400.0}
        )

    def test_a_charge_that_is_none_is_refused_and_it_goes_on(self):
        self.begin()
        refused = self.client.post(self.url("watch:back"), {"last_shown": "550"})
        self.assertEqual(refused.status_code, 422)
        self.assertTrue(self.trial().running)


class CardTest(WatchTest):
    def test_the_card(self):
        page = self.client.get(self.url("watch:card"))
        self.assertContains(page, "On the wall beside the battery")
        self.assertContains(page, "in 10 such outages")
        self.assertContains(page, "Lamp")
        self.assertNotContains(page, "Never off:")

    def test_a_picture_for_a_phone(self):
        self.assertContains(self.client.get(self.url("watch:card")), "Picture for a phone")
        picture = self.client.get(self.url("watch:card-picture"))
        self.assertEqual(picture["Content-Type"], "image/svg+xml")
        for words in ("Night.", "Must run: Box.", "Lamp", "must and should, from"):
            self.assertContains(picture, words)
        self.supply.delete()
        self.assertEqual(self.client.get(self.url("watch:card-picture")).status_code, 404)

    def test_a_must_that_cannot_run_is_said_and_is_none_of_those_that_stay_on(self):
        make_load(self.job, "Ventilator", 90_000.0, priority="must", cares="life")
        page = self.client.get(self.url("watch:card"))
        self.assertContains(page, "Ventilator fails in most simulated runs")
        self.assertContains(page, "<dt>Must run</dt><dd>Box</dd>", html=True)
        self.assertContains(page, "<strong>Never off:</strong> Ventilator")
        picture = self.client.get(self.url("watch:card-picture"))
        self.assertContains(picture, "Must run: Box.")
        self.assertContains(picture, "Ventilator fails in most simulated runs")
        sheet = self.client.get(self.url("sheets:sheet"), {"card": "1"})
        self.assertContains(sheet, "Ventilator fails in most simulated runs")

    def test_loads_that_are_not_counted_are_named_and_a_life_is_never_off(self):
        make_load(self.job, "Iron", None, kind="resistive-heat")
        make_load(self.job, "Concentrator", None, priority="must", cares="life")
        names = "Concentrator, Iron"
        for name in ("watch:card", "watch:card-picture"):
            page = self.client.get(self.url(name)).content.decode()
            self.assertIn(names, page)
            self.assertIn("is over sooner", page)
            self.assertIn("Never off:", page)
        sheet = self.client.get(self.url("sheets:sheet"), {"card": "1"})
        self.assertContains(sheet, "Not counted: if on, it is over sooner")
        self.begin()
        self.assertContains(self.page(), "Not counted: Concentrator, Iron. If on")
        self.assertContains(self.page(), "Never off: Concentrator.")

    def test_what_is_missing(self):
        self.supply.delete()
        self.assertContains(self.client.get(self.url("watch:card")), "No supply yet")


class StepTest(WatchTest):
    """Next steps: done, later, not possible."""

    def setUp(self):
        super().setUp()
        self.soon = timezone.localtime().replace(second=0, microsecond=0) + timedelta(hours=2)
        hours = [[f"{self.soon:%H:%M}", f"{self.soon + timedelta(hours=1):%H:%M}"]]
        PlanEntry.objects.create(plan=self.plan, load=self.lamp, windows=hours)
        PlanSource.objects.create(
            plan=self.plan, kind="window", name="Generator", data={"watts": 500.0, "between": hours}
        )
        self.begin()

    def step(self, what, code="switch-on", name="Lamp", at=None):
        data = {"what": what, "code": code, "name": name, "at": (at or self.soon).isoformat()}
        return self.client.post(self.url("watch:step"), data, **HTMX)

    def rows(self):
        return [(row.at, row.words) for row in page_of(self.trial(), 60).doings]

    def test_what_was_done_is_gone_and_comes_back_with_undo(self):
        row = (f"{self.soon:%H:%M}", "Lamp on")
        self.assertIn(row, self.rows())
        self.assertEqual(self.step("done").status_code, 200)
        self.assertNotIn(row, self.rows())
        undo(self.job, self.job.changes.first().pk)
        self.assertIn(row, self.rows())

    def test_later_is_half_an_hour_later_in_the_forecast_too(self):
        self.step("later")
        later = self.soon + timedelta(minutes=30)
        self.assertIn((f"{later:%H:%M}", "Lamp on"), self.rows())
        use = next(
            load["use"] for load in self.trial().expected["plan"]["loads"] if load["name"] == "Lamp"
        )
        self.assertIn(later.isoformat(), [begin for begin, _ in use["between"]])

    def test_a_charger_that_is_not_possible_is_not_counted_on(self):
        before = page_of(self.trial(), 60).summary
        self.step("not possible", "run-source", "Generator")
        after = page_of(self.trial(), 60).summary
        self.assertLess(after.remaining_h[1], before.remaining_h[1] - 1)
        self.assertNotIn("Generator", " ".join(words for _, words in self.rows()))

    def test_mains_that_do_not_come_or_go_early_are_not_counted_on(self):
        # With its date: late in the evening, the hour alone is that of a morning that is over.
        comes = f"{self.soon:%Y-%m-%dT%H:%M}"
        turns = {"watts": 400.0, "on_h": 2.0, "off_h": 150.0, "comes": comes}
        PlanSource.objects.update(taken_in=False)
        PlanSource.objects.create(plan=self.plan, kind="mains", name="Street", data=turns)
        actions.take_plan_in(self.trial())
        before = page_of(self.trial(), 60)
        row = next(row for row in before.doings if row.code == "mains-come")
        self.assertTrue(row.can_wait and row.can_fail)
        ends = self.soon + timedelta(hours=2)
        self.assertEqual(self.step("already", "mains-go", "Street", ends).status_code, 404)
        self.step("not possible", "mains-come", "Street")
        after = page_of(self.trial(), 60)
        self.assertLess(after.summary.remaining_h[1], before.summary.remaining_h[1] - 2)
        self.assertNotIn(
            f"{self.soon:%H:%M}", [row.at for row in after.doings if row.name == "Street"]
        )
        self.assertIn("did not come", self.job.changes.first().label)

    def test_what_is_late_already_is_put_off_from_now_on(self):
        at = timezone.now()
        for late, code, expected in (
            (timedelta(minutes=80), "mains-come", timedelta(minutes=140)),
            (timedelta(minutes=-20), "mains-come", timedelta(hours=1)),
            (timedelta(minutes=10), "switch-on", timedelta(minutes=40)),
        ):
            self.assertEqual(actions.later_by("later", code, at, at + late), expected)

    def test_mains_that_went_already(self):
        comes = timezone.localtime().replace(second=0, microsecond=0) - timedelta(minutes=30)
        turns = {"watts": 400.0, "on_h": 2.0, "off_h": 6.0, "comes": f"{comes:%H:%M}"}
        PlanSource.objects.create(plan=self.plan, kind="mains", name="Street", data=turns)
        actions.take_plan_in(self.trial())
        row = next(row for row in page_of(self.trial(), 60).doings if row.code == "mains-go")
        self.assertTrue(row.can_be_early)
        self.step("already", "mains-go", "Street", comes + timedelta(hours=2))
        began, ended = self.only_window("missed")
        self.assertEqual(ended, comes + timedelta(hours=2))
        self.assertLess(abs(began - timezone.now()), timedelta(minutes=2))
        # What has happened is no step any more; the next is that they come again.
        mine = [row for row in page_of(self.trial(), 60).doings if row.name == "Street"]
        self.assertEqual(mine[0].code, "mains-come")
        self.step("already", "mains-come", "Street", comes + timedelta(hours=8))
        mine = [row for row in page_of(self.trial(), 60).doings if row.name == "Street"]
        self.assertEqual(mine[0].code, "mains-go")
        self.assertEqual(self.only_window("came")[1], comes + timedelta(hours=8))

    def test_mains_that_stay_for_longer(self):
        comes = timezone.localtime().replace(second=0, microsecond=0) - timedelta(minutes=30)
        turns = {"watts": 400.0, "on_h": 1.0, "off_h": 6.0, "comes": f"{comes:%Y-%m-%dT%H:%M}"}
        PlanSource.objects.create(plan=self.plan, kind="mains", name="Street", data=turns)
        actions.take_plan_in(self.trial())
        ends = comes + timedelta(hours=1)
        self.step("later", "mains-go", "Street", ends)
        self.assertEqual(self.only_window("came"), (ends, ends + timedelta(hours=1)))

    def only_window(self, key):
        """The only window of the mains' kind in the plan of the watch."""
        sources = self.trial().expected["plan"]["sources"]
        (window,) = next(item[key] for item in sources if item["kind"] == "mains")
        begin, end = map(datetime.fromisoformat, window)
        return begin, end

    def test_a_correction_of_the_start_keeps_what_was_put_off_and_done(self):
        self.step("not possible", "run-source", "Generator")
        self.step("done")
        trial = self.trial()
        since = trial.started_at - timedelta(minutes=20)
        change_watch(trial, since, 0.9, since + timedelta(hours=12))
        words = " ".join(words for _, words in self.rows())
        self.assertNotIn("Generator", words)
        self.assertNotIn("Lamp on", words)

    def test_corrections_one_after_another_keep_a_charger_that_was_planned(self):
        soon = timezone.localtime() + timedelta(hours=6)
        actions.run_charger(self.trial(), "Generator", soon)
        for minutes in (10, 20):
            trial = self.trial()
            since = trial.started_at - timedelta(minutes=minutes)
            change_watch(trial, since, 1.0, since + timedelta(hours=12))
        between = self.trial().expected["plan"]["sources"][0]["between"]
        self.assertIn(soon.isoformat(), [begin for begin, _ in between])

    def test_nothing_reckons_without_what_a_life_depends_on(self):
        self.lamp.cares = "life"
        self.lamp.save()
        actions.take_plan_in(self.trial())
        row = next(row for row in page_of(self.trial(), 60).doings if row.name == "Lamp")
        self.assertFalse(row.can_wait or row.can_fail)
        for what in ("later", "not possible"):
            self.assertEqual(self.step(what).status_code, 404)
        self.assertEqual(self.step("done").status_code, 200)

    def test_what_is_not_planned_is_refused(self):
        wrong = self.soon + timedelta(minutes=7)
        for more in (
            {"at": wrong},
            {"name": "Nobody"},
            {"code": "odd"},
            {"what": "never"},
        ):
            with self.subTest(more=more):
                self.assertEqual(self.step(**{"what": "later", **more}).status_code, 404)
        self.assertEqual(self.step("done", name="x" * 5000).status_code, 404)
        self.assertEqual(self.step("done", code="odd").status_code, 404)
        for at in ("soon", "2026-06-31T10:00:00+00:00", "2026-06-30T10:00:00"):
            bare = {"what": "done", "code": "switch-on", "name": "Lamp", "at": at}
            self.assertEqual(self.client.post(self.url("watch:step"), bare).status_code, 404)

    def test_a_watch_that_began_without_its_plan_can_take_it_in_later(self):
        trial = self.trial()
        trial.expected = {}
        trial.save()
        self.assertContains(self.page(), "Its plan could not be worked out")
        again = self.client.post(self.url("watch:again"), **HTMX)
        self.assertNotContains(again, "Its plan could not be worked out")
        self.assertContains(again, "Lasts")


class PowerIsBackTest(WatchTest):
    """What an outage took, and when the battery is full again."""

    def setUp(self):
        super().setUp()
        self.begin()
        trial = self.trial()
        trial.started_at -= timedelta(hours=5)
        trial.save()
        self.client.post(self.url("watch:back"), {"last_shown": "70 %"})

    def page(self, **asked):
        return self.client.get(self.url("trials:taught", self.trial().pk), asked)

    def test_what_it_took_and_the_same_again(self):
        page = self.page()
        self.assertContains(page, "The outage lasted 5\xa0h")
        self.assertContains(page, "The battery gave about")
        self.assertNotContains(page, "full again after")

    def test_the_charger_decides_when_it_is_full(self):
        page = self.page(charger="200 W")
        self.assertContains(page, "With 200\xa0W into the battery it is full again after")
        self.assertContains(self.page(charger="2 W"), "not full within 4 days")
        self.assertContains(self.page(charger="plenty"), "plenty")

    def test_the_plans_own_mains_are_its_charger(self):
        mains = {"watts": 150.0, "on_h": 2.0, "off_h": 6.0, "comes": "14:00"}
        PlanSource.objects.create(plan=self.plan, kind="mains", name="Mains", data=mains)
        actions.take_plan_in(self.trial())
        self.assertContains(self.page(), "With 150\xa0W into the battery")

    def test_another_trial_has_no_such_lines(self):
        Trial.objects.update(needed_h=None)
        self.assertNotContains(self.page(charger="200 W"), "The outage lasted")


class FirstLookTest(WatchTest):
    """What the display shows right after the beginning is the charge that it began with."""

    def look(self, shown):
        return self.client.post(self.url("watch:look"), {"shown": shown}, **HTMX)

    def test_it_is_the_charge_at_the_start_and_is_undone(self):
        self.begin()
        full = page_of(self.trial(), 60).summary.remaining_h[1]
        page = self.look("60 %")
        self.assertNotContains(page, "lies far below")
        self.assertEqual((self.trial().start_charge, self.trial().known_check_ins()), (0.6, []))
        self.assertLess(page_of(self.trial(), 60).summary.remaining_h[1], 0.75 * full)
        undo(self.job, self.job.changes.first().pk)
        self.assertEqual(self.trial().start_charge, 1.0)

    def test_bars_are_coarse_and_a_second_look_is_a_check_in(self):
        self.begin()
        self.look("4 of 5")
        document = self.trial().to_document()
        self.assertAlmostEqual(document["start_charge"], 0.7)
        self.assertEqual((document["start_step"], document["check_ins"]), (0.2, []))
        actions.take_plan_in(self.trial())
        self.assertEqual(self.trial().to_document()["start_step"], 0.2)
        self.look("3 of 5")
        self.assertEqual(self.trial().known_check_ins()[0].data, {"bars": 3, "of": 5})
        self.assertAlmostEqual(self.trial().start_charge, 0.7)

    def test_later_looks_are_check_ins(self):
        self.begin()
        trial = self.trial()
        trial.started_at -= timedelta(hours=2)
        trial.save()
        self.look("60 %")
        self.assertEqual(
            [record.data for record in self.trial().known_check_ins()], [{"percent": 60}]
        )
        self.assertEqual(self.trial().start_charge, 1.0)

    def test_a_display_below_the_floor_is_no_start(self):
        self.plan.floor = 0.2
        self.plan.save()
        self.begin()
        self.look("10 %")
        self.assertEqual(self.trial().start_charge, 1.0)
        self.assertEqual(len(self.trial().known_check_ins()), 1)
