"""A database that is busy for too long is a sentence, and long writes take turns."""

import threading
from unittest import mock

from django.db import OperationalError

from tests.web.base import SiteTest
from web.common.turns import one_at_a_time
from web.loads import actions


class BusyTest(SiteTest):
    def test_a_locked_database_is_said_and_nothing_is_stored(self):
        with mock.patch.object(
            actions, "add_load", side_effect=OperationalError("database is locked")
        ):
            answer = self.client.post(self.url("loads:add"), {
                "name": "Fan", "kind": "induction-motor", "priority": "nice"})  # fmt: skip
        self.assertEqual((answer.status_code, answer["Retry-After"]), (503, "5"))
        self.assertContains(answer, "send it again", status_code=503)
        self.assertFalse(self.job.loads.exists())

    def test_other_faults_stay_faults(self):
        self.client.raise_request_exception = False
        with mock.patch.object(actions, "add_load", side_effect=OperationalError("no such table")):
            answer = self.client.post(self.url("loads:add"), {
                "name": "Fan", "kind": "induction-motor", "priority": "nice"})  # fmt: skip
        self.assertEqual(answer.status_code, 500)

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
