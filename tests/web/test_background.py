"""Heavy answers in processes of their own or on a queue: once each, one at a time of an owner."""

from __future__ import annotations

import logging
import multiprocessing
import operator
import os
import signal
import tempfile
from pathlib import Path
from unittest import mock

from celery.contrib.testing.worker import start_worker
from django.conf import settings
from django.core.cache import caches
from django.core.signing import BadSignature
from django.test import SimpleTestCase, override_settings
from fakeredis import FakeRedis, FakeServer

from needle.document import DocumentError
from needle.plan.documents.parse import parse_plan
from tests.web.base import SiteTest, clear_caches, make_load, make_supply
from web.background import queue
from web.background.asking import worked_out
from web.background.pool import POOL, AnswerPool
from web.background.questions import (
    AnswerPending,
    AnswerTooLongError,
    Question,
    Urgency,
    cached,
    keep,
)
from web.background.queue import AnswerQueue
from web.plans.actions import save_plan
from web.plans.models import Plan

#: Longest that a process takes to start on a busy machine, s.
LONG = 60.0


class FailingAnswerTest(SiteTest):
    """An answer that ends in a fault takes no page away on which its cause can be repaired."""

    def test_every_page_of_the_job_still_opens(self):
        load, supply = make_load(self.job), make_supply(self.job)
        plan = save_plan(Plan(job=self.job, name="Night", supply=supply))
        fault = mock.patch("web.plans.outcomes.work_out", side_effect=IndexError("ours"))
        with fault, override_settings(ANSWER_FAULTS_RAISE=False):
            with self.assertLogs("steady.answers", "ERROR"):
                page = self.client.get(self.url("plans:plan", plan.pk))
            self.assertContains(page, "a fault of this program")
            logging.disable(logging.ERROR)
            self.addCleanup(logging.disable, logging.NOTSET)
            for name, args in (
                ("loads:survey", ()),
                ("loads:load", (load.pk,)),
                ("supplies:supply", (supply.pk,)),
                ("plans:edit", (plan.pk,)),
                ("plans:entry", (plan.pk, load.pk)),
                ("matching:starts", ()),
                ("trials:index", ()),
                ("sheets:sheet", ()),
                ("plans:alone", ()),
                ("rounds:index", ()),
            ):
                with self.subTest(page=name):
                    self.assertEqual(self.client.get(self.url(name, *args)).status_code, 200)


class VersionTest(SimpleTestCase):
    databases = {"default"}

    def test_an_answer_of_another_version_of_the_program_is_another_answer(self):
        clear_caches()
        keep("sum", 2)
        self.assertEqual(cached("sum"), 2)
        with mock.patch("web.background.questions.core_version", return_value="other"):
            self.assertIsNone(cached("sum"))


class KeptTest(SimpleTestCase):
    databases = {"default"}

    def test_a_file_that_was_left_half_written_is_worked_out_again(self):
        folder = self.enterContext(tempfile.TemporaryDirectory())
        files = "django.core.cache.backends.filebased.FileBasedCache"
        kept_in_files = {**settings.CACHES, "answers": {"BACKEND": files, "LOCATION": folder}}
        self.enterContext(override_settings(CACHES=kept_in_files))
        logging.disable(logging.ERROR)
        self.addCleanup(logging.disable, logging.NOTSET)
        keep("sum", 2)
        caches["live"].clear()
        self.assertEqual(cached("sum"), 2)
        (path,) = Path(folder).iterdir()
        whole = path.read_bytes()
        for left in (b"", whole[:-3], whole[:8] + bytes(len(whole))):
            with self.subTest(left=len(left)):
                path.write_bytes(left)
                caches["live"].clear()
                self.assertIsNone(cached("sum"))
                self.assertEqual(worked_out("sum", "ada", 1.0, operator.add, 1, 1), 2)
                self.assertTrue(path.exists())


def at_work(pool):
    """Keys of the questions that are worked at."""
    return {key for key, asked in pool.open.items() if asked.at_work}


