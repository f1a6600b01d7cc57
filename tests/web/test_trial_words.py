"""What a trial's page says of itself."""

from __future__ import annotations

from datetime import timedelta

from django.utils import timezone

from tests.web.base import SiteTest, make_supply
from web.trials.actions import start_trial
from web.trials.compare import compare
from web.trials.models import CheckIn, Trial
from web.trials.page import view_of


class WordsTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.supply = make_supply(self.job, name="Case", nominal_wh=1000.0, volts=12.8)
        self.trial = start_trial(
            Trial(
                job=self.job,
                name="Run",
                supply=self.supply,
                stop_at=0.0,
                started_at=timezone.now() - timedelta(hours=30),
                expected={"value": 40.0, "spread": 0.1},
            )
        )

    def seen(self, *pairs):
        for hour, percent in pairs:
            at = self.trial.started_at + timedelta(hours=hour)
            CheckIn.objects.create(trial=self.trial, at=at, data={"percent": percent})

    def view(self):
        return view_of(Trial.objects.with_check_ins().get(pk=self.trial.pk))

    def test_a_run_that_ends_as_predicted(self):
        self.seen((6, 76), (10, 60))
        self.assertIn("As predicted at the start", self.view().words)

    def test_longer_because_it_draws_less(self):
        self.seen((6, 90), (12, 80))
        words = self.view().words
        self.assertIn("longer than predicted at the start", words)
        self.assertIn("less", words)

    def test_one_that_was_ended_by_hand_did_not_last_shorter(self):
        self.seen((6, 90), (12, 80))
        for why, said in (("by hand", False), ("trip", False), ("floor", True)):
            Trial.objects.update(
                ended_at=self.trial.started_at + timedelta(hours=12.5), ended_why=why
            )
            words = self.view().words
            with self.subTest(why):
                self.assertEqual("than predicted at the start" in words, said, words)
                self.assertRegex(
                    words, r"(?i)it draws \d+ % (less|more) \(.* to .*\).* than was assumed"
                )

    def test_how_long_one_lasts_is_not_compared_if_it_was_ended_by_hand(self):
        self.seen((6, 90), (12, 80))
        ended = {"ended_at": self.trial.started_at + timedelta(hours=12.5)}
        for why, known in (("by hand", False), ("floor", True)):
            Trial.objects.update(**ended, ended_why=why)
            rows = compare([Trial.objects.with_check_ins().get()]).rows
            with self.subTest(why):
                self.assertEqual("lasts" in [row.name for row in rows], known)

    def test_without_expectation_nothing_is_held_against_it(self):
        self.trial.expected = {}
        self.trial.save()
        self.assertIn("Nothing to go by yet", self.view().words)
        self.seen((5, 80))
        view = self.view()
        self.assertEqual(view.words, "")
        self.assertIn("Stops about", view.headline)

    def test_rows_say_what_was_written(self):
        at = self.trial.started_at + timedelta(hours=3)
        CheckIn.objects.create(
            trial=self.trial,
            at=at,
            data={
                "bars": 4,
                "of": 5,
                "ah": 9.5,
                "volts": 13.1,
                "room_c": 21.0,
                "inside_c": 4.5,
                "leg": "door open",
                "note": "warm",
            },
        )
        (row,) = self.view().rows
        self.assertEqual((row.charge, row.counted), ("4 of 5 bars", "9.5 Ah"))
        for words in (
            "new leg: door open",
            "warm",
            "13.1 V",
            "room 21\u00a0°C",
            "inside 4.5\u00a0°C",
        ):
            self.assertIn(words, row.note)

    def test_counted_points_are_drawn_open(self):
        at = self.trial.started_at + timedelta(hours=5)
        CheckIn.objects.create(trial=self.trial, at=at, data={"wh": 200.0})
        self.assertIn("seen counted", self.view().drawing)

    def test_what_is_believed_is_what_tests_gave(self):
        self.supply.capacity_factor, self.supply.capacity_spread = 0.8, 0.02
        self.supply.save()
        trial = start_trial(Trial(job=self.job, name="Again", supply=self.supply))
        battery = trial.believed["battery"]
        self.assertEqual((battery["capacity_factor"], battery["capacity_spread"]), (0.8, 0.02))

    def test_looks_lie_ahead_and_in_order(self):
        self.seen((6, 74))
        moments = self.view().upcoming
        self.assertEqual(moments, sorted(moments))
        self.assertGreater(moments[0], self.trial.started_at + timedelta(hours=6))
