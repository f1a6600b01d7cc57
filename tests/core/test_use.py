"""When loads are used, as people write it."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from needle.document import DocumentError
from needle.measure.readings import parse
from needle.plan.documents.measured import load_document, steps_of
from needle.profile.profile import derive
from needle.profile.record import LoadRecord
from needle.usage.schedule import (
    copied_block,
    moved_block,
    steps_from_text,
    stretched_block,
    text_of_steps,
    text_of_use,
    use_from_text,
    without_block,
)

CLOCK = st.builds("{:02d}:{:02d}".format, st.integers(0, 23), st.integers(0, 59))


class UseTextTest(unittest.TestCase):
    def test_hours(self):
        self.assertEqual(
            use_from_text("18:00–22:30, 7-9 and 12 to 12:30"),
            {"between": [["18:00", "22:30"], ["07:00", "09:00"], ["12:00", "12:30"]]},
        )
        self.assertEqual(
            use_from_text("6 pm–10:30 p.m., 12am-2 am"),
            {"between": [["18:00", "22:30"], ["00:00", "02:00"]]},
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

    def test_a_number_of_tasks_per_day(self):
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
            [(step["watts"], round(step["minutes"], 6), step["duty"]) for step in steps],
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

    def test_a_measured_load_as_a_plan_has_it(self):
        readings = [
            {"type": "spot", "state": "running", "watts": 92.4},
            {"type": "spot", "state": "resting", "watts": 1.8},
            {"type": "energy", "wh": 710, "hours": 21.5, "step_wh": 10},
        ]
        record = LoadRecord("Box", "compressor-fixed", tuple(map(parse, readings)))
        load = load_document(derive(record), "Box")
        self.assertAlmostEqual(load["duty"], 0.3446, places=3)
        self.assertAlmostEqual(
            load["resting_w"] + load["duty"] * (load["running_w"] - load["resting_w"]),
            710 / 21.5,
            delta=0.05,
        )


HOURS = {"between": [["18:00", "22:30"], ["07:00", "09:00"]]}
TASKS = {"tasks": ["20:15", "2027-02-10T23:30"]}


class BlockTest(unittest.TestCase):
    def test_moving(self):
        self.assertEqual(
            moved_block(HOURS, 0, 90), {"between": [["19:30", "00:00"], ["07:00", "09:00"]]}
        )
        self.assertEqual(moved_block(TASKS, 0, -30)["tasks"][0], "19:45")
        self.assertEqual(moved_block(TASKS, 1, 60)["tasks"][1], "2027-02-11T00:30:00")
        self.assertEqual(HOURS["between"][0], ["18:00", "22:30"])

    def test_stretching(self):
        self.assertEqual(stretched_block(HOURS, 0, 30, True)["between"][0], ["18:00", "23:00"])
        self.assertEqual(stretched_block(HOURS, 0, -60, False)["between"][0], ["17:00", "22:30"])
        for by_min, end, said in (
            (-270, True, "5 min"),
            (270, False, "5 min"),
            (1200, True, "day"),
        ):
            with self.subTest(by_min=by_min), self.assertRaises(DocumentError) as caught:
                stretched_block(HOURS, 0, by_min, end)
            self.assertIn(said, str(caught.exception))
        with self.assertRaises(DocumentError):
            stretched_block(TASKS, 0, 15, True)

    def test_overlaps_are_refused(self):
        with self.assertRaises(DocumentError) as caught:
            moved_block(HOURS, 1, 11 * 60)
        self.assertIn("overlaps", str(caught.exception))

    def test_another_and_without(self):
        self.assertEqual(copied_block(HOURS, 1, 60)["between"][2], ["10:00", "12:00"])
        self.assertEqual(copied_block(TASKS, 0, 120)["tasks"][2], "22:15")
        self.assertEqual(without_block(TASKS, 0), {"tasks": ["2027-02-10T23:30"]})
        self.assertEqual(without_block({"tasks": ["20:15"]}, 0), {})
        with self.assertRaises(DocumentError):
            copied_block({"tasks": ["20:15", "22:15"]}, 0, 120)
        for change in (lambda: without_block(TASKS, 2), lambda: moved_block({}, 0, 15)):
            with self.assertRaises(DocumentError):
                change()

    @given(st.integers(-2000, 2000), CLOCK, CLOCK)
    def test_there_and_back(self, by_min, first, last):
        if first != last:
            use = {"between": [[first, last]]}
            self.assertEqual(moved_block(moved_block(use, 0, by_min), 0, -by_min), use)
