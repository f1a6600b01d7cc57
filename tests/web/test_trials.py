"""Trials on the site: starting, checking in, finishing, what they prove and carry."""

from __future__ import annotations

import uuid
from dataclasses import replace
from datetime import timedelta
from unittest import mock

import numpy as np
from django.core.exceptions import ValidationError
from django.core.files.uploadedfile import SimpleUploadedFile
from django.utils import timezone

from needle.standin.run import StandinRun
from needle.standin.supplies import standin_supply
from needle.trial.forecast import forecast
from needle.trial.trial import parse_trial
from needle.trial.trial_summary import ForecastRecord, forecast_record, next_check_ins, score
from tests.web.base import SiteTest, make_job, make_load, make_supply
from web.loads.actions import add_reading, remove_load
from web.plans.draft import document, draft_of
from web.plans.models import Plan, PlanEntry
from web.plans.outcomes import answer_draft, answer_of
from web.supplies.actions import remove_part
from web.supplies.models import Output
from web.trials import actions
from web.trials.actions import change_trial
from web.trials.models import CheckIn, Trial
from web.trials.trial_summaries import summary_of

HTMX = {"HX-Request": "true"}


class TrialTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.supply = make_supply(self.job, name="Cabinet", nominal_wh=2000.0, volts=25.6)
        make_load(self.job, "Box", 80.0, kind="compressor-fixed")
        self.plan = Plan.objects.create(
            job=self.job, name="Night", supply=self.supply, is_current=True
        )

    def start(self, **data):
        begin = timezone.localtime() - timedelta(hours=10)
        values = {
            "name": "Rehearsal",
            "plan": self.plan.pk,
            "supply": self.supply.pk,
            "started_at": f"{begin:%Y-%m-%dT%H:%M}",
            "start_charge": "100",
            "stop_at": "10",
            "counts": "on",
            **data,
        }
        return self.client.post(self.url("trials:start"), values)

    def trial(self):
        return Trial.objects.get()

    def check_in(self, hour=None, **data):
        trial = self.trial()
        if hour is not None:
            at = timezone.localtime(trial.started_at + timedelta(hours=hour))
            data["at"] = f"{at:%Y-%m-%dT%H:%M:%S}"
        return self.client.post(self.url("trials:check-in", trial.pk), data, headers=HTMX)

    def page(self):
        return self.client.get(self.url("trials:trial", self.trial().pk))

    def taught(self):
        return self.client.get(self.url("trials:taught", self.trial().pk))

    def end(self, why, hour, **seen):
        at = timezone.localtime(self.trial().started_at + timedelta(hours=hour))
        return self.client.post(
            self.url("trials:end", self.trial().pk),
            {"why": why, "ended_at": f"{at:%Y-%m-%dT%H:%M:%S}", **seen},
        )


class TaughtTest(TrialTest):
    """The page of what a run taught."""

    def long_ago(self, **data):
        begin = timezone.localtime() - timedelta(hours=300)
        self.start(started_at=f"{begin:%Y-%m-%dT%H:%M}", **data)

    def test_before_and_after(self):
        self.long_ago()
        self.check_in(hour=14.9, wh="1500 Wh")
        self.end("floor", 15)
        page = self.taught()
        self.assertContains(page, "The same plan again lasts")
        self.assertContains(page, "The battery holds")
        box = self.url("loads:load", self.job.loads.get().pk)
        self.assertContains(page, f'<a href="{box}">Box draws on average while in use</a>')
        fragment = self.client.get(self.url("trials:taught", self.trial().pk), headers=HTMX)
        self.assertTemplateNotUsed(fragment, "trials/taught.html")

    def test_one_that_runs_has_taught_nothing_yet(self):
        self.long_ago()
        self.assertRedirects(self.taught(), self.url("trials:trial", self.trial().pk))
        carried = self.client.post(self.url("trials:carry", self.trial().pk))
        self.assertEqual(carried.status_code, 404)

    def test_why_it_teaches_nothing(self):
        self.long_ago()
        self.end("trip", 3)
        page = self.taught()
        self.assertContains(page, "Plans do not use this run: it tripped.")
        self.assertContains(page, "start test")
        self.assertNotContains(page, "The same plan again")

    def test_a_load_of_which_nothing_was_known_has_a_mean_from_its_run(self):
        """On a USB bank without an inverter: from the energy of the bank over its hours."""
        bank = make_supply(
            self.job, name="Bank", nominal_wh=100.0, continuous_w=None, surge_va=None, idle_w=None
        )
        Output.objects.create(supply=bank, name="USB", max_w=30.0)
        lamp = make_load(self.job, "Reading lamp", None, kind="led", dc=True)
        begin = timezone.localtime() - timedelta(hours=30)
        trial = {"plan": "", "loads": [lamp.pk], "supply": bank.pk, "stop_at": "0"}
        self.start(**trial, started_at=f"{begin:%Y-%m-%dT%H:%M}")
        self.check_in(hour=10, percent="50")
        self.check_in(hour=18, percent="10")
        self.end("cutoff", 20)
        self.assertContains(self.taught(), "Reading lamp: a reading with a mean of")
        self.client.post(self.url("trials:carry", self.trial().pk))
        mean = self.job.loads.get(name="Reading lamp").profile().mean_w
        # 93 Wh over 20 h, of which the output takes a tenth and its own idle.
        self.assertTrue(3.0 < mean.value < 4.6, mean)
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.assertIsNone(self.job.loads.get(name="Reading lamp").profile())