class EngineTest(SimpleTestCase):
    databases = {"default"}

    def setUp(self):
        clear_caches()
        folder = self.enterContext(tempfile.TemporaryDirectory())
        # Who reads a pipe waits until somebody writes to it: a question of a length we choose.
        self.pipe = Path(folder) / "pipe"
        os.mkfifo(self.pipe)

    def ask(self, key, owner, wait_s, work, *args, urgency=Urgency.NOW):
        return self.engine.ask(Question(key, owner, work, args, urgency), wait_s)

    def slow(self, key="slow", owner="ada", wait_s=0.0):
        return self.ask(key, owner, wait_s, Path.read_text, self.pipe)


@override_settings(ANSWER_WORKERS=1)
class PoolTest(EngineTest):
    def setUp(self):
        super().setUp()
        # Workers of the parallel runner are daemons, which may not have children otherwise.
        alone = multiprocessing.current_process()._config
        self.enterContext(mock.patch.dict(alone, {"daemon": False}))
        self.engine = AnswerPool()
        self.addCleanup(self.engine.close)

    def test_an_answer_comes_from_another_process_and_is_kept(self):
        pid = self.ask("pid", "ada", LONG, os.getpid)
        self.assertNotEqual(pid, os.getpid())
        self.assertEqual(cached("pid"), pid)
        self.assertEqual(worked_out("pid", "bob", 0.0, operator.add, 1, 1), pid)

    def test_who_does_not_wait_gets_it_later_and_it_is_worked_out_once(self):
        for owner in ("ada", "ada", "bob"):
            with self.assertRaises(AnswerPending):
                self.slow(owner=owner)
        self.assertEqual(len(self.engine.open), 1)
        self.pipe.write_text("done")
        self.assertEqual(self.slow(wait_s=LONG), "done")
        self.assertEqual((self.engine.open, self.engine.owners), ({}, {}))

    def test_one_at_a_time_for_each_owner(self):
        with self.assertRaises(AnswerPending):
            self.slow()
        with self.assertRaises(AnswerPending):
            self.ask("other", "ada", 0.0, operator.add, 1, 2)
        self.assertEqual(set(self.engine.open), {"slow"})
        with self.assertRaises(AnswerPending) as caught:
            self.ask("theirs", "bob", 0.0, operator.add, 1, 2)
        self.assertTrue(caught.exception.waiting)
        self.assertEqual(set(self.engine.open), {"slow", "theirs"})
        self.pipe.write_text("done")
        self.assertEqual(self.ask("theirs", "bob", LONG, operator.add, 1, 2), 3)
        self.assertEqual(self.ask("other", "ada", LONG, operator.add, 1, 2), 3)

    def test_what_is_urgent_goes_before_what_was_asked_earlier(self):
        with self.assertRaises(AnswerPending):
            self.slow()
        second = self.pipe.with_name("second")
        os.mkfifo(second)
        with self.assertRaises(AnswerPending):
            self.ask("report", "bob", 0.0, operator.add, 1, 2, urgency=Urgency.LATER)
        with self.assertRaises(AnswerPending):
            self.ask("slider", "cyd", 0.0, Path.read_text, second)
        self.assertEqual(at_work(self.engine), {"slow"})
        self.pipe.write_text("done")
        self.slow(wait_s=LONG)
        self.assertEqual(at_work(self.engine), {"slider"})
        second.write_text("done")
        self.assertEqual(self.ask("report", "bob", LONG, operator.add, 1, 2), 3)

    def test_what_somebody_waits_for_is_put_further_forward(self):
        with self.assertRaises(AnswerPending):
            self.slow()
        second = self.pipe.with_name("second")
        os.mkfifo(second)
        for key, owner in (("early", "bob"), ("late", "cyd")):
            work = (Path.read_text, second) if key == "late" else (operator.add, 1, 2)
            with self.assertRaises(AnswerPending):
                self.ask(key, owner, 0.0, *work, urgency=Urgency.LATER)
        with self.assertRaises(AnswerPending):
            self.ask("late", "cyd", 0.0, Path.read_text, second)
        self.pipe.write_text("done")
        self.slow(wait_s=LONG)
        self.assertEqual(at_work(self.engine), {"late"})
        second.write_text("done")
        self.assertEqual(self.ask("early", "bob", LONG, operator.add, 1, 2), 3)
        self.assertEqual((self.engine.waiting, self.engine.at_work), ([], 0))

    def test_an_answer_that_cannot_be_kept_is_given_and_its_owner_may_ask_again(self):
        with (
            mock.patch.object(type(caches["answers"]), "set", side_effect=OSError("disk full")),
            self.assertLogs("steady.answers", "ERROR"),
        ):
            self.assertEqual(self.ask("sum", "ada", LONG, operator.add, 1, 1), 2)
        self.assertEqual(self.ask("next", "ada", LONG, operator.add, 1, 2), 3)

    def test_a_refusal_travels_and_is_kept(self):
        with self.assertRaises(DocumentError) as caught:
            self.ask("plan", "ada", LONG, parse_plan, {"hours": 5})
        self.assertEqual(caught.exception.path, "supply")
        self.assertIsNone(cached("plan"))
        with self.assertRaises(DocumentError) as again:
            worked_out("plan", "ada", 0.0, parse_plan, {"hours": 5})
        self.assertEqual(again.exception.path, "supply")

    def test_what_takes_too_long_is_refused_and_the_worker_goes_on(self):
        pid = self.ask("pid", "ada", LONG, os.getpid)
        with override_settings(ANSWER_LIMIT_S=0.2), self.assertRaises(AnswerTooLongError) as caught:
            self.slow(wait_s=LONG)
        self.assertIn("take fewer loads", caught.exception.message)
        self.assertEqual(self.ask("again", "ada", LONG, os.getpid), pid)

    def test_a_process_that_is_killed_is_replaced_and_its_question_taken_up(self):
        pid = self.ask("pid", "ada", LONG, os.getpid)
        with self.assertRaises(AnswerPending):
            self.slow()
        with self.assertRaises(AnswerPending):
            self.ask("again", "bob", 0.0, os.getpid)
        os.kill(pid, signal.SIGKILL)
        self.assertNotEqual(self.ask("again", "bob", LONG, os.getpid), pid)


