"""Starts that were tried, the order of switching on, sizes, and what a capacitor does not cure."""

import itertools
import math
import unittest
from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from needle.decide.cord import awg_mm2, conductor_mm2
from needle.decide.order import Starter, best_order, ladder, last_peak_va, worst
from needle.decide.power_factor import battery_saving_w, correct, sanity
from needle.decide.sizing import inverter_sizes
from needle.decide.starting import StartTried, as_tested, will_it_start
from needle.document import DocumentError
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate
from needle.profile.kinds import KINDS
from needle.supply.inverter import dc_w, parse_inverter
from needle.words import text_of

INVERTER = {"continuous_w": 800, "surge_va": 1600, "idle_w": 10, "efficiency": 0.9}
starters = st.lists(st.tuples(st.floats(1, 2000), st.floats(1, 8)), min_size=1, max_size=6).map(
    lambda rows: [Starter(f"load {n}", w, w * k) for n, (w, k) in enumerate(rows)]
)


class OrderTest(unittest.TestCase):
    @given(starters)
    def test_no_order_has_a_lower_worst_moment(self, loads):
        peak_va = worst(ladder(best_order(loads))).peak_va
        least = min(
            worst(ladder(permutation)).peak_va for permutation in itertools.permutations(loads)
        )
        self.assertAlmostEqual(peak_va, least)

    def test_the_ladder_adds_up(self):
        rungs = ladder([Starter("pump", 260, 2350), Starter("lamp", 40, 60)])
        self.assertEqual(
            [(rung.before_w, rung.after_w, rung.peak_va) for rung in rungs],
            [(0, 260, 2350), (260, 300, 320)],
        )
        self.assertIsNone(worst(ladder([])))

    @given(starters)
    def test_a_sufficient_inverter_allows_the_best_order_and_a_large_one_any(self, loads):
        enough, roomy = inverter_sizes(loads)
        self.assertGreaterEqual(enough.surge_va, worst(ladder(best_order(loads))).peak_va)
        for order in itertools.islice(itertools.permutations(loads), 30):
            self.assertGreaterEqual(roomy.surge_va * 1.0001, 1.5 * worst(ladder(order)).peak_va)
        self.assertAlmostEqual(roomy.continuous_w, 2 * enough.continuous_w)

    @given(starters, st.lists(st.sampled_from([None, 0.5, 0.8, 1.0]), min_size=6, max_size=6))
    def test_a_start_on_top_of_all_the_others_is_the_last_of_its_ladder(self, loads, factors):
        loads = [
            replace(load, power_factor=factor) for load, factor in zip(loads, factors, strict=False)
        ]
        peaks = [
            ladder([*(other for other in loads if other is not load), load])[-1].peak_va
            for load in loads
        ]
        self.assertAlmostEqual(last_peak_va(loads) / max(peaks), 1.0)

    def test_va_of_a_size_add_as_vectors(self):
        pump = Starter("pump", 600, 3000, power_factor=0.6)
        enough, _ = inverter_sizes([pump, Starter("heater", 800, 800, power_factor=1.0)])
        # 600 W and 800 var, and 800 W beside them.
        self.assertAlmostEqual(enough.continuous_w, 1400)
        self.assertAlmostEqual(enough.continuous_va, math.hypot(1400, 800))

    def test_no_loads_no_size(self):
        self.assertEqual(inverter_sizes([]), [])