class DisplayTest(TrialTest):
    def test_a_run_to_the_cut_off_bends_the_next_forecast_and_the_supplys_page_says_it(self):
        url = self.url("trials:display", self.supply.pk)
        self.assertNotContains(self.client.get(url), "What its display means")
        begin = timezone.localtime() - timedelta(hours=300)
        self.start(started_at=f"{begin:%Y-%m-%dT%H:%M}", stop_at="0")
        for hour, percent in ((4, 90), (8, 76), (12, 58), (16, 30)):
            self.check_in(float(hour), percent=str(percent))
        self.end("cutoff", 20)
        page = self.client.get(url)
        self.assertContains(page, "What its display means")
        supply = self.client.get(self.url("supplies:supply", self.supply.pk))
        self.assertContains(supply, url)
        first = self.trial()
        self.start(name="Next")
        later = Trial.objects.exclude(pk=first.pk).get()
        self.assertEqual(later.to_document()["display"][1], [0.76, 0.6])
        self.assertIsNotNone(forecast(later.to_core()))

    def test_nobody_sees_anothers(self):
        other = make_supply(make_job(self.stranger()), name="Theirs")
        page = self.client.get(self.url("trials:display", other.pk))
        self.assertEqual(page.status_code, 404)

    def stranger(self):
        return type(self.user).objects.create_user("stranger")


class HonestyTest(TrialTest):
    """Ranges of a job follow how its runs ended, from six on, unless that is switched off."""

    def runs(self, count, share):
        """Finished runs that lasted so much of what was promised."""
        for number in range(count):
            begin = timezone.now() - timedelta(hours=900 - 40 * number)
            trial = Trial(
                job=self.job,
                name=f"Run {number}",
                supply=self.supply,
                plan=self.plan,
                started_at=begin,
                stop_at=0.1,
                client_key=uuid.uuid4(),
                ended_why="floor",
            )
            actions.start_trial(trial)
            trial.ended_at = begin + timedelta(hours=share * trial.expected["runtime_h"][1])
            trial.counts = True
            trial.save()

    def answer(self):
        plan = Plan.objects.select_related("job").get(pk=self.plan.pk)
        return answer_of(plan, 60)

    def test_six_runs_that_missed_make_ranges_wider_and_say_so(self):
        self.runs(5, 0.55)
        self.assertNotIn("spread_factor", document(self.answer().draft))
        page = self.client.get(self.url("trials:index"))
        self.assertContains(page, "From six runs on")
        self.runs(1, 0.3)
        answer = self.answer()
        factor = document(answer.draft)["spread_factor"]
        self.assertGreater(factor, 1.3)
        index = self.client.get(self.url("trials:index"))
        self.assertContains(index, "of 6\u00a0runs ended within the hours")
        self.assertContains(index, f"{factor:.1f} times as wide")
        based_on = self.url("plans:rests", self.plan.pk)
        self.assertContains(self.client.get(self.url("plans:plan", self.plan.pk)), based_on)
        self.assertContains(self.client.get(based_on), "How earlier runs ended")
        self.client.post(self.url("trials:follow"), {"follow": ""})
        self.assertNotIn("spread_factor", document(self.answer().draft))
        index = self.client.get(self.url("trials:index"))
        self.assertContains(index, "that is switched off")
        self.client.post(self.url("trials:follow"), {"follow": "1"})
        self.assertIn("spread_factor", document(self.answer().draft))

    def test_runs_that_were_changed_or_cut_short_are_no_measure(self):
        self.start()
        trial = self.trial()
        self.assertIsNone(trial.foretold())
        for why, check_ins, counts in (
            ("floor", 0, True),
            ("by hand", 0, False),
            ("trip", 0, False),
            ("cutoff", 1, False),
        ):
            trial = self.trial()
            trial.ended_at, trial.ended_why = trial.started_at + timedelta(hours=9), why
            trial.save()
            if check_ins:
                at = trial.started_at + timedelta(hours=2)
                CheckIn.objects.create(trial=trial, at=at, data={"leg": "lamp off"})
            with self.subTest(why=why):
                self.assertEqual(self.trial().foretold() is not None, counts)

    def test_only_promises_that_are_hours_are_taken_in(self):
        self.start()
        trial = self.trial()
        for promised in ("x", [1, 2], [1, "2", 3], [0, 1, 2], [1, 2, float("inf")]):
            trial.expected = {**trial.expected, "runtime_h": promised}
            with self.subTest(promised=promised), self.assertRaises(ValidationError):
                trial.full_clean()


class StillOnTest(TrialTest):
    def test_that_it_still_runs_is_kept_without_a_figure_and_moves_the_forecast(self):
        begin = timezone.localtime() - timedelta(hours=300)
        self.start(started_at=f"{begin:%Y-%m-%dT%H:%M}")
        refused = self.check_in(hour=200)
        self.assertContains(refused, "say that it still runs", status_code=422)
        self.check_in(hour=200, still_on="1")
        self.assertEqual(self.trial().check_ins.live().count(), 1)
        page = self.page()
        self.assertContains(page, "still on")
        prediction = forecast(self.trial().to_core())
        self.assertGreaterEqual(prediction.stop_h[0], 199.9)


