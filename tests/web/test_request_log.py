"""What operators watch: readiness, ids of requests, and lines that hold no secret."""

from __future__ import annotations

import json
import logging
from unittest import mock

from django.db import DatabaseError
from django.test import Client
from django.urls import reverse

from tests.web.base import SiteTest
from web.common.request_log import HEADER, AsJson, WithRequestId


class WatchedTest(SiteTest):
    def test_ready_while_the_database_answers(self):
        self.assertContains(Client().get("/ready/"), "ready")
        failing = mock.patch("web.common.views.connection.cursor", side_effect=DatabaseError)
        with failing, self.assertLogs("steady.ready"):
            self.assertEqual(Client().get("/ready/").status_code, 503)

    def lines(self, path, status):
        """The log lines of a request, as JSON."""
        with self.assertLogs("steady.requests", "INFO") as caught:
            answer = self.client.get(path)
        self.assertEqual(answer.status_code, status)
        written = []
        for record in caught.records:
            WithRequestId().filter(record)
            written.append(json.loads(AsJson().format(record)))
        return answer, written

    def test_a_request_is_one_line_by_its_name(self):
        answer, (line,) = self.lines(self.url("loads:survey"), 200)
        wanted = {"method": "GET", "address": "loads:survey", "status": 200}
        self.assertEqual({key: line[key] for key in wanted}, wanted)
        self.assertRegex(answer[HEADER], r"^[0-9a-f]{16}$")
        self.assertNotEqual(answer[HEADER], self.client.get("/alive/")[HEADER])

    def test_secrets_in_addresses_are_not_written(self):
        for name in ("share:reader", "jobs:join"):
            _, lines = self.lines(reverse(name, args=["very-secret-token"]), 404)
            self.assertNotIn("very-secret", json.dumps(lines))
        _, lines = self.lines("/nowhere/very-secret-token/", 404)
        self.assertNotIn("very-secret", json.dumps(lines))

    def test_lines_within_a_request_carry_its_id(self):
        seen = []

        def view(*_args, **_kwargs):
            record = logging.makeLogRecord({"msg": "within"})
            WithRequestId().filter(record)
            seen.append(record.request_id)
            raise DatabaseError

        with (
            mock.patch("web.common.views.connection.cursor", view),
            self.assertLogs("steady.ready"),
        ):
            answer = Client().get("/ready/")
        self.assertEqual(seen, [answer[HEADER]])