class QueueTest(EngineTest):
    """Two servers, and one queue in memory."""

    def setUp(self):
        super().setUp()
        self.server = FakeServer()
        self.redis = FakeRedis(server=self.server, decode_responses=True)
        self.engine, self.other = AnswerQueue(self.redis), AnswerQueue(self.redis)
        self.enterContext(mock.patch.object(queue, "the_queue", return_value=self.engine))
        queue.app.conf.update(broker_url="memory://", broker_transport_options={})
        with queue.app.connection() as connection, connection.SimpleQueue("answers") as waiting:
            waiting.clear()
        self.enterContext(mock.patch.object(queue, "in_time", side_effect=self.work))
        self.worked = []

    def work(self, _limit_s, work, *args):
        self.worked.append(work)
        return work(*args)

    def work_off(self):
        """Do what a worker does with everything in the queue; how many questions it took."""
        taken = 0
        with queue.app.connection() as connection, connection.SimpleQueue("answers") as waiting:
            while waiting.qsize():
                message = waiting.get()
                (signed,), *_ = message.payload
                queue.answer_question(signed)
                message.ack()
                taken += 1
        return taken

    def pending(self, server, key, owner, *args):
        with self.assertRaises(AnswerPending):
            server.ask(Question(key, owner, operator.add, args), 0.0)

    def test_a_worker_takes_it(self):
        with start_worker(queue.app, pool="solo", perform_ping_check=False):
            self.assertEqual(self.ask("sum", "ada", LONG, operator.add, 1, 1), 2)

    def test_two_servers_have_it_worked_out_once(self):
        for server in (self.engine, self.other):
            self.pending(server, "sum", "ada", 1, 1)
        self.assertEqual(self.work_off(), 1)
        for server in (self.engine, self.other):
            self.assertEqual(server.ask(Question("sum", "ada", operator.add, (1, 1)), 0.0), 2)
        self.assertEqual(self.redis.keys("steady:*"), [])

    def test_one_at_a_time_for_each_owner(self):
        self.pending(self.engine, "first", "ada", 1, 1)
        self.pending(self.other, "second", "ada", 2, 2)
        self.pending(self.other, "theirs", "bob", 3, 3)
        self.assertEqual(self.work_off(), 2)
        self.pending(self.other, "second", "ada", 2, 2)
        self.assertEqual(self.work_off(), 1)
        self.assertEqual(self.ask("second", "ada", 0.0, operator.add, 2, 2), 4)

    def test_a_refusal_travels(self):
        with self.assertRaises(AnswerPending):
            self.ask("plan", "ada", 0.0, parse_plan, {"hours": 5})
        self.work_off()
        with self.assertRaises(DocumentError) as caught:
            self.ask("plan", "ada", 0.0, parse_plan, {"hours": 5})
        self.assertEqual(caught.exception.path, "supply")

    def test_what_a_lost_worker_had_is_taken_up_by_another(self):
        self.pending(self.engine, "sum", "ada", 1, 1)
        # It took the question and was killed: nobody renews its marks, which end.
        with queue.app.connection() as connection:
            connection.default_channel.queue_purge("answers")
        self.pending(self.other, "sum", "ada", 1, 1)
        self.assertEqual(self.work_off(), 0)
        self.redis.delete(*self.redis.keys("steady:*"))
        self.pending(self.other, "sum", "ada", 1, 1)
        self.assertEqual(self.work_off(), 1)

    def test_what_was_put_in_twice_is_worked_out_once(self):
        for _ in range(2):
            self.pending(self.engine, "sum", "ada", 1, 1)
            self.redis.delete(*self.redis.keys("steady:*"))
        self.assertEqual(self.work_off(), 2)
        self.assertEqual(len(self.worked), 1)

    def test_what_somebody_waits_for_is_put_in_once_more_and_worked_out_once(self):
        later = Question("sum", "ada", operator.add, (1, 1), Urgency.LATER)
        now = Question("sum", "ada", operator.add, (1, 1), Urgency.NOW)
        for question in (later, now, now, later):
            with self.assertRaises(AnswerPending):
                self.other.ask(question, 0.0)
        self.assertEqual(self.work_off(), 2)
        self.assertEqual(len(self.worked), 1)
        self.assertEqual(self.redis.keys("steady:*"), [])

    def test_what_another_worker_has_is_left_to_it(self):
        question = Question("sum", "ada", operator.add, (1, 1))
        with self.engine.at_work(question):
            self.assertFalse(self.engine.take(question))
        self.assertTrue(self.engine.take(question))

    def test_marks_last_for_as_long_as_somebody_works(self):
        question = Question("slow", "ada", operator.add, (1, 1))
        with self.engine.at_work(question), self.assertRaises(AnswerPending) as caught:
            self.other.ask(question, 0.0)
        self.assertFalse(caught.exception.waiting)
        self.assertEqual(self.redis.keys("steady:*"), [])

    def test_what_this_site_did_not_sign_is_not_read(self):
        with self.assertRaises(BadSignature):
            queue.answer_question("gASVCwAAAAAAAAA:forged")

    def test_without_redis_the_own_pool_answers(self):
        self.server.connected = False
        with mock.patch.object(queue.POOL, "ask", return_value=2) as pool:
            self.assertEqual(self.ask("sum", "ada", LONG, operator.add, 1, 1), 2)
            self.assertEqual(self.ask("sum", "ada", LONG, operator.add, 1, 1), 2)
        self.assertEqual(pool.call_count, 2)


