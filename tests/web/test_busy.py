"""A database that is busy, or another hand that was quicker, is a sentence; writes take turns."""

import threading
from unittest import mock

from django.db import OperationalError

from tests.web.base import SiteTest, make_load
from web.common.turns import one_at_a_time
from web.loads import actions


class BusyTest(SiteTest):
    def test_a_locked_database_is_said_and_nothing_is_stored(self):
        with mock.patch.object(
            actions, "add_load", side_effect=OperationalError("database is locked")
        ):
            answer = self.client.post(
                self.url("loads:add"),
                {"name": "Fan", "kind": "induction-motor", "priority": "nice"},
            )
        self.assertEqual((answer.status_code, answer["Retry-After"]), (503, "5"))
        self.assertContains(answer, "try again in a few seconds", status_code=503)
        self.assertFalse(self.job.loads.exists())

    def test_other_faults_stay_faults(self):
        self.client.raise_request_exception = False
        with mock.patch.object(actions, "add_load", side_effect=OperationalError("no such table")):
            answer = self.client.post(
                self.url("loads:add"),
                {"name": "Fan", "kind": "induction-motor", "priority": "nice"},
            )
        self.assertEqual(answer.status_code, 500)

    def test_what_another_hand_stored_meanwhile_is_not_written_over(self):
        fan = make_load(self.job, "Fan")
        form = {"name": "Mine", "kind": "led", "priority": "nice", "version": fan.version}
        change_load = actions.change_load

        def change_slowly(mine):
            theirs = self.job.loads.get()
            theirs.name = "Theirs"
            change_load(theirs)
            change_load(mine)

        with mock.patch.object(actions, "change_load", change_slowly):
            answer = self.client.post(self.url("loads:edit", fan.pk), form)
        self.assertContains(answer, "Nothing was overwritten", status_code=409)
        self.assertEqual(self.job.loads.get().name, "Theirs")

    def test_turns_are_taken(self):
        inside, most = [], []

        def work():
            with one_at_a_time("test"):
                inside.append(1)
                most.append(len(inside))
                inside.pop()

        threads = [threading.Thread(target=work) for _ in range(8)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(most, [1] * 8)
