"""Trials: reading them, forecasting the stop, what the end proved."""

from __future__ import annotations

import copy
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from needle.document import DocumentError
from needle.plan.document import parse_plan
from needle.plan.simulate import simulate
from needle.supply.display import KNEE, charge_shown, slope, true_charge
from needle.trial.forecast import as_document, forecast
from needle.trial.trial import expected_of, parse_trial
from tests.core.exact import exact
from tests.core.twins import DISPLAYS, household, trial_of

BASE = {
    "supply": {"battery": {"chemistry": "lfp", "nominal_wh": 1000, "volts": 12.8,
                           "capacity_factor": 0.95, "capacity_spread": 0.04}},
    "expected_w": {"value": 40, "spread": 0.25},
}  # fmt: skip


def found(check_ins=(), **change):
    data = {**copy.deepcopy(BASE), "check_ins": list(check_ins), **change}
    return forecast(parse_trial(data))


def width(one):
    return one.stop_h[2] - one.stop_h[0]


class ReadingTest(unittest.TestCase):
    def refused(self, said, **change):
        with self.assertRaises(DocumentError) as caught:
            parse_trial({**copy.deepcopy(BASE), **change})
        self.assertIn(said, str(caught.exception))

    def test_check_ins_are_sorted_and_read(self):
        trial = parse_trial(
            {**BASE, "check_ins": [{"h": 5, "percent": 80}, {"h": 2, "bars": 4, "of": 5}]}
        )
        self.assertEqual([check_in.h for check_in in trial.check_ins], [2, 5])
        self.assertEqual([check_in.shown for check_in in trial.check_ins], [0.7, 0.8])
        self.assertIsNone(trial.ended)

    def test_refusals(self):
        for said, check in (
            ("before the start", {"h": -1}),
            ("too large: at most 100", {"h": 1, "percent": 101}),
            ("6 of 5", {"h": 1, "bars": 6, "of": 5}),
            ("is needed beside bars", {"h": 1, "bars": 3}),
            ("is needed", {"percent": 50}),
            ("whole number", {"h": 1, "bars": 2.5, "of": 5}),
            ("did you mean “percent”", {"h": 1, "percnt": 50}),
            ("at least 0", {"h": 1, "wh": -5}),
            ("at most 744", {"h": 800}),
        ):
            with self.subTest(said=said):
                self.refused(said, check_ins=[check])
        self.refused(
            "two legs begin at 3 h", check_ins=[{"h": 3, "leg": "a"}, {"h": 3, "leg": "b"}]
        )
        self.refused("not below the start", start_charge=0.3, stop_at=0.3)
        self.refused("one of floor", ended={"h": 5, "why": "bored"})
        self.refused("before the check-in", ended={"h": 5, "why": "trip"}, check_ins=[{"h": 6}])
        self.refused("adds up to nothing", expected_w={"by_hour": [-3, 2]})

    def test_without_anything_to_go_by_it_says_so(self):
        data = {"supply": BASE["supply"], "check_ins": [{"h": 2, "note": "still humming"}]}
        with self.assertRaises(DocumentError) as caught:
            forecast(parse_trial(data))
        self.assertIn("until the first check-in", str(caught.exception))


class DisplayTest(unittest.TestCase):
    @given(st.floats(0, 1), st.floats(*KNEE))
    def test_there_and_back(self, shown, knee):
        self.assertAlmostEqual(float(charge_shown(true_charge(shown, knee), knee)), shown)

    def test_the_last_fifth_is_shorter(self):
        self.assertAlmostEqual(float(true_charge(0.2, 0.15)), 0.15)
        self.assertLess(slope(0.1, np.array(0.15)), slope(0.5, np.array(0.15)))