class RunTest(TrialTest):
    """What a run taught comes back by itself."""

    def answer(self):
        return answer_of(Plan.objects.select_related("job").get(pk=self.plan.pk), 60).outcome

    def rested(self, hours, why="floor", **seen):
        """Outcomes before and after a run of so many times the likely hours."""
        before = self.answer()
        begin = timezone.localtime() - timedelta(hours=300)
        self.start(started_at=f"{begin:%Y-%m-%dT%H:%M}")
        self.end(why, hours * before.runtime[1], **seen)
        return before, self.answer()

    def test_a_plan_that_repeats_a_run_says_the_runs_hours(self):
        before, after = self.rested(1.25)
        run_h = 1.25 * before.runtime[1]
        self.assertLess(abs(after.runtime[1] / run_h - 1), 0.04)
        width = [high - low for low, _, high in (before.runtime, after.runtime)]
        self.assertLess(width[1], 0.5 * width[0])
        page = self.client.get(self.url("plans:plan", self.plan.pk))
        self.assertContains(page, "Based on the run of")
        self.assertContains(self.page(), "Plans on Cabinet use it")

    def test_carried_it_still_counts_and_once(self):
        counted_wh = self.answer().likely.energy_wh["battery_out"]
        _, after = self.rested(1.25, wh=f"{counted_wh:.0f} Wh")
        self.client.post(self.url("trials:carry", self.trial().pk))
        self.assertEqual(self.supply.tests.live().count(), 1)
        self.assertEqual(self.trial().carried_test, self.supply.tests.get())
        self.assertEqual(self.answer().runtime, after.runtime)

    def test_where_nothing_was_counted_nothing_is_proved_nor_carried(self):
        self.rested(1.25)
        self.assertNotContains(self.page(), "the battery holds")
        self.client.post(self.url("trials:carry", self.trial().pk))
        self.assertFalse(self.supply.tests.live().exists())

    def test_renaming_a_carried_trial_counts_its_run_once(self):
        counted_wh = self.answer().likely.energy_wh["battery_out"]
        _, after = self.rested(1.25, wh=f"{counted_wh:.0f} Wh")
        self.client.post(self.url("trials:carry", self.trial().pk))
        trial = self.trial()
        trial.name = "Something else"
        change_trial(trial)
        self.assertEqual(self.answer().runtime, after.runtime)

    def test_the_switch(self):
        before, after = self.rested(1.25)
        self.assertNotEqual(before.runtime, after.runtime)
        trial = self.trial()
        trial.counts = False
        trial.save()
        self.assertEqual(self.answer().runtime, before.runtime)
        self.assertContains(self.page(), "it was switched off for plans")

    def test_a_plan_of_other_loads_profits_from_what_it_tells_of_the_supply(self):
        """A run that ended early at its floor: the battery holds less for a lamp, too."""
        lamp = make_load(self.job, "Lamp", 60.0, kind="resistive-heat")
        other = Plan.objects.create(job=self.job, name="Lamp", supply=self.supply)
        for load in self.job.loads.exclude(pk=lamp.pk):
            PlanEntry.objects.create(plan=other, load=load, taken_in=False)
        PlanEntry.objects.create(plan=self.plan, load=lamp, taken_in=False)

        def held():
            answer = answer_of(Plan.objects.select_related("job").get(pk=other.pk), 60)
            return answer.draft.runs, float(np.median(answer.outcome.inputs.factor("battery")))

        _, before = held()
        self.rested(0.6)
        (run,), after = held()
        self.assertEqual([load["name"] for load in run.document["loads"]], ["Box"])
        self.assertLess(after, 0.999 * before)

    def test_its_loads_are_those_of_then_as_known_now(self):
        """Linked by what the load is: a new name, other hours in the plan, a removed load."""
        self.rested(1.0)
        box = self.job.loads.get(name="Box")
        box.name = "Larder"
        box.save()
        PlanEntry.objects.create(plan=self.plan, load=box, windows=[["18:00", "22:00"]])
        add_reading(box, "spot", {"watts": 77.0, "state": "running"})

        def ran():
            (run,) = draft_of(Plan.objects.get(pk=self.plan.pk)).runs
            return run.document["loads"]

        (load,) = ran()
        self.assertEqual((load["name"], load["use"]), ("Larder", "always"))
        self.assertAlmostEqual(load["running_w"], 77.0, delta=2)
        # Another one of its old name is another load.
        make_load(self.job, "Box", 500.0)
        self.assertEqual([load["name"] for load in ran()], ["Larder"])
        remove_load(box)
        (gone,) = ran()
        self.assertEqual(gone["name"], "Box (removed)")
        self.assertNotAlmostEqual(gone["running_w"], 77.0, delta=2)

    def test_a_run_on_an_output_that_is_gone_does_not_count(self):
        output = Output.objects.create(supply=self.supply, name="12 V", max_w=200.0)
        box = self.job.loads.get(name="Box")
        box.dc = True
        box.save()
        PlanEntry.objects.create(plan=self.plan, load=box, route="12 V")
        self.rested(1.0)
        (run,) = draft_of(Plan.objects.get(pk=self.plan.pk)).runs
        self.assertEqual(run.document["loads"][0]["route"], "12 V")
        remove_part(output)
        (run,) = draft_of(Plan.objects.get(pk=self.plan.pk)).runs
        self.assertIn("ran on 12 V, which is there no longer", run.why_not)

    def test_the_newest_runs_count(self):
        self.rested(1.0)
        self.start(name="Again")
        again = Trial.objects.get(name="Again")
        again.ended_at, again.ended_why = again.started_at + timedelta(hours=9), "floor"
        again.save()
        with mock.patch("web.plans.runs.MOST_RUNS", 1):
            runs = draft_of(Plan.objects.get(pk=self.plan.pk)).runs
        self.assertEqual([run.why_not for run in runs], ["", "1 newer runs say enough"])
        self.assertEqual(runs[0].trial.name, "Again")

    def test_a_load_whose_run_was_carried_into_it_counts_once(self):
        counted_wh = self.answer().likely.energy_wh["battery_out"]
        _, after = self.rested(1.25, wh=f"{counted_wh:.0f} Wh")
        self.client.post(self.url("trials:carry", self.trial().pk))
        self.assertIsNotNone(self.trial().carried_reading)
        self.assertEqual(self.answer().runtime, after.runtime)

    def test_legs_are_its_parts(self):
        make_load(self.job, "Lamp", 60.0, kind="resistive-heat")
        self.start(started_at=f"{timezone.localtime() - timedelta(hours=40):%Y-%m-%dT%H:%M}")
        self.check_in(hour=3, on=["Box"], loads_shown="True")
        self.end("floor", 20)
        (run,) = draft_of(Plan.objects.get(pk=self.plan.pk)).runs
        parts = [
            (leg["h"], [load["name"] for load in leg["loads"]]) for leg in run.document["legs"]
        ]
        self.assertEqual(parts, [(0.0, ["Box", "Lamp"]), (3.0, ["Box"])])
        self.assertIsNotNone(self.answer())

    def test_what_is_no_run(self):
        for why, data, words in (
            ("trip", {}, "it tripped"),
            ("by hand", {}, "its charge at the end was not read"),
            ("floor", {"expected": {}}, "what ran in it was not recorded"),
            (
                "floor",
                {"ran": {"loads": [{}], "charged": True}},
                "it was charged meanwhile, and nobody noted the Wh, or often the W, that went in",
            ),
        ):
            with self.subTest(words=words):
                Trial.objects.all().delete()
                self.start()
                self.end(why, 5)
                trial = self.trial()
                for name, value in data.items():
                    setattr(trial, name, value)
                self.assertEqual(trial.why_not_a_run(), words)

    def test_a_charged_run_counts_once_the_wh_that_went_in_are_known(self):
        self.start()
        self.check_in(hour=4.9, wh_in="300")
        self.end("floor", 5)
        trial = self.trial()
        trial.ran = {**trial.ran, "charged": True}
        trial.save()
        self.assertEqual(self.trial().why_not_a_run(), "")
        (run,) = draft_of(Plan.objects.get(pk=self.plan.pk)).runs
        self.assertEqual(run.document["wh_in"], 300)

    def test_what_warm_contents_took_goes_with_the_run(self):
        self.start()
        self.end("floor", 5)
        trial = self.trial()
        loads = [{**load, "pulled_down_wh": 150.0} for load in trial.ran["loads"]]
        trial.ran = {**trial.ran, "loads": loads}
        trial.full_clean()
        trial.save()
        (run,) = draft_of(Plan.objects.get(pk=self.plan.pk)).runs
        self.assertEqual(
            (run.document["begins"], run.document["pull_down_wh"]), ("warm", {"Box": 150.0})
        )

    def test_only_what_a_trial_keeps_is_taken_in(self):
        self.start()
        trial = self.trial()
        trial.full_clean()
        for ran in ([], {"loads": "x"}, {"loads": [{}]}, {"loads": [7]}):
            trial.ran = ran
            with self.assertRaises(ValidationError):
                trial.full_clean()


