"""The desk: heavy answers in processes of their own, once each, one at a time for each owner."""

from __future__ import annotations

import logging
import multiprocessing
import operator
import os
import signal
import tempfile
from pathlib import Path
from unittest import mock

from django.core.cache import caches
from django.test import SimpleTestCase, override_settings

from needle.document import DocumentError
from needle.plan.documents.parse import parse_plan
from tests.web.base import SiteTest, clear_caches, make_load, make_supply
from web.plans import answer_pool as desk
from web.plans.actions import save_plan
from web.plans.answer_pool import AnswerPending, AnswerPool
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


@override_settings(ANSWER_WORKERS=1)
class DeskTest(SimpleTestCase):
    databases = {"default"}

    def setUp(self):
        clear_caches()
        # Workers of the parallel runner are daemons, which may not have children otherwise.
        alone = multiprocessing.current_process()._config
        self.enterContext(mock.patch.dict(alone, {"daemon": False}))
        self.desk = AnswerPool()
        self.addCleanup(self.desk.close)
        folder = self.enterContext(tempfile.TemporaryDirectory())
        # Who reads a pipe waits until somebody writes to it: a question of a length we choose.
        self.pipe = Path(folder) / "pipe"
        os.mkfifo(self.pipe)

    def slow(self, key="slow", owner="ada", wait_s=0.0):
        return self.desk.ask(key, owner, wait_s, Path.read_text, self.pipe)

    def test_an_answer_comes_from_another_process_and_is_kept(self):
        pid = self.desk.ask("pid", "ada", LONG, os.getpid)
        self.assertNotEqual(pid, os.getpid())
        self.assertEqual(caches["answers"].get("pid"), pid)
        self.assertEqual(desk.worked_out("pid", "bob", 0.0, operator.add, 1, 1), pid)

    def test_who_does_not_wait_gets_it_later_and_it_is_worked_out_once(self):
        for owner in ("ada", "ada", "bob"):
            with self.assertRaises(AnswerPending):
                self.slow(owner=owner)
        self.assertEqual(len(self.desk.open), 1)
        self.pipe.write_text("done")
        self.assertEqual(self.slow(wait_s=LONG), "done")
        self.assertEqual((self.desk.open, self.desk.owners), ({}, {}))

    def test_one_at_a_time_for_each_owner(self):
        with self.assertRaises(AnswerPending):
            self.slow()
        with self.assertRaises(AnswerPending):
            self.desk.ask("other", "ada", 0.0, operator.add, 1, 2)
        self.assertEqual(set(self.desk.open), {"slow"})
        with self.assertRaises(AnswerPending):
            self.desk.ask("theirs", "bob", 0.0, operator.add, 1, 2)
        self.assertEqual(set(self.desk.open), {"slow", "theirs"})
        self.pipe.write_text("done")
        self.assertEqual(self.desk.ask("theirs", "bob", LONG, operator.add, 1, 2), 3)
        self.assertEqual(self.desk.ask("other", "ada", LONG, operator.add, 1, 2), 3)

    def test_a_refusal_travels(self):
        with self.assertRaises(DocumentError) as caught:
            self.desk.ask("plan", "ada", LONG, parse_plan, {"hours": 5})
        self.assertEqual(caught.exception.path, "supply")
        self.assertIsNone(caches["answers"].get("plan"))

    def test_a_process_that_is_killed_is_replaced(self):
        pid = self.desk.ask("pid", "ada", LONG, os.getpid)
        with self.assertRaises(AnswerPending):
            self.slow()
        os.kill(pid, signal.SIGKILL)
        self.assertNotEqual(self.desk.ask("again", "bob", LONG, os.getpid), pid)


@override_settings(ANSWER_WORKERS=1)
class PendingTest(SiteTest):
    """Every question lies on the desk for as long as a test lasts."""

    def setUp(self):
        super().setUp()
        make_supply(self.job)
        make_load(self.job)
        self.enterContext(mock.patch.object(desk.ANSWER_POOL, "ask", side_effect=AnswerPending))

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
