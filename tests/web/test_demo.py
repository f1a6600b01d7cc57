"""The demo scenario is whole, mixed in grade, and kept."""

import html
import re
from io import StringIO

from django.contrib.auth import get_user_model
from django.core.management import call_command
from django.test import TestCase
from django.urls import reverse

from tests.demo_data import load_demo
from tests.few_draws import FewDraws
from web.answer.going import going, unread_loads
from web.demo.scenario import USERNAME
from web.jobs.models import Job
from web.plans.outcomes import answer_of

#: Words that no page uses: invented ones, and those that mean something else in the trade.
BANNED = re.compile(
    r"\b(leave it|take it back|eats|eaten|school|passes on|they are at|missing of it|optional|"
    r"watts? (?:per|an) hour|gives of its label|cares for)\b",
    re.IGNORECASE,
)
_BLOCKS = re.compile(
    r"<(?:/?(?:p|li|h\d|td|th|dt|dd|div|section|label|button|summary|caption|option|figcaption|"
    r"legend|a|span|tr|ul|ol|form|aside|details|main|nav)\b[^>]*)>"
)


def lines_of(page):
    """The lines of a page's work area, as they are read."""
    main = page[page.index('id="work"') :]
    main = re.sub(r"<(script|style|svg|textarea|dialog|code)\b.*?</\1>", " ", main, flags=re.S)
    parts = (re.sub(r"<[^>]*>", "", part) for part in _BLOCKS.split(main))
    return [line for part in parts if (line := " ".join(html.unescape(part).split()))]


class DemoTest(FewDraws, TestCase):
    @classmethod
    def setUpTestData(cls):
        load_demo()
        cls.user = get_user_model().objects.get(username=USERNAME)
        cls.clinic = Job.objects.get(name="Tern Point Animal Clinic")

    def test_the_clinic_is_mixed_in_grade(self):
        grades = {load.name: load.profile().grade for load in self.clinic.loads.all()}
        self.assertEqual(len(grades), 12)
        self.assertEqual(set(grades.values()), {"A", "B", "D"})
        self.assertEqual(grades["Vaccine refrigerator"], "A")
        self.assertEqual(grades["Centrifuge"], "D")

    def test_one_set_contradicts_itself(self):
        pump = self.clinic.loads.get(name="Suction pump")
        spot = pump.readings.get(type="spot").to_core()
        self.assertEqual(spot.agreement().suspect, "pf")

    def test_every_plan_has_an_answer(self):
        for job in Job.objects.filter(owner=self.user):
            for plan in job.plans.all():
                with self.subTest(plan=plan.name):
                    answer = answer_of(plan)
                    self.assertEqual(answer.reason, "", answer.words)
                    self.assertGreater(answer.outcome.runtime[1], 1)

    def test_every_page_answers(self):
        self.client.force_login(self.user)
        for job in Job.objects.filter(owner=self.user):
            urls = [
                reverse(name, args=[job.pk])
                for name in (
                    "loads:survey",
                    "supplies:list",
                    "matching:starts",
                    "plans:current",
                    "jobs:edit",
                )
            ]
            urls += [reverse("loads:load", args=[job.pk, load.pk]) for load in job.loads.all()]
            urls += [
                reverse("matching:correction", args=[job.pk, load.pk]) for load in job.loads.all()
            ]
            urls += [
                reverse("supplies:supply", args=[job.pk, supply.pk])
                for supply in job.supplies.all()
            ]
            urls += [reverse("plans:plan", args=[job.pk, plan.pk]) for plan in job.plans.all()]
            urls += [reverse("loads:edit", args=[job.pk, load.pk]) for load in job.loads.all()[:2]]
            urls += [reverse("trials:trial", args=[job.pk, run.pk]) for run in job.trials.all()]
            urls += [
                reverse(name, args=[job.pk])
                for name in (
                    "trials:index",
                    "sheets:sheet",
                    "bench:index",
                    "loads:add",
                    "supplies:add",
                    "plans:add",
                )
            ]
            for url in urls:
                with self.subTest(url=url):
                    answer = self.client.get(url)
                    self.assertEqual(answer.status_code, 200)
                    lines = lines_of(answer.content.decode())
                    self.assertEqual([line for line in lines if BANNED.search(line)], [])
                    sentences = [line for line in lines if len(line) > 40 and line[-1] in ".?"]
                    doubled = {line for line in sentences if sentences.count(line) > 1}
                    self.assertEqual(doubled, set())

    def test_the_start_matrix_shows_every_verdict(self):
        self.client.force_login(self.user)
        page = self.client.get(reverse("matching:starts", args=[self.clinic.pk])).content.decode()
        for verdict in ("holds", "grey", "trips"):
            self.assertIn(f'class="verdict {verdict}"', page)

    def test_a_job_says_what_runs_and_what_has_no_reading(self):
        clinic = Job.objects.get(owner=self.user, name="Tern Point Animal Clinic")
        meter, trial = going(clinic)
        self.assertEqual(meter, "Recovery heat mat is on a plug meter, simulated.")
        self.assertRegex(
            trial, r"^Trial “Storm night rehearsal” since \w{3} \d\d \w{3} \d\d:\d\d\.$"
        )
        self.assertEqual(unread_loads(clinic), [])
        kettle = clinic.loads.create(name="Kettle", kind="resistive-heater")
        # What a request has fetched of a job is kept for that request.
        self.assertEqual(unread_loads(Job.objects.get(pk=clinic.pk)), [kettle])

    def test_supplies_are_measured(self):
        cabinet = self.clinic.supplies.get(name="Wheeled cabinet").to_core()
        self.assertEqual(cabinet.inverter.efficiency.grade, "A")
        old = self.clinic.supplies.get(name="Old lead-acid box").to_core()
        self.assertLess(old.battery.state_of_health.value, 0.8)

    def test_run_again_keeps_what_is_there_and_reset_makes_it_anew(self):
        self.clinic.loads.filter(name="Exam lamp").update(name="My lamp")
        call_command("demo", stdout=StringIO())
        self.assertTrue(self.clinic.loads.filter(name="My lamp").exists())
        call_command("demo", reset=True, stdout=StringIO())
        self.assertFalse(Job.objects.filter(loads__name="My lamp").exists())
        self.assertEqual(Job.objects.filter(owner__username=USERNAME).count(), 2)
