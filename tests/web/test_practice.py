"""Practice on the site: begun, measured, answered, judged; apart from jobs and from others."""

import json
from unittest import mock

from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from needle.document import DocumentError
from needle.drill import advised, answer
from needle.drill.answer import DrillAnswer
from needle.drill.judge import truth_of
from needle.drill.shipped import DRILLS
from needle.quantity import as_read
from tests.web.base import SiteTest
from web.practice import actions
from web.practice.models import DrillRun

BOX, PUMP, CUPS, CASE = 2, 4, 7, 8


class PracticeTest(SiteTest):
    def setUp(self):
        super().setUp()
        for module in (answer, advised):
            few = mock.patch.object(module, "_DRAWS", 60)
            few.start()
            self.addCleanup(few.stop)

    def begun(self, number=BOX):
        self.client.post(reverse("practice:begin", args=[number]))
        return DrillRun.objects.visible_to(self.user).first()

    def do(self, run, **doing):
        return self.client.post(reverse("practice:do", args=[run.pk]), doing)

    def answer(self, run, low, high, yes="no"):
        url = reverse("practice:answer", args=[run.pk])
        return self.client.post(url, {"low": low, "high": high, "yes": yes})

    def page(self, run):
        return self.client.get(reverse("practice:run", args=[run.pk]))

    def test_from_the_question_to_the_truth(self):
        self.assertContains(self.client.get(reverse("practice:index")), "Complete cycles")
        run = self.begun()
        self.assertContains(self.page(run), "8\u00a0h left")
        self.do(run, do="reset", loads="Cold box")
        self.do(run, do="counter", loads="Cold box", hours="6 h")
        page = self.page(run)
        self.assertContains(page, "Wh in 6\u00a0h")
        self.assertContains(page, "16:06")
        run.refresh_from_db()
        truth = truth_of(run.drill())
        self.answer(run, truth * 0.9, truth * 1.2, "yes" if truth > 900 else "no")
        page = self.page(run)
        self.assertContains(page, "✓ it contains the true value")
        self.assertContains(page, "No mistake that could be named")
        self.assertContains(page, "0.30")
        self.assertContains(self.client.get(reverse("practice:index")), "best score 0.30")

    def test_another_like_it_is_another_one(self):
        first = self.begun()
        self.assertEqual(self.begun().pk, first.pk)
        self.answer(first, 1, 2)
        second = self.begun()
        self.assertNotEqual(second.document["seed"], first.document["seed"])

    def test_mistakes_are_named_where_they_happened(self):
        run = self.begun(3)
        self.do(run, do="counter", loads="Incubator", hours="1 h")
        self.answer(run, 100, 90_000, "yes")
        self.assertContains(self.page(run), "Step 1: The counter at Incubator was not reset")

    def test_a_supply_is_tested_and_a_round_shown(self):
        run = self.begun(CASE)
        self.assertContains(self.do(run, do="idle"), "how long", status_code=422)
        self.do(run, do="drain")
        self.assertContains(self.page(run), "Drained:")
        self.answer(run, 9, 16, "yes")
        self.assertContains(self.page(run), "How a measuring round would have used these hours")

    def test_a_plan_is_drawn_up_and_summarised(self):
        run = self.begun(CASE)
        self.assertContains(self.page(run), "How long does this plan last?")
        uses = {"use-0": "always", "use-1": "between", "from-1": "20:00", "to-1": "23:00"}
        self.assertContains(
            self.do(run, do="plan", floor="10", **(uses | {"to-1": ""})),
            "Give both hours between which Router runs.",
            status_code=422,
        )
        self.do(run, do="plan", floor="10", **uses)
        page = self.page(run)
        self.assertContains(page, "By what you have read, your plan lasts")
        self.assertContains(page, 'value="23:00"')
        self.do(run, do="plan", floor="0", **(uses | {"use-1": "out"}))
        self.answer(run, 9, 16, "yes")
        self.assertContains(self.page(run), "Your plan has Router left out")

    def test_tasks_are_counted_together(self):
        run = self.begun(CUPS)
        self.do(run, do="reset", loads="Kettle")
        self.do(run, do="task", loads="Kettle", count="12")
        self.assertContains(self.page(run), "for 12 tasks")
        self.answer(run, 12, 26, "yes")
        self.assertContains(self.page(run), "12.0 to 26.0\u00a0times")
        self.assertEqual(self.do(run, do="task", loads="Kettle", count="99").status_code, 422)

    def test_what_cannot_be_done_is_said_and_nothing_is_kept(self):
        run = self.begun()
        for doing, said in (
            ({"do": "counter", "loads": "Cold box", "hours": "20 h"}, "min are left"),
            ({"do": "counter", "loads": "Cold box"}, "how long the counter runs"),
            ({"do": "counter", "hours": "1 h"}, "Choose what is on the meter"),
            ({"do": "spot", "loads": "Kettle"}, "valid choice"),
            ({"do": "dance"}, "do"),
            ({"do": "counter", "loads": "Cold box", "hours": "4 kW"}, "4 kW"),
        ):
            with self.subTest(said=said):
                self.assertContains(self.do(run, **doing), said, status_code=422)
        run.refresh_from_db()
        self.assertEqual(run.doings, [])

    def test_sent_twice_it_is_done_once(self):
        run = self.begun()
        self.do(run, do="reset", loads="Cold box", after=0)
        again = self.do(run, do="reset", loads="Cold box", after=0)
        self.assertContains(again, "Something was done since this page came", status_code=422)
        self.assertContains(again, 'name="after" value="1"', status_code=422)
        run.refresh_from_db()
        self.assertEqual(len(run.doings), 1)

    def test_of_two_simultaneous_actions_the_later_one_is_refused(self):
        run = self.begun()
        other = DrillRun.objects.get(pk=run.pk)
        actions.do(run, {"do": "reset", "loads": ["Cold box"]})
        with self.assertRaisesMessage(DocumentError, "since this page came"):
            actions.do(other, {"do": "reset", "loads": ["Cold box"]})
        with self.assertRaisesMessage(DocumentError, "since this page came"):
            actions.answer(other, DrillAnswer(1.0, 2.0, True))
        run.refresh_from_db()
        self.assertEqual((len(run.doings), run.answer), (1, None))

    def test_an_answer_sent_twice_at_once_counts_once(self):
        run, answer = self.begun(), actions.answer

        def answer_slowly(mine, given):
            answer(DrillRun.objects.get(pk=mine.pk), DrillAnswer(1.0, 2.0, True))
            answer(mine, given)

        with mock.patch.object(actions, "answer", answer_slowly):
            self.assertRedirects(self.answer(run, 3, 4), reverse("practice:run", args=[run.pk]))
        run.refresh_from_db()
        self.assertEqual(run.answer["low"], 1.0)

    def test_an_answer_is_given_once(self):
        run = self.begun()
        self.assertContains(self.answer(run, 9, 2), "lies under", status_code=422)
        self.answer(run, 500, 900)
        self.answer(run, 1, 2)
        run.refresh_from_db()
        self.assertEqual(run.answer["low"], 500.0)
        self.assertEqual(self.do(run, do="spot", loads="Cold box").status_code, 422)

    def test_tries_and_doings_are_bounded(self):
        run = self.begun()
        DrillRun.objects.filter(pk=run.pk).update(doings=[{"do": "wait", "hours": 0.01}] * 60)
        self.assertContains(
            self.do(run, do="spot", loads="Cold box"), "answer now", status_code=422
        )
        DrillRun.objects.bulk_create(
            DrillRun(owner=self.user, document=DRILLS[0], shipped=1) for _ in range(199)
        )
        answer = self.client.post(reverse("practice:begin", args=[3]), follow=True)
        self.assertContains(answer, "You have 200 tries: remove some")
        self.assertEqual(DrillRun.objects.visible_to(self.user).count(), 200)

    def test_actions_are_listed_with_their_figures(self):
        run = self.begun(PUMP)
        self.do(run, do="spot", loads="Pump")
        self.do(run, do="start", loads="Pump")
        run.refresh_from_db()
        level, start = run.session().readings["Pump"][-2:]
        page = self.page(run)
        for said in (
            f"PF {level['pf']:.2f}",
            as_read(level["watts"], "W"),
            f"start: {as_read(start['amps'], 'A')}",
        ):
            self.assertContains(page, said)

    def test_a_teachers_file(self):
        def take(content):
            file = SimpleUploadedFile("drill.json", content)
            return self.client.post(reverse("practice:index"), {"file": file})

        own = {**DRILLS[0], "name": "From the teacher"}
        self.assertEqual(take(json.dumps(own).encode()).status_code, 302)
        run = DrillRun.objects.get(owner=self.user)
        self.assertContains(self.page(run), "From the teacher")
        handed = self.client.get(reverse("practice:download", args=[run.pk]))
        self.assertEqual(json.loads(handed.content)["name"], "From the teacher")
        for wrong in (b"{", b"[]", b'{"ask": "moon"}', b'{"ask": "day", "limit": "x"}', b"\xff"):
            self.assertEqual(take(wrong).status_code, 422)

    def test_nobody_sees_anothers_try(self):
        theirs = DrillRun.objects.create(owner=self.other, document=DRILLS[0], shipped=1)
        for name in ("run", "download"):
            url = reverse(f"practice:{name}", args=[theirs.pk])
            self.assertEqual(self.client.get(url).status_code, 404)
        for name in ("do", "answer", "remove"):
            url = reverse(f"practice:{name}", args=[theirs.pk])
            self.assertEqual(self.client.post(url).status_code, 404)
        self.assertEqual(
            self.client.post(reverse("practice:begin", args=[len(DRILLS) + 1])).status_code, 404
        )