class StartTest(TrialTest):
    def test_two_clicks_from_a_plan(self):
        page = self.client.get(self.url("plans:plan", self.plan.pk))
        self.assertContains(page, f"{self.url('trials:start')}?plan={self.plan.pk}")
        form = self.client.get(f"{self.url('trials:start')}?plan={self.plan.pk}")
        self.assertContains(form, 'value="Night rehearsal"')
        self.assertContains(form, 'value="10 %"')
        self.start()
        trial = self.trial()
        self.assertEqual(trial.expected["plan"]["loads"][0]["name"], "Box")
        self.assertEqual(trial.believed["battery"]["nominal_wh"], 2000.0)
        self.assertContains(self.page(), "Stops about")

    def test_what_is_believed_stays_as_it_was(self):
        self.start()
        before = forecast(self.trial().to_core()).stop_h
        self.supply.nominal_wh = 9000.0
        self.supply.save()
        self.assertEqual(forecast(self.trial().to_core()).stop_h, before)

    def test_refusals_keep_what_was_typed(self):
        answered = self.start(start_charge="10")
        self.assertContains(answered, "stop below that", status_code=422)
        self.assertContains(answered, 'value="Rehearsal"', status_code=422)
        self.assertContains(self.start(supply=""), "required", status_code=422)
        self.assertFalse(Trial.objects.exists())

    def test_nobody_sees_another_ones_trial(self):
        self.start()
        theirs = make_job(self.other, "Theirs")
        url = self.url("trials:trial", self.trial().pk).replace(
            f"/jobs/{self.job.pk}/", f"/jobs/{theirs.pk}/"
        )
        self.assertEqual(self.client.get(url).status_code, 404)
        self.client.force_login(self.other)
        self.assertEqual(self.page().status_code, 404)

    def test_a_supply_that_goes_leaves_the_trial(self):
        self.start()
        self.supply.delete()
        self.assertEqual(self.page().status_code, 200)