class PriorTest(unittest.TestCase):
    def test_the_plan_alone(self):
        one = found()
        low, mid, high = one.stop_h
        self.assertAlmostEqual(mid, 950 / 40, delta=1)
        self.assertLess(low, 950 / 50)
        self.assertGreater(high, 950 / 32)
        self.assertEqual((one.now_h, one.remaining_h), (0.0, one.stop_h))

    def test_by_the_hour(self):
        one = found(expected_w={"by_hour": [100] * 5 + [20] * 19, "spread": 0.03})
        exact = 5 + (950 - 500) / 20
        # After the plan's 24 h it goes on at their mean.
        late = 24 + (950 - 500 - 380) / (880 / 24)
        self.assertGreater(exact, 24)
        self.assertAlmostEqual(one.stop_h[1], late, delta=1)

    def test_an_outcome_as_an_expectation(self):
        plan = parse_plan(exact({
            "hours": 40, "supply": {**BASE["supply"], "inverter": {"continuous_w": 500, "idle_w": 5,
                                                                   "efficiency": 0.9}},
            "loads": [{"name": "Box", "running_w": 45, "spread": 0.2}],
        }))  # fmt: skip
        outcome = simulate(plan, 100)
        expected = expected_of(outcome)
        self.assertAlmostEqual(expected["by_hour"][0], 55, delta=0.5)
        self.assertAlmostEqual(expected["spread"], 0.2 * 50 / 55, delta=0.04)


class CheckInTest(unittest.TestCase):
    def test_percent(self):
        # 30 W in place of the expected 40.
        checks = [{"h": h, "percent": round(100 - 100 * 30 * h / 950)} for h in (4, 8, 12)]
        one = found(checks)
        self.assertAlmostEqual(one.mean_w[1], 30, delta=2.5)
        self.assertAlmostEqual(one.used_wh, 360, delta=25)
        self.assertTrue(one.stop_h[0] < 950 / 30 < one.stop_h[2] + 1)
        self.assertLess(width(one), width(found()))

    def test_counted_energy_tells_the_watts_but_not_what_is_held(self):
        checks = [{"h": h, "wh": 30.0 * h} for h in (4, 8, 12, 16)]
        one = found(checks)
        self.assertAlmostEqual(one.mean_w[1], 30, delta=1)
        share = (one.held_wh[2] - one.held_wh[0]) / one.held_wh[1]
        self.assertAlmostEqual(share, 2 * 1.2816 * 0.04, delta=0.03)

    def test_amp_hours_go_by_the_volts(self):
        by_ah = found([{"h": 10, "ah": 300 / 12.8}])
        by_wh = found([{"h": 10, "wh": 300}])
        self.assertAlmostEqual(by_ah.used_wh, by_wh.used_wh, delta=5)

    def test_bars_say_little_and_percent_more(self):
        bars = found([{"h": 10, "bars": 4, "of": 5}])
        percent = found([{"h": 10, "percent": 70}])
        self.assertLess(width(percent), width(bars))
        self.assertLess(width(bars), width(found()))

    def test_lithium_iron_volts_say_almost_nothing_in_the_middle(self):
        middle, low = (found([{"h": 10, "volts": v}]) for v in (13.2, 12.2))
        self.assertAlmostEqual(middle.used_wh, 400, delta=60)
        self.assertGreater(low.used_wh, middle.used_wh + 100)

    def test_watts_of_a_moment_pull_a_little(self):
        self.assertTrue(40 < found([{"h": 1, "watts": 90}]).mean_w[1] < 60)

    def test_a_new_leg_is_what_the_forecast_speaks_of(self):
        before = [{"h": 5, "wh": 300}, {"h": 10, "wh": 600}]
        after = [{"h": 10.0, "leg": "heat off"}, {"h": 14, "wh": 640}, {"h": 18, "wh": 680}]
        one = found(before + after)
        self.assertEqual([leg.name for leg in one.legs], ["start", "heat off"])
        self.assertAlmostEqual(one.legs[0].mean_w, 60, delta=3)
        self.assertAlmostEqual(one.legs[1].mean_w, 10, delta=2)
        self.assertGreater(one.stop_h[1], 18 + 200 / 13)

    def test_a_charge_that_rises_is_asked_about_and_not_counted(self):
        checks = [{"h": 10, "percent": 60}, {"h": 11, "percent": 75}]
        one = found(checks)
        self.assertIn("was it charged", one.notices[0])
        self.assertAlmostEqual(one.used_wh, 400 + 40, delta=60)

    def test_a_counter_that_falls_was_reset(self):
        one = found([{"h": 10, "wh": 400}, {"h": 11, "wh": 30}])
        self.assertIn("was it reset", one.notices[0])

    def test_the_last_fifth_is_said(self):
        one = found([{"h": 19, "percent": 21}])
        self.assertIn("last fifth", one.notices[-1])

    def test_that_it_still_runs_is_news(self):
        late = found([{"h": 26, "watts": 40}])
        self.assertGreaterEqual(late.stop_h[0], 26)
        self.assertGreater(late.held_wh[1], found().held_wh[1])

    @settings(max_examples=25)
    @given(st.lists(st.floats(0.2, 0.95), min_size=1, max_size=6, unique=True), st.integers(0, 5))
    def test_more_check_ins_never_make_nonsense(self, places, seed):
        checks = [{"h": 24 * p, "percent": round(100 * (1 - p))} for p in places]
        one = forecast(parse_trial({**BASE, "check_ins": checks}), seed)
        low, mid, high = one.stop_h
        self.assertTrue(one.now_h <= low <= mid <= high)
        self.assertTrue(0 <= one.charge[0] <= one.charge[2] <= 1)
        for _, *shares in one.fan:
            self.assertEqual(shares, sorted(shares))


