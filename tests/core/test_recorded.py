"""What captures add to a profile, and captures that are put together."""

import unittest
from datetime import UTC, datetime

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from needle.document import DocumentError
from needle.measure.capture import Capture, concatenate, header_of
from needle.measure.readings import parse
from needle.profile import recorded
from needle.profile.energy import Watched
from needle.profile.kinds import KINDS
from needle.profile.profile import derive
from needle.profile.record import LoadRecord

CYCLING = {
    "type": "capture",
    "pattern": "cycling",
    "covered_h": 12.0,
    "wh": 400.0,
    "idle_w": 2.0,
    "running_w": 92.0,
    "cycle_mean_w": 33.0,
    "duty": 0.345,
    "duty_spread": 0.03,
    "whole_cycles": 15,
    "period_min": 47.0,
    "start_peak_w": 400.0,
    "power_factor": 0.62,
    "interval_s": 1.0,
}


def capture(**changes):
    return parse({**CYCLING, **changes})


#: How a cold box is taken to behave between readings.
WATCHED = Watched(KINDS["compressor-fixed"], 0.07, 47.0, 0.35)


class GradeTest(unittest.TestCase):
    def test_cycles_hours_and_steadiness(self):
        for changes, grade in [
            ({}, "B"),
            ({"whole_cycles": 40}, "B"),
            ({"whole_cycles": 5, "covered_h": 24.0}, "A"),
            ({"pattern": "steady", "whole_cycles": 0, "covered_h": 2.5}, "A"),
            ({"pattern": "steady", "whole_cycles": 0, "covered_h": 1.5}, "B"),
            ({"pattern": "modulating", "whole_cycles": 0, "covered_h": 12.0}, "B"),
        ]:
            with self.subTest(changes=changes):
                self.assertEqual(recorded.grade_of(capture(**changes)), grade)


class MeanTest(unittest.TestCase):
    def test_whole_cycles_before_what_was_covered(self):
        self.assertAlmostEqual(recorded.mean_of([capture()], WATCHED).value, 33.0)
        rarer = recorded.mean_of([capture(rarer=True)], WATCHED)
        self.assertAlmostEqual(rarer.value, 400 / 12)

    def test_the_better_grade_speaks(self):
        day = capture(covered_h=24.0)
        both = recorded.mean_of([day, capture(whole_cycles=2, cycle_mean_w=90.0)], WATCHED)
        self.assertAlmostEqual(both.value, 33.0)

    def test_nothing_from_nothing(self):
        self.assertIsNone(recorded.mean_of([], WATCHED))
        self.assertIsNone(recorded.cycles_of([]))
        self.assertEqual(recorded.states_of([]), [])

    @given(st.floats(0.5, 200), st.integers(0, 50))
    def test_more_of_it_never_widens(self, hours, cycles):
        less = recorded.mean_of([capture(covered_h=hours, whole_cycles=cycles)], WATCHED)
        more = recorded.mean_of([capture(covered_h=2 * hours, whole_cycles=2 * cycles)], WATCHED)
        self.assertLessEqual(more.spread, less.spread + 1e-12)


class ProfileTest(unittest.TestCase):
    def profile(self, *readings, kind="compressor-fixed"):
        return derive(LoadRecord("Box", kind, tuple(map(parse, readings))))

    def test_a_capture_beats_a_spot_of_the_same_state(self):
        profile = self.profile(CYCLING, {"type": "spot", "watts": 120.0})
        self.assertAlmostEqual(profile.running_w.value, 92.0)
        self.assertLess(profile.running_w.spread, 0.03)

    def test_its_cycles_stand_for_the_counter_too(self):
        run = {"type": "energy", "wh": 280.0, "hours": 8.5}
        few = {**CYCLING, "whole_cycles": 3, "covered_h": 2.5}
        self.assertAlmostEqual(self.profile(few, run).cycle_min, 47.0)

    def test_a_program_is_a_task_over_its_active_span(self):
        program = {
            "type": "capture",
            "pattern": "program",
            "covered_h": 2.0,
            "active_h": 0.8,
            "wh": 600.0,
        }
        profile = self.profile(program, kind="resistive-heat")
        self.assertAlmostEqual(profile.task_wh.value, 600.0)
        self.assertAlmostEqual(profile.mean_w.value, 750.0)
        days = {**program, "covered_h": 48.0, "active_h": 47.0}
        self.assertIsNone(self.profile(days, kind="resistive-heat").task_wh)

    def test_settings_of_captures_are_kept_apart(self):
        low = {**CYCLING, "setting": "low", "running_w": 40.0, "cycle_mean_w": 15.0}
        high = {**CYCLING, "setting": "high"}
        record = LoadRecord("Mat", "thermostat-heat", (parse(low), parse(high)), setting="low")
        profile = derive(record)
        self.assertAlmostEqual(profile.mean_w.value, 15.0)
        self.assertAlmostEqual(profile.running_w.value, 40.0)


class JoinTest(unittest.TestCase):
    BEGIN = 1_800_000_000.0

    def part(self, first, watts, **columns):
        time = self.BEGIN + first + np.arange(len(watts), dtype=float)
        return Capture(time, {"watts": np.array(watts, dtype=float), **columns})

    def test_late_overlapping_and_repeated_parts(self):
        capture = concatenate(
            [
                self.part(10, [5, 6, 7]),
                self.part(0, [1, 2, 3]),
                self.part(10, [5, 6, 7]),
                self.part(2, [3, 4]),
            ]
        )
        np.testing.assert_allclose(capture.time_s, [0, 1, 2, 3, 10, 11, 12])
        np.testing.assert_allclose(capture.columns["watts"], [1, 2, 3, 4, 5, 6, 7])
        self.assertEqual(capture.start, datetime.fromtimestamp(self.BEGIN, UTC))

    def test_a_column_that_a_part_lacks_is_missing_there(self):
        capture = concatenate(
            [self.part(0, [1, 2], volts=np.array([230.0, 231.0])), self.part(5, [3, 4])]
        )
        self.assertEqual(np.isnan(capture.columns["volts"]).tolist(), [False, False, True, True])

    def test_too_little(self):
        with self.assertRaises(DocumentError):
            concatenate([self.part(0, [1])])
        with self.assertRaises(DocumentError):
            concatenate([Capture(np.zeros(0), {"watts": np.zeros(0)})])


class HeaderTest(unittest.TestCase):
    def test_as_written(self):
        for text in ("when;x (W);y\n1;2;3\n", b"\xef\xbb\xbfwhen;x (W);y\r\n1;2;3\n"):
            self.assertEqual(header_of(text), ["when", "x (W)", "y"])
        with self.assertRaises(DocumentError):
            header_of(b"\r\n\r\n")