class CheckInTest(TrialTest):
    def setUp(self):
        super().setUp()
        self.start()

    def test_kept_shown_and_undone(self):
        answered = self.check_in(4.0, percent="80", watts="70 W", display_h="20 h", note="quiet")
        self.assertContains(answered, "Checked in on Rehearsal")
        for words in ("80 %", "70 W", "20\u00a0h", "quiet"):
            self.assertContains(self.page(), words)
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.assertContains(self.page(), "No check-in yet")

    def test_the_answer_follows(self):
        before = forecast(self.trial().to_core()).stop_h
        self.check_in(5.0, percent="50")
        after = forecast(self.trial().to_core()).stop_h
        self.assertLess(after[1], before[1])
        self.assertLess(after[2] - after[0], before[2] - before[0])
        self.assertContains(self.page(), "shorter than predicted")

    def test_the_fields_contain_the_last_values(self):
        self.check_in(3.0, bars="4", of="5", watts="66 W")
        page = self.page()
        self.assertContains(page, 'placeholder="last 66"')
        self.assertContains(page, 'placeholder="last 4"')

    def test_without_a_time_it_is_now(self):
        self.check_in(percent="60")
        self.assertAlmostEqual(CheckIn.objects.get().at, timezone.now(), delta=timedelta(minutes=1))

    def test_late_ones_fall_into_place(self):
        self.check_in(6.0, percent="70")
        self.check_in(2.0, percent="92")
        hours = [round(check_in["h"]) for check_in in self.trial().to_document()["check_ins"]]
        self.assertEqual(hours, [2, 6])

    def test_refusals_keep_what_was_typed(self):
        for hour, data, said in (
            (3.0, {"percent": "101"}, "at most 100"),
            (3.0, {"bars": "6", "of": "5"}, "more than there are"),
            (3.0, {"bars": "3"}, "needed beside bars"),
            (-1.0, {"percent": "80"}, "before its start"),
            (99.0, {"percent": "80"}, "in the future"),
            (3.0, {}, "at least one figure"),
            (3.0, {"watts": "7 Wh"}, "wants a rate"),
            (3.0, {"percent": "hot"}, "not a quantity"),
        ):
            with self.subTest(said=said):
                answered = self.check_in(hour, **data)
                self.assertContains(answered, said, status_code=422)
                for value in data.values():
                    self.assertContains(answered, f'value="{value}"', status_code=422)
        self.assertFalse(CheckIn.objects.exists())

    def test_two_legs_at_one_time(self):
        self.check_in(3.0, percent="90", leg="mat on low")
        answered = self.check_in(3.0, leg="lamp on")
        self.assertContains(answered, "wo legs begin at", status_code=422)

    def test_a_charge_that_rises_is_asked_about(self):
        self.check_in(3.0, percent="70")
        self.check_in(4.0, percent="85")
        self.assertContains(self.page(), "was it charged?")

    def test_sent_twice_it_is_kept_once(self):
        page = self.page().content.decode()
        key = page.split('name="client_key" value="')[1].split('"')[0]
        for _ in range(2):
            self.check_in(3.0, percent="80", client_key=key)
        self.assertEqual(CheckIn.objects.count(), 1)

    def test_correcting_and_removing(self):
        self.check_in(3.0, percent="80")
        record = CheckIn.objects.get()
        url = self.url("trials:edit-check-in", self.trial().pk, record.pk)
        at = timezone.localtime(record.at)
        moment = f"{at:%Y-%m-%dT%H:%M}"
        # An imported one may say where its Wh were read.
        CheckIn.objects.update(data={"percent": 80.0, "counted": "battery"})
        self.client.post(url, {"percent": "85", "at": moment, "version": "1"})
        record.refresh_from_db()
        self.assertEqual(record.data, {"percent": 85.0, "counted": "battery"})
        stale = self.client.post(url, {"percent": "10", "at": moment, "version": "1"})
        self.assertContains(stale, "another window", status_code=422)
        self.client.post(self.url("trials:remove-check-in", self.trial().pk, record.pk))
        self.assertContains(self.page(), "No check-in yet")