class EndTest(unittest.TestCase):
    def test_a_cut_off_proves_what_it_held(self):
        checks = [{"h": 5, "wh": 200}, {"h": 15, "wh": 600}, {"h": 19.9, "wh": 796, "display_h": 4}]
        one = found(checks, ended={"h": 20, "why": "cutoff"})
        assert one.state_of_health is not None
        low, mid, high = one.state_of_health
        self.assertAlmostEqual(mid, 0.8, delta=0.012)
        self.assertLess(high - low, 0.05)
        self.assertEqual(one.stop_h, (20, 20, 20))
        self.assertAlmostEqual(one.display_error_h, 3.9)
        self.assertEqual(as_document(one)["ended_h"], 20)

    def test_a_trip_or_a_hand_proves_nothing_of_the_battery(self):
        for why in ("trip", "by hand"):
            one = found([{"h": 5, "wh": 200}], ended={"h": 6, "why": why})
            self.assertIsNone(one.state_of_health)
            self.assertAlmostEqual(one.used_wh, 240, delta=10)

    def test_a_floor(self):
        checks = [{"h": 10, "wh": 400, "percent": 57}, {"h": 18, "wh": 720, "percent": 23}]
        one = found(checks, stop_at=0.2, ended={"h": 18.7, "why": "floor"})
        assert one.state_of_health is not None
        # 748 Wh to where it shows 20 %, which is truly about 17.5 %.
        self.assertAlmostEqual(one.state_of_health[1], 748 / 0.825 / 1000, delta=0.02)


class TwinTest(unittest.TestCase):
    """Simulated trials with known truth; ``make bench`` does forty."""

    def test_ranges_hold_and_narrow(self):
        held, off, widths = [], [], []
        for seed in (8, 11, 13):
            twin = household(seed, drained=False)
            row = []
            for share in (0.0, 1 / 3, 0.5, 0.8):
                data, true_h = trial_of(twin, DISPLAYS[seed % 4], share, seed)
                one = forecast(parse_trial(data))
                row.append(width(one))
                if share == 1 / 3:
                    held.append(one.stop_h[0] <= true_h <= one.stop_h[2])
                if share == 0.5:
                    off.append(abs(one.stop_h[1] / true_h - 1))
            widths.append(row)
        self.assertGreaterEqual(sum(held), 2)
        self.assertLess(float(np.median(off)), 0.06)
        means = np.mean(widths, axis=0)
        self.assertEqual(list(means), sorted(means, reverse=True))

    def test_two_hundred_check_ins_are_taken_together(self):
        checks = [{"h": 0.1 * n, "percent": round(100 - 0.4 * n, 1)} for n in range(1, 201)]
        one = found(checks)
        # 40 % in 10 h: 38 W of what is believed to be held.
        self.assertAlmostEqual(one.mean_w[1] / one.held_wh[1], 0.04, delta=0.002)
        self.assertLess(width(one), width(found(checks[:20])))
