"""A rehearsal on the site: a fast clock, a simulated display, a judgement; nothing of it counts."""

from __future__ import annotations

from datetime import timedelta
from unittest import mock

from django.utils import timezone

from tests.web.base import HTMX, SiteTest, make_load, make_supply
from web.plans.models import Plan
from web.plans.outcomes import answer_of
from web.trials.models import Trial
from web.watch.actions import begin_watch, running_rehearsal, running_watch
from web.watch.page import page_of
from web.watch.rehearsals import empty_h, shown_now, switches_of


class RehearsalTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.supply = make_supply(self.job, nominal_wh=1500.0, volts=25.6)
        make_load(self.job, "Box", 60.0, priority="must")
        make_load(self.job, "Lamp", 120.0, kind="led", priority="nice")
        self.plan = Plan.objects.create(
            job=self.job, name="Night", supply=self.supply, is_current=True, needed_hours=20.0
        )

    def begin(self):
        return self.client.post(self.url("watch:rehearse"))

    def trial(self):
        return Trial.objects.live().get()

    def later(self, minutes):
        """So many minutes of the real clock later."""
        now = timezone.now() + timedelta(minutes=minutes)
        return mock.patch("django.utils.timezone.now", return_value=now)

    def test_a_minute_is_an_hour_until_the_hour_needed(self):
        self.begin()
        trial = self.trial()
        with self.later(3):
            self.assertAlmostEqual(trial.hours_to(trial.now()), 3.0, delta=0.9)
        with self.later(300):
            self.assertEqual(trial.hours_to(trial.now()), 20.0)
        self.assertContains(self.client.get(self.url("watch:watch")), "a minute is an hour")

    def test_the_display_falls_and_follows_what_is_switched(self):
        self.begin()
        trial = self.trial()
        full, later = shown_now(trial, 0.0), shown_now(trial, 5.0)
        self.assertGreater(full, later + 0.05)
        stops = empty_h(trial)
        with self.later(1):
            self.client.post(self.url("watch:switch"), {"load": "Lamp"}, **HTMX)
        self.assertEqual(switches_of(self.trial())[-1][1], ["Box"])
        self.assertGreater(empty_h(self.trial()), stops)

    def test_a_look_is_a_check_in_of_the_simulated_display(self):
        self.begin()
        with self.later(2):
            self.client.post(self.url("watch:look"), **HTMX)
        (seen,) = self.trial().known_check_ins()
        hour = self.trial().hours_to(seen.at)
        self.assertAlmostEqual(hour, 2.0, delta=0.9)
        self.assertEqual(seen.data, {"percent": round(100 * shown_now(self.trial(), hour))})

    def test_it_says_when_it_is_over_and_how_it_went(self):
        self.begin()
        with self.later(19.5):
            over = page_of(self.trial(), 60).over
            self.assertIn("The battery is empty", over)
            ended = self.client.post(self.url("watch:back"))
        trial = self.trial()
        self.assertRedirects(ended, self.url("watch:rehearsed", trial.pk))
        self.assertEqual(trial.ended_why, "cutoff")
        page = self.client.get(self.url("watch:rehearsed", trial.pk))
        self.assertContains(page, "What must run did not have power until the end")
        self.assertContains(page, "The surprise:")
        for rule in ("What you did", "By the wall card", "Everything on", "Only what must run"):
            self.assertContains(page, rule)

    def test_one_that_is_ended_early_is_judged_as_it_stood(self):
        self.begin()
        with self.later(2):
            self.client.post(self.url("watch:back"))
        page = self.client.get(self.url("watch:rehearsed", self.trial().pk))
        self.assertContains(page, "You ended it after 2\xa0h")

    def test_nothing_of_it_counts(self):
        before = answer_of(self.plan, 60).outcome.runtime
        self.begin()
        self.assertIsNone(running_watch(self.job))
        survey = self.client.get(self.url("loads:survey"))
        self.assertContains(survey, self.url("watch:begin"))
        with self.later(19.5):
            self.client.post(self.url("watch:back"))
        self.assertEqual(self.trial().why_not_a_run(), "it was a rehearsal")
        self.assertFalse(self.supply.trials_to_carry().exists())
        self.assertEqual(answer_of(Plan.objects.get(), 60).outcome.runtime, before)

    def test_a_real_outage_takes_its_place(self):
        self.begin()
        watch = begin_watch(self.job)
        self.assertFalse(watch.is_rehearsal)
        self.assertIsNone(running_rehearsal(self.job))
        self.begin()
        self.assertIsNone(running_rehearsal(self.job))
        self.assertEqual(running_watch(self.job), watch)

    def test_only_a_rehearsal_that_ended_is_judged(self):
        self.begin()
        url = self.url("watch:rehearsed", self.trial().pk)
        self.assertEqual(self.client.get(url).status_code, 404)
        Trial.objects.update(simulated_seed=None, ended_at=timezone.now(), ended_why="by hand")
        self.assertEqual(self.client.get(url).status_code, 404)

    def test_without_a_supply_there_is_nothing_to_rehearse(self):
        self.supply.delete()
        self.begin()
        self.assertFalse(Trial.objects.exists())