class AsTakenTest(TrialTest):
    """Check-ins as people take them."""

    def setUp(self):
        super().setUp()
        self.start()

    def test_elapsed_as_the_counter_shows_it(self):
        for written, hours in (("6:30", 6.5), ("0 d 7:15", 7.25), ("8 h 20 min", 8 + 1 / 3)):
            self.check_in(percent="70", elapsed=written)
            last = CheckIn.objects.order_by("pk").last()
            self.assertAlmostEqual(self.trial().hours_to(last.at), hours, places=3)

    def test_amps_want_volts(self):
        self.assertContains(self.check_in(2.0, amps="4 A"), "give the volts", status_code=422)
        self.check_in(2.0, amps="4 A", volts="25.5 V")
        (seen,) = self.trial().to_core().check_ins
        self.assertAlmostEqual(seen.drawn_w, 102)

    def test_sun_and_what_was_charged(self):
        self.check_in(2.0, watts_in="120 W", wh_in="200 Wh", percent="95")
        self.assertContains(self.page(), "in 120 W")

    def test_back_to_the_leg_before(self):
        self.assertNotContains(self.page(), 'name="back_to"')
        self.check_in(2.0, percent="95", leg="lamp on")
        self.assertContains(self.page(), 'name="back_to"')
        self.check_in(4.0, percent="80", back_to="start")
        legs = [leg.name for leg in forecast(self.trial().to_core()).legs]
        self.assertEqual(legs, ["start", "lamp on", "start"])

    def test_the_end_with_its_last_counter_and_volts(self):
        answered = self.client.post(
            self.url("trials:end", self.trial().pk),
            {"why": "cutoff", "elapsed": "9:30", "wh": "1450 Wh", "volts": "21.2 V"},
        )
        self.assertEqual(answered.status_code, 302)
        trial = self.trial()
        self.assertAlmostEqual(trial.hours_to(trial.ended_at), 9.5, places=3)
        self.assertEqual(CheckIn.objects.get().data, {"wh": 1450.0, "volts": 21.2})
        self.assertContains(self.page(), "1.450\u00a0kWh at the battery")
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.assertTrue(self.trial().running)
        self.assertFalse(CheckIn.objects.filter(removed_at=None).exists())

    def test_counted_at_ac(self):
        Trial.objects.all().delete()
        self.start(counted="ac")
        self.check_in(5.0, wh="300 Wh")
        (seen,) = self.trial().to_core().check_ins
        self.assertEqual(seen.counted, "ac")
        prediction = forecast(self.trial().to_core())
        self.assertGreater(prediction.drawn_wh[0], 310)
        Trial.objects.all().delete()
        refused = self.start(counted="ac", plan="")
        self.assertContains(refused, "tick loads", status_code=422)


class WithoutPlanTest(TrialTest):
    def test_from_ticked_loads(self):
        lamp = make_load(self.job, "Lamp", 60.0, kind="resistive-heat")
        self.start(plan="", loads=[lamp.pk])
        trial = self.trial()
        self.assertEqual([load["name"] for load in trial.expected["plan"]["loads"]], ["Lamp"])
        self.assertEqual([load["name"] for load in trial.ran["loads"]], ["Lamp"])
        self.assertContains(self.page(), "Stops about")

    def test_the_same_figure_as_its_plan(self):
        draft = draft_of(Plan.objects.select_related("job").get(pk=self.plan.pk))
        self.start(started_at=f"{timezone.localtime() - timedelta(hours=10):%Y-%m-%dT%H:%M}")
        trial = self.trial()
        draft.plan.start, draft.plan.floor = trial.started_at, 0.1
        outcome = answer_draft(draft, 60).outcome
        self.assertEqual(summary_of(trial, 60).prediction.stop_h, outcome.runtime)

    def test_an_open_run(self):
        self.start(plan="")
        self.assertContains(self.page(), "Nothing to go by yet")
        self.check_in(5.0, percent="60")
        self.assertContains(self.page(), "Stops about")


class PastRunTest(TrialTest):
    def past(self, log, **data):
        begin = timezone.localtime() - timedelta(days=3)
        values = {
            "name": "Old run",
            "plan": self.plan.pk,
            "supply": self.supply.pk,
            "started_at": f"{begin:%Y-%m-%d}T18:00",
            "start_charge": "100",
            "stop_at": "10",
            "counts": "on",
            "times": "elapsed",
            "log": log,
            "ended_why": "floor",
            **data,
        }
        return self.client.post(self.url("trials:past"), values)

    def test_entered_whole_and_undone_at_once(self):
        log = "0:00; 100; 0; 84; charged\n6:00; 68; 560; 79\n1 d 0:10; 11; 1.5 kWh"
        self.assertEqual(self.past(log).status_code, 302)
        trial = self.trial()
        self.assertEqual((trial.check_ins.count(), trial.ended_why), (3, "floor"))
        self.assertAlmostEqual(trial.hours_to(trial.ended_at), 24 + 1 / 6, places=3)
        self.assertContains(self.page(), "Forecasts on the way")
        self.assertEqual(trial.why_not_a_run(), "")
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.assertFalse(Trial.objects.filter(removed_at=None).exists())

    def test_by_the_clock_and_from_a_file(self):
        file = SimpleUploadedFile("run.csv", b"when,charge\n18:00,100\n23:30,70\n02:00,55\n")
        self.past("", times="clock", file=file, ended_h="9 h")
        trial = self.trial()
        self.assertEqual([round(c.h, 2) for c in trial.to_core().check_ins], [0, 5.5, 8.0])
        self.assertAlmostEqual(trial.hours_to(trial.ended_at), 9.0, places=3)

    def test_refusals_keep_what_was_typed(self):
        for log, data, said in (
            ("", {}, "Is empty: a row for each look"),
            ("1:00; 130", {}, "no charge: a percentage"),
            ("1:00; 90\nsoon; 80", {}, "Row 2"),
            ("1:00; 90", {"ended_h": "0.5 h"}, "goes on to"),
            ("0:00; 90", {}, "one moment only"),
            ("90 h; 20", {}, "ahead of now"),
        ):
            with self.subTest(said=said):
                answered = self.past(log, **data)
                self.assertContains(answered, said, status_code=422)
                self.assertContains(answered, "Old run", status_code=422)
        self.assertFalse(Trial.objects.exists())


