"""What a run taught: figures before and after it."""

import unittest

from needle.document import DocumentError
from needle.trial.lessons import lessons_of
from needle.words import text_of
from tests.core.test_runs import BOX, LAMP, PLAN


def lessons(run, **changes):
    return lessons_of({**PLAN, **changes}, {"to": 0.1, "why": "floor", "loads": ["Box"], **run})


class LessonsTest(unittest.TestCase):
    def test_the_same_plan_again_lasts_as_the_run_did(self):
        taught = lessons({"hours": 45})
        self.assertAlmostEqual(taught.hours.after[1], 45, delta=1)
        self.assertGreater(taught.hours.narrowed, 0.8)
        self.assertTrue(taught.used)

    def test_each_figure_has_its_name_unit_and_load(self):
        taught = lessons({"hours": 45, "wh": 2500})
        by_text = {text_of(lesson.said): lesson for lesson in taught.lessons}
        battery = by_text["The battery holds"]
        # 2500 Wh for nine tenths of it, where 0.93 of 3000 were expected.
        self.assertAlmostEqual(battery.after[1], 2500 / 0.9, delta=40)
        self.assertEqual((battery.unit, battery.load), ("Wh", ""))
        box = by_text["Box draws on average while in use"]
        self.assertEqual((box.unit, box.load), ("W", "Box"))
        self.assertLess(box.after[2] / box.after[0], box.before[2] / box.before[0])

    def test_the_narrowest_first_and_nothing_of_what_did_not_run(self):
        lamp = {**LAMP, "use": {"between": [["18:00", "20:00"]]}}
        taught = lessons({"hours": 45, "wh": 2500}, loads=[BOX, lamp])
        self.assertNotIn("Lamp", [lesson.load for lesson in taught.lessons])
        narrowed = [lesson.narrowed for lesson in taught.lessons]
        self.assertEqual(narrowed, sorted(narrowed, reverse=True))

    def test_what_stays_open_is_named(self):
        taught = lessons({"hours": 45}, loads=[BOX, LAMP])
        self.assertIn("Lamp", [narrowing.what for narrowing in taught.open])

    def test_a_run_that_fits_nothing_taught_nothing(self):
        taught = lessons({"hours": 1.0})
        self.assertFalse(taught.used)
        self.assertEqual(taught.lessons, ())
        for before, after in zip(taught.hours.before, taught.hours.after, strict=True):
            self.assertAlmostEqual(before, after, delta=0.03 * before)

    def test_a_run_that_cannot_be(self):
        with self.assertRaisesRegex(DocumentError, r"runs\[0\]"):
            lessons({"hours": 3, "to": 1.0})
