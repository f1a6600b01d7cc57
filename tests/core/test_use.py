"""When loads are used, as people write it."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from needle.document import DocumentError
from needle.measure.readings import parse
from needle.plan.use import (
    steps_from_text,
    steps_of,
    text_of_steps,
    text_of_use,
    use_from_text,
)
from needle.profile.profile import LoadRecord, derive

CLOCK = st.builds("{:02d}:{:02d}".format, st.integers(0, 23), st.integers(0, 59))


class UseTextTest(unittest.TestCase):
    def test_hours(self):
        self.assertEqual(
            use_from_text("18:00–22:30, 7-9 and 12 to 12:30"),
            {"between": [["18:00", "22:30"], ["07:00", "09:00"], ["12:00", "12:30"]]},
        )
        self.assertEqual(use_from_text("22-24"), {"between": [["22:00", "00:00"]]})
        self.assertEqual(use_from_text(" Always "), {})
        self.assertEqual(use_from_text(""), {})

    def test_tasks(self):
        self.assertEqual(use_from_text("at 20:15, 7"), {"tasks": ["20:15", "07:00"]})
        self.assertEqual(use_from_text("20.15"), {"tasks": ["20:15"]})
        self.assertEqual(
            use_from_text("2027-02-10 12:30; 18"), {"tasks": ["2027-02-10T12:30", "18:00"]}
        )

    def test_so_many_a_day(self):
        self.assertEqual(use_from_text("2 a day"), {"tasks": ["11:00", "17:00"]})
        self.assertEqual(use_from_text("once a day"), {"tasks": ["14:00"]})
        self.assertEqual(use_from_text("3x per day"), {"tasks": ["10:00", "14:00", "18:00"]})

    def test_once_with_a_date(self):
        self.assertEqual(
            use_from_text("2027-02-10 18:00–20:00"),
            {"between": [["2027-02-10T18:00", "2027-02-10T20:00"]]},
        )
        self.assertEqual(
            use_from_text("2027-02-10 22:00 to 2027-02-11 02:00"),
            {"between": [["2027-02-10T22:00", "2027-02-11T02:00"]]},
        )

    def test_refusals_name_the_part(self):
        for text, said in (
            ("evenings", "evenings"),
            ("25:00-26:00", "beyond 24:00"),
            ("7-7", "same time"),
            ("18:00-24:30", "beyond 24:00"),
            ("18-20, 19-21", "overlaps"),
            ("20:15, 18:00-19:00", "18:00-19:00"),
            ("0 a day", "give 1 to 100"),
            ("101 a day", "give 1 to 100"),
            ("2027-02-31 12:30", "calendar"),
            ("2027-02-10 18:00-17:00", "before it begins"),
        ):
            with self.subTest(text=text), self.assertRaises(DocumentError) as caught:
                use_from_text(text)
            self.assertIn(said, str(caught.exception))

    @given(st.lists(CLOCK, min_size=1, max_size=5))
    def test_tasks_come_back(self, moments):
        use = {"tasks": moments}
        self.assertEqual(use_from_text(text_of_use(use)), use)

    @given(CLOCK, CLOCK)
    def test_hours_come_back(self, first, last):
        if first != last:
            use = {"between": [[first, last]]}
            self.assertEqual(use_from_text(text_of_use(use)), use)


class StepsTest(unittest.TestCase):
    def test_text(self):
        steps = steps_from_text("1480 W 12 min; 1,48 kW 1/3 h 40 %, 300W for 15 min")
        self.assertEqual(
            [(one["watts"], round(one["minutes"], 6), one["duty"]) for one in steps],
            [(1480, 12, 1), (1480, 20, 0.4), (300, 15, 1)],
        )

    def test_text_comes_back(self):
        text = "1480 W 12 min; 1480 W 20 min 40 %; 300 W 15 min"
        self.assertEqual(text_of_steps(steps_from_text(text)), text)
        self.assertEqual(steps_from_text(" "), [])

    def test_refusals(self):
        for text in ("hot", "1480 W", "1480 W 12 W", "300 W 0 min", "300 W 5 min 0 %", "5 min 3 W"):
            with self.subTest(text=text), self.assertRaises(DocumentError):
                steps_from_text(text)

    def test_of_a_measured_task(self):
        readings = [
            {"type": "spot", "state": "heating", "watts": 1480},
            {"type": "task", "wh": 592, "minutes": 48},
        ]
        record = LoadRecord("Autoclave", "resistive-heat", tuple(map(parse, readings)))
        (step,) = steps_of(derive(record))
        self.assertEqual(step["watts"], 1480)
        self.assertAlmostEqual(step["minutes"], 48)
        self.assertAlmostEqual(step["duty"], 0.5)

    def test_no_task_no_steps(self):
        record = LoadRecord(
            "Lamp", "led", (parse({"type": "spot", "state": "running", "watts": 9}),)
        )
        self.assertEqual(steps_of(derive(record)), [])