class EndTest(TrialTest):
    def setUp(self):
        super().setUp()
        self.start()
        for hour, percent, wh in ((2, 80, 300), (5, 51, 750), (8, 22, 1200)):
            self.check_in(float(hour), percent=str(percent), wh=f"{wh} Wh", display_h="20 h")

    def test_a_floor_proves_and_is_carried_into_the_supply(self):
        self.end("floor", 9.0)
        page = self.page()
        self.assertContains(page, "Reached its floor after 9\u00a0h")
        self.assertContains(page, "What this run taught")
        self.assertContains(self.taught(), "Cabinet: a capacity test that sets")
        before = self.supply.to_core().battery.state_of_health.value
        self.client.post(self.url("trials:carry", self.trial().pk))
        self.supply = type(self.supply).objects.get(pk=self.supply.pk)
        after = self.supply.to_core().battery.state_of_health.value
        self.assertAlmostEqual(after, 1350 / 0.93 / 2000, delta=0.08)
        self.assertNotEqual(before, after)
        self.assertContains(self.taught(), "Done; it can be removed")
        again = self.client.post(self.url("trials:carry", self.trial().pk))
        self.assertEqual(again.status_code, 404)
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.supply = type(self.supply).objects.get(pk=self.supply.pk)
        self.assertEqual(self.supply.to_core().battery.state_of_health.value, before)
        self.client.post(self.url("trials:carry", self.trial().pk))
        self.assertEqual(self.supply.tests.live().count(), 1)

    def test_what_cold_took_is_not_carried(self):
        Trial.objects.update(room_c=0.0)
        self.end("floor", 9.0)
        prediction = summary_of(self.trial(), 60).prediction
        self.client.post(self.url("trials:carry", self.trial().pk))
        held_wh = self.supply.tests.get().data["held_wh"]
        self.assertAlmostEqual(held_wh, 2000 * prediction.state_of_health[1], delta=0.1)
        self.assertGreater(held_wh, 1.05 * prediction.held_wh[1])

    def test_a_trial_of_one_load_is_carried_into_it(self):
        self.end("floor", 9.0)
        self.assertContains(self.taught(), "Box: a reading with a mean of")
        load = self.job.loads.get()
        before = load.profile().mean_w
        url = self.url("trials:carry", self.trial().pk)
        self.client.post(url)
        self.assertEqual(load.readings.live().filter(type="charge-drop").count(), 1)
        after = self.job.loads.get().profile().mean_w
        self.assertLess(after.spread, before.spread)
        self.assertEqual(self.client.post(url).status_code, 404)
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.assertEqual(self.job.loads.get().profile().mean_w, before)

    def test_side_by_side(self):
        self.end("floor", 9.0)
        other = Trial.objects.get()
        first = other.pk
        other.pk, other.client_key = None, uuid.uuid4()
        other.name, other.room_c, other.ended_at = (
            "Warm one",
            31.0,
            other.started_at + timedelta(hours=5),
        )
        other.save()
        query = f"?item={first}&item={other.pk}&item=999"
        page = self.client.get(self.url("trials:compare") + query)
        self.assertContains(page, "80 % longer than Warm one")
        self.assertContains(page, "the room")
        page = self.client.get(self.url("trials:compare") + query + f"&reference={first}")
        self.assertContains(page, "Warm one lasts 44 % shorter")
        Trial.objects.filter(pk=first).update(begins="cold")
        Trial.objects.filter(pk=other.pk).update(begins="warm")
        page = self.client.get(self.url("trials:compare") + query)
        self.assertContains(page, "Two different trials")
        self.assertContains(self.client.get(self.url("trials:compare")), "Tick two trials")

    def test_a_hand_proves_nothing_of_the_battery(self):
        self.end("by hand", 9.0)
        self.assertNotContains(self.taught(), "a capacity test")
        self.client.post(self.url("trials:carry", self.trial().pk))
        self.assertFalse(self.supply.tests.live().exists())

    def test_it_can_run_on(self):
        self.end("trip", 9.0)
        self.client.post(self.url("trials:resume", self.trial().pk))
        self.assertTrue(self.trial().running)

    def test_an_end_that_cannot_be(self):
        for hour, said in (
            (-1.0, "before the trial began"),
            (7.0, "check-in after that"),
            (99.0, "in the future"),
        ):
            with self.subTest(said=said):
                self.assertContains(self.end("floor", hour), said, status_code=422)
        self.assertTrue(self.trial().running)

    def test_the_list_and_its_score(self):
        self.end("floor", 9.0)
        page = self.client.get(self.url("trials:index"))
        self.assertContains(page, "1\u00a0finished trial of this job")
        self.assertContains(page, "display off by")

    def test_downloads(self):
        trial = self.trial()
        for form, kind in (
            ("trial.json", "application/json"),
            ("forecast.json", "application/json"),
            ("check-ins.csv", "text/csv"),
            ("trial.svg", "image/svg+xml"),
            ("reminders.ics", "text/calendar"),
        ):
            answered = self.client.get(self.url("trials:download", trial.pk, form))
            self.assertIn(kind, answered["Content-Type"])
        url = self.url("trials:download", trial.pk, "trial.json")
        document = self.client.get(url).json()
        self.assertEqual(forecast(parse_trial(document)).stop_h, forecast(trial.to_core()).stop_h)
        self.assertEqual(
            self.client.get(self.url("trials:download", trial.pk, "x.exe")).status_code, 404
        )

    def test_the_calendar_has_an_alarm_for_each_look(self):
        from icalendar import Calendar

        answered = self.client.get(self.url("trials:download", self.trial().pk, "reminders.ics"))
        calendar = Calendar.from_ical(answered.content)
        events = calendar.walk("VEVENT")
        self.assertEqual(len(events), len(next_check_ins(forecast(self.trial().to_core()))))
        self.assertEqual(len(calendar.walk("VALARM")), len(events))
        self.assertIn("Rehearsal", str(events[0]["summary"]))


