"""A finished trial as a run that plans can rest on."""

import unittest

from needle.trial.finished_run import run_of
from needle.trial.trial import parse_trial

SUPPLY = {"battery": {"chemistry": "lfp", "nominal_wh": 1000, "volts": 12.8}}


def made(why="floor", check_ins=(), hours=20.0, **more):
    ended = {"ended": {"h": hours, "why": why}} if why else {}
    return run_of(
        parse_trial(
            {"supply": SUPPLY, "stop_at": 0.1, "check_ins": list(check_ins), **ended, **more}
        )
    )


UNKNOWN_LEGS = "it is not known what ran in its legs: say which loads were on, or the watts read"


class MadeTest(unittest.TestCase):
    def test_ends_at_floor_and_cut_off(self):
        self.assertEqual((made().hours, made().start, made().end), (20.0, 1.0, 0.1))
        self.assertEqual(made("cutoff").end, 0.0)

    def test_a_count_near_the_end_stands_for_it(self):
        late = made(check_ins=[{"h": 10, "wh": 400}, {"h": 19.9, "wh": 830}])
        self.assertEqual((late.wh, late.counted_h), (830, 19.9))
        earlier = made(check_ins=[{"h": 14, "wh": 600}])
        self.assertEqual((earlier.wh, earlier.counted_h), (600, 14))
        self.assertIsNone(made(check_ins=[{"h": 9, "wh": 400}]).wh)

    def test_by_hand_the_charge_must_have_been_read(self):
        self.assertEqual(made("by hand", [{"h": 19.8, "percent": 35}]).end, 0.35)
        for seen in ([], [{"h": 15, "percent": 35}], [{"h": 20, "percent": 98}]):
            self.assertEqual(made("by hand", seen), "its charge at the end was not read")

    def test_what_was_put_in_is_counted_or_read_now_and_then(self):
        counted = made(check_ins=[{"h": 9, "wh_in": 200}, {"h": 19, "wh_in": 310}])
        self.assertEqual((counted.wh_in, counted.wh_in_spread), (310, 0.03))
        looks = [{"h": hour, "watts_in": watts} for hour, watts in ((5, 0), (10, 100), (15, 100))]
        self.assertIsNone(made(check_ins=looks).wh_in)
        read = made(check_ins=[*looks, {"h": 20, "watts_in": 0}])
        self.assertAlmostEqual(read.wh_in, 250 + 500 + 250)
        self.assertGreater(read.wh_in_spread, 0.1)

    def test_what_is_none(self):
        self.assertEqual(made("trip"), "it tripped")
        self.assertEqual(made(""), "it still runs")
        self.assertEqual(made(check_ins=[{"h": 5, "leg": "outdoors"}]), UNKNOWN_LEGS)
