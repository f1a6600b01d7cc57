"""Over the years: what counts when readings of one thing disagree across time."""

import math
import unittest
from datetime import date, datetime, timedelta

import numpy as np

from needle.document import DocumentError
from needle.estimate import Estimate
from needle.measure.readings import parse
from needle.profile.document import parse_load
from needle.profile.profile import derive
from needle.supply.ageing import Held, ageing_of, course_message
from needle.supply.supply import aged, held_over_time, parse_supply
from needle.words import text_of


def run(month, mean_w, **more):
    return {"type": "energy", "wh": mean_w * 48, "hours": 48, "at": f"{month}-10", **more}


def profile(*readings, **more):
    return derive(
        parse_load({"name": "Box", "kind": "compressor-fixed", "readings": list(readings), **more})
    )


class CourseTest(unittest.TestCase):
    def test_a_worn_seal_is_not_averaged(self):
        worn = profile(
            run("2024-03", 30), run("2024-09", 31), run("2026-02", 48), run("2026-06", 47)
        )
        self.assertAlmostEqual(worn.mean_w.value, 47.5, delta=0.5)
        self.assertIn(
            "since some time between September 2024 and February 2026", text_of(worn.change.notice)
        )
        self.assertAlmostEqual(worn.change.ratio, 47.5 / 30.5, delta=0.03)
        self.assertIn(worn.change.notice, worn.notices)
        self.assertEqual(len(worn.course), 4)

    def test_what_days_may_explain_is_pooled(self):
        steady = profile(run("2024-03", 30), run("2025-03", 33), run("2026-02", 31))
        self.assertIsNone(steady.change)
        self.assertAlmostEqual(steady.mean_w.value, 31.3, delta=1)

    def test_another_room_is_no_change(self):
        rooms = [run("2025-01", 30, room_c=18), run("2025-07", 52, room_c=30)]
        self.assertIsNone(profile(*rooms, set_c=4).change)
        # The same figures in one room are one.
        self.assertIsNotNone(
            profile(run("2025-01", 30, room_c=22), run("2025-07", 52, room_c=22), set_c=4).change
        )

    def test_the_latest_of_several_changes_counts(self):
        twice = profile(
            *(
                run(month, watts)
                for month, watts in (
                    ("2022-01", 30),
                    ("2022-06", 30),
                    ("2023-06", 60),
                    ("2024-01", 60),
                    ("2025-06", 33),
                    ("2025-12", 32),
                )
            )
        )
        self.assertAlmostEqual(twice.mean_w.value, 32.5, delta=0.5)
        self.assertLess(twice.change.ratio, 0.7)

    def test_undated_readings_go_on_to_count_without_a_change(self):
        undated = {key: value for key, value in run("2024-03", 30).items() if key != "at"}
        both = profile(undated, run("2025-03", 33))
        self.assertEqual(both.course[0].at, datetime.fromisoformat("2025-03-10T00:00+00:00"))
        self.assertAlmostEqual(both.mean_w.value, 31.5, delta=0.5)

    def test_an_undated_counter_is_left_out_after_a_change_and_said(self):
        undated = {key: value for key, value in run("2024-03", 30).items() if key != "at"}
        worn = profile(undated, run("2024-03", 30), run("2026-02", 48))
        self.assertAlmostEqual(worn.mean_w.value, 48, delta=0.5)
        self.assertIn("A counter or capture has no date", " ".join(map(text_of, worn.notices)))

    def test_false_alarms_are_one_in_ten_at_most(self):
        """Boxes that did not change, whose days differ by 7 % and whose rooms were noted."""
        rng, alarms = np.random.default_rng(4), 0
        for _ in range(200):
            steady = profile(
                *(
                    run(
                        f"{2020 + year}-05",
                        40 * math.exp(0.07 / math.sqrt(2) * rng.standard_normal()),
                        room_c=22,
                    )
                    for year in range(4)
                ),
                set_c=4,
            )
            alarms += steady.change is not None
        self.assertLess(alarms / 200, 0.13)

    def test_a_day_that_is_none_is_refused(self):
        with self.assertRaisesRegex(DocumentError, "at: .*is not a time"):
            parse(run("last-year", 30))


class AgeingTest(unittest.TestCase):
    def held(self, *shares, spread=0.01):
        return [
            Held(date(2022, 6, 1) + timedelta(days=365 * year), Estimate(share, spread, "A"))
            for year, share in enumerate(shares)
        ]

    def test_a_fall_that_is_real(self):
        ageing = ageing_of(self.held(0.97, 0.94, 0.91), "lfp")
        self.assertTrue(ageing.real)
        self.assertAlmostEqual(ageing.yearly, 0.03, delta=0.005)
        words = text_of(course_message(self.held(0.97, 0.94, 0.91), ageing))
        self.assertIn("97 % in June 2022, 91 % in May 2024: it loses", words)
        self.assertIn("In a year reckon with 88 %", words)

    def test_what_tests_cannot_show_stays_general(self):
        tests = self.held(0.97, 0.96, spread=0.04)
        ageing = ageing_of(tests, "lead")
        self.assertFalse(ageing.real)
        self.assertIn(
            "no change that these tests could show", text_of(course_message(tests, ageing))
        )
        self.assertEqual(ageing_of(self.held(0.97), "lfp").yearly, 0.02)

    def test_a_plan_next_year_includes_ageing(self):
        supply = parse_supply(
            {
                "battery": {"chemistry": "lfp", "nominal_wh": 1000},
                "tests": [
                    {
                        "type": "capacity",
                        "wh": 950,
                        "hours": 20,
                        "to": 0,
                        "step": 0,
                        "on": "2025-05-01",
                    }
                ],
            }
        )
        self.assertEqual(len(held_over_time(supply)), 1)
        self.assertIs(aged(supply, date(2025, 6, 1)), supply)
        later = aged(supply, date(2027, 5, 1)).battery.state_of_health
        self.assertAlmostEqual(later.value, 0.95 * math.exp(-0.04), delta=0.001)
        self.assertGreater(later.spread, supply.battery.state_of_health.spread)
        self.assertIn("aged 2.0 years", text_of(later.how[-1]))

    def test_a_day_that_is_none_is_refused(self):
        with self.assertRaisesRegex(DocumentError, "is not a day"):
            parse_supply(
                {
                    "battery": {"chemistry": "lfp", "nominal_wh": 1000},
                    "tests": [{"type": "idle", "watts": 3, "on": "soon"}],
                    "inverter": {"continuous_w": 100},
                }
            )