class SimulatedTest(TrialTest):
    def test_a_whole_trial_in_accelerated_time(self):
        self.start(simulate="1")
        trial = self.trial()
        url = self.url("trials:simulate", trial.pk)
        self.client.post(url)
        self.assertEqual(self.trial().check_ins.count(), 1)
        self.client.post(url, {"to_the_end": "1"})
        trial = self.trial()
        self.assertEqual(trial.ended_why, "floor")
        self.assertGreater(trial.check_ins.count(), 4)
        self.assertContains(self.page(), "Result")
        self.assertEqual(self.client.post(url).status_code, 404)
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.assertEqual(self.trial().check_ins.live().count(), 1)
        self.assertTrue(self.trial().running)

    def test_of_two_hands_that_let_it_run_on_one_counts(self):
        self.start(simulate="1")
        first, second = self.trial(), self.trial()
        self.assertEqual(second.known_check_ins(), [])
        for trial in (first, second):
            actions.simulate_on(trial)
        self.assertEqual(self.trial().check_ins.count(), 1)

    def test_a_real_one_is_not_simulated(self):
        self.start()
        self.assertEqual(
            self.client.post(self.url("trials:simulate", self.trial().pk)).status_code, 404
        )

    def test_a_simulated_run_ends_at_its_displays_charge(self):
        twin = standin_supply(self.supply.to_core(), 4)
        run = StandinRun(twin, (100.0, 80.0), 3)
        stop = run.stop_h(0.1)
        self.assertAlmostEqual(run.shown(stop), 0.1, places=3)
        self.assertEqual(run.seen(2.0), StandinRun(twin, (100.0, 80.0), 3).seen(2.0))
        self.assertGreater(run.gone_wh(3.0), run.gone_wh(2.0))


class FollowTest(SiteTest):
    def test_looks_come_closer_together(self):
        trial = parse_trial(
            {
                "supply": {"battery": {"chemistry": "lfp", "nominal_wh": 1000}},
                "expected_w": {"value": 40, "spread": 0.1},
            }
        )
        hours = next_check_ins(forecast(trial))
        gaps = [b - a for a, b in zip([0, *hours], hours, strict=False)]
        self.assertEqual(sorted(gaps, reverse=True), gaps)
        self.assertEqual((max(gaps) <= 6, min(gaps)), (True, 0.5))

    def test_marks_and_score(self):
        trial = parse_trial(
            {
                "supply": {
                    "battery": {"chemistry": "lfp", "nominal_wh": 1000, "capacity_factor": 0.9}
                },
                "expected_w": {"value": 45, "spread": 0.1},
                "check_ins": [{"h": 5, "percent": 70, "display_h": 30}],
                "ended": {"h": 18, "why": "cutoff"},
            }
        )
        predicted = forecast_record(trial)
        start, _, half, _ = predicted.checkpoints
        self.assertAlmostEqual(predicted.error(start), 20 / 18 - 1, delta=0.02)
        self.assertLess(predicted.error(half), 0.1)
        self.assertAlmostEqual(predicted.display_error(half), 17 / 18, delta=0.01)
        self.assertIsNone(predicted.display_error(start))
        total = score([predicted, replace(predicted, hours=20.0)])
        self.assertEqual((total.trials, total.checkpoints[0].trials), (2, 2))
        self.assertEqual(
            total.checkpoints[0].covered,
            sum(record.covered(start) for record in (predicted, ForecastRecord(20.0, ()))),
        )
        self.assertIsNone(score([]).checkpoints[0].error)
