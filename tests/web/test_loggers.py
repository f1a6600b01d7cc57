"""Samples over HTTP: tokens, repeats, lateness, limits, and the captures made of them."""

import json
from unittest import mock

from django.core.cache import caches
from django.db import DatabaseError
from django.test import Client

from tests.web.base import SiteTest, make_job, make_load
from web.bench import loggers
from web.bench.models import Capture, Chunk, Logger
from web.common.rates import Rate

BEGIN = 1_800_000_000


def rows(first, count, watts=92.0):
    return [{"time": BEGIN + first + i, "watts": watts + (first + i) % 3} for i in range(count)]


class LoggerTest(SiteTest):
    def setUp(self):
        super().setUp()
        for name in ("default", "answers"):
            caches[name].clear()
        self.load = make_load(self.job)
        self.logger, self.token = loggers.add_logger(self.load, "Shed meter")
        self.outside = Client()

    def send(self, body, token=None, kind="application/x-ndjson"):
        if not isinstance(body, str | bytes):
            body = "\n".join(json.dumps(row) for row in body)
        return self.outside.post(
            "/api/samples/",
            body,
            content_type=kind,
            headers={"Authorization": f"Bearer {self.token if token is None else token}"},
        )

    def test_json_lines_and_csv(self):
        self.assertEqual(self.send(rows(0, 20)).json(), {"rows": 20})
        text = "time,watts,volts\n" + "".join(f"{BEGIN + 20 + i},93,230\n" for i in range(5))
        self.assertEqual(self.send(text, kind="text/csv").json(), {"rows": 5})
        self.assertEqual(self.send([{"time": BEGIN + 25, "watts": 94.5}]).json(), {"rows": 1})
        core = loggers.waiting(Logger.objects.get())
        self.assertEqual(len(core.time_s), 26)
        self.assertEqual(core.columns["watts"][-1], 94.5)
        self.assertIsNotNone(Logger.objects.get().heard_at)

    def test_repeated_late_and_overlapping_posts_do_no_harm(self):
        self.send(rows(20, 20))
        self.assertEqual(self.send(rows(20, 20)).json(), {"rows": 0})
        self.send(rows(0, 20))
        self.send(rows(10, 20))
        core = loggers.waiting(self.logger)
        self.assertEqual(len(core.time_s), 40)
        self.assertTrue((core.time_s[1:] > core.time_s[:-1]).all())

    def test_wrong_and_revoked_tokens(self):
        for token in ("", "guess", "x" * 5000):
            self.assertEqual(self.send(rows(0, 3), token=token).status_code, 401)
        self.assertEqual(self.outside.post("/api/samples/").status_code, 401)
        self.assertEqual(self.outside.get("/api/samples/").status_code, 405)
        self.client.post(self.url("bench:revoke", self.logger.pk))
        self.assertEqual(self.send(rows(0, 3)).status_code, 401)
        self.assertFalse(Chunk.objects.exists())

    def test_the_token_is_shown_once_and_not_stored(self):
        answer = self.client.post(
            self.url("bench:loggers"), {"load": self.load.pk, "name": "New", "instrument": "logger"}
        )
        token = answer.context["token"]
        self.assertContains(answer, token)
        self.assertNotContains(self.client.get(self.url("bench:loggers")), token)
        self.assertEqual(self.send(rows(0, 3), token=token).status_code, 200)
        self.assertNotIn(token, str(list(Logger.objects.values())))

    def test_bad_posts_are_a_sentence(self):
        for body, said in [
            ("{oops", "line 1"),
            ('{"watts": 5}', "with a time"),
            ('{"time": 1800000000, "wats": 5}', "is none of"),
            ('{"time": 5, "watts": 5}\n{"time": 6, "watts": 5}', "since 1970"),
            ("time,mood\n1800000000,1\n1800000001,1\n", "none of watts"),
            ("", "empty"),
            ("time,watts\nsoon,5", "since 1970"),
            ("[" * 50_000, "a line of 50000 characters"),
        ]:
            with self.subTest(body=body[:30]):
                answer = self.send(body)
                self.assertEqual(answer.status_code, 400)
                self.assertIn(said, answer.json()["detail"])

    def test_limits(self):
        self.assertEqual(self.send("x" * (loggers.MOST_BYTES + 1)).status_code, 413)
        with mock.patch.object(loggers, "POSTS", Rate("posts", 3, 60)):
            statuses = [self.send(rows(i, 2)).status_code for i in range(5)]
        self.assertEqual(statuses[-1], 429)
        with mock.patch.object(loggers, "MOST_WAITING", 1):
            for name in ("default", "answers"):
                caches[name].clear()
            self.send(rows(0, 5))
            self.assertContains(self.send(rows(9, 5)), "too many", status_code=400)

    def test_samples_become_evidence(self):
        for first in range(0, 3000, 500):
            body = [
                {"time": BEGIN + first + i, "watts": 92.0 if (first + i) % 600 < 200 else 2.0}
                for i in range(500)
            ]
            self.send(body)
        page = self.client.get(self.url("bench:loggers"))
        self.assertContains(page, "Make a capture of 3000 samples")
        answer = self.client.post(self.url("bench:collect", self.logger.pk))
        capture = Capture.objects.get()
        self.assertRedirects(answer, self.url("bench:capture", capture.pk))
        self.assertEqual((capture.rows, capture.source, capture.kept), (3000, "live", True))
        self.assertEqual(self.load.readings.get(type="capture").data["pattern"], "cycling")
        self.assertFalse(Chunk.objects.filter(rows__gt=0).exists())

    def test_a_kill_while_collecting_loses_nothing(self):
        self.send(rows(0, 100))
        failing = mock.patch("web.bench.loggers.save_new", side_effect=DatabaseError)
        with failing, self.assertRaises(DatabaseError):
            loggers.collect(self.logger, "x")
        self.assertEqual(Chunk.objects.count(), 1)
        self.assertFalse(Capture.objects.exists())

    def test_too_little_and_foreign(self):
        self.client.post(self.url("bench:collect", self.logger.pk))
        self.assertFalse(Capture.objects.exists())
        theirs, _ = loggers.add_logger(make_load(make_job(self.other)), "Theirs")
        for name in ("bench:collect", "bench:revoke"):
            self.assertEqual(self.client.post(self.url(name, theirs.pk)).status_code, 404)
        self.assertNotContains(self.client.get(self.url("bench:loggers")), "Theirs")