class TestedTest(unittest.TestCase):
    def test_a_test_overrules_the_numbers(self):
        computed = will_it_start(4000, 0.3, 200, 0, parse_inverter(INVERTER))
        self.assertEqual(computed.verdict, "trips")
        held = as_tested(computed, StartTried("held"))
        self.assertEqual(held.verdict, "holds")
        self.assertIn("by the numbers it trips", text_of(held.reason))
        self.assertEqual(as_tested(computed, StartTried("complained")).verdict, "grey")
        refused = as_tested(computed, StartTried("refused"))
        self.assertNotIn("numbers", text_of(refused.reason))

    def plan(self, tested):
        return simulate(
            parse_plan(
                {
                    "hours": 4,
                    "supply": {
                        "battery": {"chemistry": "lfp", "nominal_wh": 5000},
                        "inverter": INVERTER,
                    },
                    "loads": [
                        {"name": "Pump", "running_w": 200, "start_va": 4000, "start_tested": tested}
                    ],
                }
            ),
            20,
        )

    def test_the_plan_believes_the_test(self):
        self.assertEqual([trip.why for trip in self.plan("").trips], ["start"])
        self.assertEqual(self.plan("held").trips, [])
        self.assertEqual(self.plan("held").starts[0].verdict.verdict, "holds")
        self.assertEqual([trip.why for trip in self.plan("tripped").trips], ["start"])

    def test_an_unknown_result_is_refused(self):
        with self.assertRaises(DocumentError):
            self.plan("fine")


class CorrectionTest(unittest.TestCase):
    def test_fitted_and_missing_add_up(self):
        after = correct(610, 762, 230, 50, fitted_uf=12)
        verdict = sanity((610, 762), (610, after.amps_after * 230), 12, 230, 50)
        self.assertTrue(verdict.agrees)
        self.assertAlmostEqual(verdict.missing_uf, 27.48 - 12, places=2)

    def test_a_wrong_capacitor_is_noticed(self):
        after = correct(610, 762, 230, 50, fitted_uf=12)
        verdict = sanity((610, 762), (610, after.amps_after * 230), 20, 230, 50)
        self.assertFalse(verdict.agrees)
        self.assertIn("one of the readings is off", text_of(verdict.verdict))

    def test_too_much_leads(self):
        after = correct(610, 762, 230, 50, fitted_uf=35)
        verdict = sanity((610, 762), (610, after.amps_after * 230), 35, 230, 50)
        self.assertTrue(verdict.agrees)
        self.assertLess(verdict.missing_uf, 0)
        self.assertIn("leads", text_of(verdict.verdict))

    def test_saving_comes_from_the_square_term_alone(self):
        plain = parse_inverter({"continuous_w": 3000, "efficiency": 0.92, "idle_w": 28})
        self.assertAlmostEqual(battery_saving_w(610, 762, 662, plain), 0.0)
        curved = parse_inverter({"continuous_w": 3000, "efficiency": 0.92, "square_per_w": 1e-5})
        self.assertAlmostEqual(battery_saving_w(610, 762, 662, curved), 1e-5 * (762**2 - 662**2))
        self.assertAlmostEqual(dc_w(1000, 0, 1.0, 1e-5), 1010)

    def test_who_is_refused(self):
        for key, kind in KINDS.items():
            with self.subTest(key=key):
                self.assertEqual(kind.no_capacitor == "", kind.motor)
        self.assertIn("distortion", KINDS["electronics"].no_capacitor)
        self.assertIn("drive", KINDS["compressor-variable"].no_capacitor)


class ConductorTest(unittest.TestCase):
    def test_sizes_as_people_write_them(self):
        for text, area in (
            ("1.5 mm²", 1.5),
            ("2,5mm2", 2.5),
            ("4", 4.0),
            ("6 sq mm", 6.0),
            ("14 AWG", awg_mm2(14)),
            ("AWG 12", awg_mm2(12)),
            ("#10 awg", awg_mm2(10)),
            ("2/0 AWG", awg_mm2(-1)),
            ("12 gauge", awg_mm2(12)),
        ):
            with self.subTest(text=text):
                self.assertAlmostEqual(conductor_mm2(text), area)

    def test_others_are_refused(self):
        for text in ("", "thick", "0 mm²", "90 AWG", "1.5 m", "1e9"):
            with self.subTest(text=text), self.assertRaises(DocumentError):
                conductor_mm2(text)