@override_settings(ANSWER_WORKERS=1)
class PendingTest(SiteTest):
    """Every question stays unanswered for as long as a test lasts."""

    def setUp(self):
        super().setUp()
        make_supply(self.job)
        make_load(self.job)
        self.enterContext(mock.patch.object(POOL, "ask", side_effect=AnswerPending))

    def test_every_page_shows_that_it_is_being_worked_out_and_asks_again(self):
        plan = self.job.plans.create(name="Night", is_current=True)
        for name, args, asks in (
            ("loads:survey", [], "answer:bar"),
            ("answer:bar", [], "answer:bar"),
            ("answer:line", [], "answer:line"),
            ("plans:plan", [plan.pk], "plans:plan"),
            ("plans:sizes", [plan.pk], "plans:sizes"),
            ("plans:compare", [plan.pk], "plans:compare"),
            ("sheets:sheet", [], "sheets:sheet"),
        ):
            with self.subTest(page=name):
                page = self.client.get(self.url(name, *args))
                self.assertContains(page, "Calculating")
                asked = self.url(asks, *(args if asks == name else []))
                self.assertContains(page, f'hx-get="{asked}"')

    def test_a_download_says_that_it_takes_longer(self):
        plan = self.job.plans.create(name="Night", is_current=True)
        page = self.client.get(self.url("plans:download", plan.pk, "answer.json"))
        self.assertEqual(page.status_code, 503)
        self.assertEqual(page["Retry-After"], "10")
