"""Entries that waited on a device: once each, at their own moment, whatever came before them."""

import uuid
from datetime import timedelta
from unittest import mock

from django.core.management import call_command
from django.utils import timezone

from tests.web.base import SiteTest, make_load, make_supply
from web.jobs.models import Receipt
from web.plans.models import Plan
from web.trials.switching import with_earlier_change
from web.watch.actions import begin_watch, power_is_back, running_watch

HOUR = 3600


class OutboxTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.box, self.lamp = make_load(self.job, "Box"), make_load(self.job, "Lamp", 20.0)
        self.supply = make_supply(self.job)

    def later(self, url, waited_s, **data):
        """Send an entry that waited, as a device does."""
        data.setdefault("client_key", str(uuid.uuid4()))
        known = isinstance(waited_s, int | float)
        made_at = timezone.now().timestamp() - waited_s if known else waited_s
        return self.client.post(
            url, {**data, "made_at": str(made_at)}, headers={"HX-Request": "true"}
        )

    def ago(self, moment, seconds, within=20):
        """Assert that a moment was so many seconds ago."""
        past = timezone.now() - moment
        self.assertAlmostEqual(past.total_seconds(), seconds, delta=within)


class ReadingTest(OutboxTest):
    def test_a_reading_that_waited_has_the_moment_it_was_made(self):
        url = self.url("loads:add-reading", self.box.pk, "spot")
        self.later(url, 2 * HOUR, state="running", watts="118")
        self.ago(self.box.readings.get(type="spot").read_at, 2 * HOUR)

    def test_the_moment_that_was_typed_stays(self):
        url = self.url("loads:add-reading", self.box.pk, "spot")
        self.later(url, 2 * HOUR, state="running", watts="118", read_at="2026-11-20T10:00")
        self.assertEqual(
            self.box.readings.get(type="spot").read_at.date().isoformat(), "2026-11-20"
        )

    def test_one_sent_at_once_or_without_sense_has_none(self):
        for waited in (-9000, 1e9, "nan", "inf", "-inf", "soon", "1e300"):
            with self.subTest(waited):
                url = self.url("loads:add-reading", self.box.pk, "spot")
                self.later(url, waited, state="running", watts="118")
                self.assertIsNone(self.box.readings.filter(type="spot").latest("pk").read_at)

    def test_the_meter_on_the_bench_too_and_each_once(self):
        key = str(uuid.uuid4())
        for waited in (100, 160):
            url = self.url("bench:keep-meter", self.box.pk)
            answer = self.later(url, waited, state="running", watts="118", client_key=key)
            self.assertEqual(answer.status_code, 302)
        self.ago(self.box.readings.get(type="spot").read_at, 100)

    def test_many_that_arrive_together_leave_no_heap_of_messages(self):
        for watts in range(10, 14):
            url = self.url("loads:add-reading", self.box.pk, "spot")
            self.later(url, 60, state="running", watts=str(watts))
        self.assertNotContains(self.client.get(self.url("loads:survey")), "data-toast")


class WatchTest(OutboxTest):
    def setUp(self):
        super().setUp()
        # It began three hours ago; everything is on.
        self.watch = begin_watch(self.job, timezone.now() - timedelta(hours=3))

    def switch(self, load, on, waited_s, **more):
        data = {"load": load, "trial": self.watch.pk, **({"on": "1"} if on else {}), **more}
        return self.later(self.url("watch:switch"), waited_s, **data)

    def on_at(self, hours_ago):
        watch = running_watch(self.job)
        return watch.on_at(timezone.now() - timedelta(hours=hours_ago))

    def test_a_switch_counts_from_the_moment_it_was_made(self):
        self.switch("Lamp", False, 2 * HOUR)
        self.assertEqual(self.on_at(2.5), ["Box", "Lamp"])
        self.assertEqual(self.on_at(1.5), ["Box"])

    def test_two_devices_lose_none_of_each_others_switches(self):
        self.switch("Box", False, HOUR)
        self.switch("Lamp", False, 2 * HOUR)
        self.assertEqual(self.on_at(1.5), ["Box"])
        self.assertEqual(self.on_at(0), [])

    def test_a_later_switch_of_the_same_load_stays(self):
        self.switch("Lamp", False, 2 * HOUR)
        self.switch("Lamp", True, HOUR)
        self.switch("Lamp", False, 1.5 * HOUR)
        self.assertEqual(self.on_at(0), ["Box", "Lamp"])

    def test_the_same_entry_twice_is_one_even_when_it_would_be_no_repetition(self):
        key = str(uuid.uuid4())
        self.switch("Lamp", False, 2 * HOUR, client_key=key)
        self.switch("Lamp", True, HOUR)
        self.switch("Lamp", False, 2 * HOUR + 9, client_key=key)
        self.assertEqual(self.on_at(0), ["Box", "Lamp"])
        self.assertEqual(self.watch.check_ins.count(), 2)

    def test_a_look_that_waited_and_an_undo_that_takes_it_back_whole(self):
        self.later(self.url("watch:look"), HOUR, shown="61 %", trial=self.watch.pk)
        seen = self.watch.check_ins.get()
        self.assertEqual(seen.data, {"percent": 61.0})
        self.ago(seen.at, HOUR)

    def test_one_entered_before_later_ones_is_undone_with_what_it_corrected(self):
        self.switch("Box", False, HOUR)
        self.switch("Lamp", False, 2 * HOUR)
        change = self.job.changes.filter(undone=False).first()
        self.client.post(self.url("jobs:undo", change.pk))
        self.assertEqual(self.on_at(0), ["Lamp"])

    def test_what_was_made_before_a_watch_ended_still_counts_in_it(self):
        power_is_back(running_watch(self.job), {"percent": 40.0}, None)
        answer = self.switch("Lamp", False, 2 * HOUR)
        self.assertEqual(answer.status_code, 204)
        self.assertTrue(self.watch.check_ins.filter(data__has_key="on").exists())

    def test_what_was_made_after_it_ended_comes_back_with_a_sentence(self):
        power_is_back(running_watch(self.job), {}, None)
        later = timezone.now() + timedelta(hours=1)
        with mock.patch("django.utils.timezone.now", return_value=later):
            answer = self.switch("Lamp", False, 60)
        self.assertEqual(answer.status_code, 422)
        self.assertIn(b"had ended by then", answer.content)
        self.assertFalse(Receipt.objects.exists())

    def test_a_switch_of_another_jobs_watch_or_load_is_a_404(self):
        self.assertEqual(self.switch("Kettle", True, 60).status_code, 404)
        self.assertEqual(self.switch("Lamp", True, 60, trial=99_999).status_code, 404)

    def test_the_beginning_of_an_outage_can_wait_too(self):
        power_is_back(running_watch(self.job), {}, None)
        self.later(self.url("watch:begin"), HOUR)
        self.ago(running_watch(self.job).started_at, HOUR, within=61)


