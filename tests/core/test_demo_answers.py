"""Every load, plan and trial of the demo is answered as it was when the answers were kept."""

from unittest import TestCase

from tests.demo_answers import answer, kept, rounded


class DemoAnswersTest(TestCase):
    def test_no_figure_has_moved(self):
        self.assertGreater(len(kept()), 20)
        for item in kept():
            document = item["document"]
            with self.subTest(kind=item["kind"], name=document.get("name")):
                self.assertEqual(rounded(answer(item["kind"], document)), item["answer"])