class CheckInTest(OutboxTest):
    def setUp(self):
        super().setUp()
        self.watch = begin_watch(self.job, timezone.now() - timedelta(hours=3))
        self.address = self.url("trials:check-in", self.watch.pk)

    def test_a_check_in_that_waited(self):
        self.later(self.address, HOUR, percent="70")
        self.ago(self.watch.check_ins.get().at, HOUR)

    def test_ticks_that_nobody_touched_switch_nothing_back_on(self):
        self.later(self.url("watch:switch"), 2 * HOUR, load="Lamp", trial=self.watch.pk)
        shown = {"on": ["Box", "Lamp"], "on_before": '["Box", "Lamp"]', "loads_shown": "True"}
        self.later(self.address, HOUR, percent="70", **shown)
        self.assertEqual(running_watch(self.job).on_now(), ["Box"])

    def test_a_tick_that_was_taken_out_does(self):
        shown = {"on": ["Box"], "on_before": '["Box", "Lamp"]', "loads_shown": "True"}
        self.later(self.address, HOUR, percent="70", **shown)
        self.assertEqual(running_watch(self.job).on_now(), ["Box"])

    def test_odd_words_of_what_was_ticked_before(self):
        for odd in ("{", '{"a": 1}', "7", "[[1], null]", '["Kettle"]'):
            with self.subTest(odd):
                shown = {"on": ["Box", "Lamp"], "on_before": odd, "loads_shown": "True"}
                answer = self.later(self.address, 60, percent="70", **shown)
                self.assertIn(answer.status_code, (200, 422))


class SwitchingTest(SiteTest):
    def test_of_two_loads_each_is_followed_until_it_is_switched_itself(self):
        later = [{"on": ["A", "B"]}, {"percent": 50.0}, {"on": ["A"]}, {"on": ["A", "B"]}]
        after = with_earlier_change(["A", "B", "C"], ["C"], later)
        self.assertEqual(after[0], {"on": []})
        self.assertEqual(after[1], {"percent": 50.0})
        self.assertEqual(after[2:], [{"on": []}, {"on": ["B"]}])

    def test_a_leg_that_is_named_anew_stays_as_it_was_entered(self):
        later = [{"leg": "night", "on": ["A"]}, {"on": []}]
        self.assertEqual(with_earlier_change(["A"], [], later), later)


class TidyTest(SiteTest):
    def test_receipts_are_kept_longer_than_an_entry_waits(self):
        for days in (91, 120):
            Receipt.objects.create(job=self.job, client_key=uuid.uuid4())
            newest = Receipt.objects.latest("pk")
            Receipt.objects.filter(pk=newest.pk).update(
                created_at=timezone.now() - timedelta(days=days)
            )
        call_command("tidy", verbosity=0)
        self.assertEqual(Receipt.objects.count(), 1)


class RoundTest(OutboxTest):
    def test_a_step_begun_without_a_connection_began_then(self):
        from web.rounds.actions import begin
        from web.rounds.models import STARTED, MeasuringRound

        now = timezone.now()
        plan = Plan.objects.filter(job=self.job).first()
        stored = begin(
            MeasuringRound(
                job=self.job,
                plan=plan,
                begins=now,
                ends=now + timedelta(hours=8),
                meters=["plug"],
                qualified=False,
            )
        )
        self.assertTrue(stored.steps)
        key = stored.steps[0]["key"]
        self.later(self.url("rounds:mark", stored.pk), 600, step=key, state=STARTED)
        stored.refresh_from_db()
        step = next(step for step in stored.steps if step["key"] == key)
        self.assertEqual(step["state"], STARTED)
        self.ago(timezone.datetime.fromisoformat(step["first"]), 600)
        gone = self.later(self.url("rounds:mark", stored.pk), 60, step="none", state=STARTED)
        self.assertEqual(gone.status_code, 422)
