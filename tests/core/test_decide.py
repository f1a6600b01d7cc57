"""Power-factor correction against phasors, and the cord check."""

import cmath
import math
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from needle.decide.cord import awg_mm2, check_cord, ohm_per_m
from needle.decide.power_factor import choose, correct
from needle.decide.start_draws import Running, Start
from needle.document import DocumentError
from needle.message import message
from needle.supply.inverter import parse_inverter


class CapacitorTest(unittest.TestCase):
    def test_the_worked_motor(self):
        correction = correct(610, 762, 230, 50, fitted_uf=12)
        self.assertAlmostEqual(correction.nonactive_va, 456.7, places=1)
        self.assertAlmostEqual(correction.to_unity_uf, 27.48, places=2)
        self.assertAlmostEqual(correction.to_target_uf, 15.41, places=2)
        self.assertAlmostEqual(correction.power_factor_after, 0.921, places=3)
        self.assertAlmostEqual(correction.amps_before, 3.31, places=2)
        self.assertAlmostEqual(correction.amps_after, 2.88, places=2)
        self.assertAlmostEqual(correction.missing_uf, 3.41, places=2)
        self.assertEqual((correction.choose_uf, correction.choose_from), (15.0, (10.0, 5.0)))

    @given(
        st.floats(50, 2000),
        st.floats(0.3, 0.94),
        st.floats(100, 250),
        st.sampled_from([50, 60]),
        st.floats(0, 60),
    )
    def test_it_agrees_with_phasors(self, watts, factor, volts, hertz, fitted):
        correction = correct(watts, watts / factor, volts, hertz, fitted_uf=fitted)
        motor = cmath.rect(watts / factor / volts, -math.acos(factor))
        capacitor = 1j * 2 * math.pi * hertz * fitted * 1e-6 * volts
        line = motor + capacitor
        self.assertTrue(math.isclose(correction.amps_after, abs(line), rel_tol=1e-9))
        self.assertTrue(
            math.isclose(correction.power_factor_after, line.real / abs(line), rel_tol=1e-9)
        )

    @given(st.floats(50, 2000), st.floats(0.3, 0.9))
    def test_the_choice_never_passes_the_target(self, watts, factor):
        correction = correct(watts, watts / factor, 230, 50)
        if correction.choose_uf is not None:
            self.assertLessEqual(correction.choose_uf, correction.to_target_uf + 1e-9)
            self.assertLessEqual(correction.power_factor_after, 0.95 + 1e-9)
            self.assertGreater(correction.power_factor_after, correction.power_factor_before)

    def test_choosing_by_brute_force(self):
        stock = (4.0, 5.0, 8.0, 10.0, 12.0)
        sums = {0.0, *stock, *(a + b for a in stock for b in stock)}
        for target in range(30):
            self.assertEqual(sum(choose(target, stock)), max(s for s in sums if s <= target))

    def test_beyond_unity_and_already_good_are_said(self):
        self.assertIn("beyond-unity", correct(610, 762, 230, 50, fitted_uf=40).warnings[0].code)
        good = correct(97, 100, 230, 50)
        self.assertEqual((good.to_target_uf, good.choose_uf), (0.0, None))
        self.assertIn("already", good.warnings[0].code)

    def test_refusals(self):
        for args in [
            (800, 762, 230, 50),
            (610, 762, 0, 50),
            (610, 762, 230, -1),
            (0, 5, 230, 50),
            (610, math.nan, 230, 50),
        ]:
            with self.subTest(args=args), self.assertRaises(DocumentError):
                correct(*args)
        for change in ({"target": 1.2}, {"target": 0}, {"fitted_uf": -1}, {"stock_uf": [0]}):
            with self.subTest(change=change), self.assertRaises(DocumentError):
                correct(610, 762, 230, 50, **change)


class StartsTest(unittest.TestCase):
    def test_a_chance_is_the_share_of_draws_that_start_counted_one_by_one(self):
        rng = np.random.default_rng(4)
        va, watts, grey = rng.normal(1500, 200, 101), rng.normal(300, 30, 101), rng.random(101)
        start = Start(va, watts, grey, 0.3, 0.6, np.full(101, 0.9))
        others = Running(rng.normal(500, 80, 101), rng.normal(200, 40, 101), np.zeros(101))
        rated = [(300, 1200), (900, 1700), (900, 2400), (2000, 6000), (700, 5000)]
        inverters = [
            parse_inverter(
                {"continuous_w": watts, "surge_va": surge, "overload": [[1.25, 60]], "idle_w": 9}
            )
            for watts, surge in rated
        ]
        verdicts = start.beside(others).verdicts([(inverter, None) for inverter in inverters])
        chances = []
        for (most_w, surge_va), verdict in zip(rated, verdicts, strict=True):
            starts = 0
            for n in range(101):
                real, reactive = others.watts[n], others.nonactive_va[n]
                # Half of a motor's start is real, by its power factor while it starts.
                asks = math.hypot(real + va[n] * 0.5, reactive + va[n] * math.sqrt(0.75))
                runs = math.hypot(real + watts[n], reactive + 0.9 * watts[n])
                carried = real + watts[n] <= 1.25 * most_w and runs <= 1.25 * most_w
                starts += carried and asks <= surge_va * (1 + grey[n])
            chances.append(starts / 101)
            self.assertEqual(verdict.chance, starts / 101)
        self.assertEqual((chances[0], chances[3]), (0, 1))
        self.assertTrue(all(0 < chance < 1 for chance in (chances[1], chances[4])))


class CordTest(unittest.TestCase):
    def test_the_worked_cord(self):
        cord = check_cord(30, 1.5, 6.4, 230, start_a=30)
        self.assertAlmostEqual(cord.ohm, 0.726)
        self.assertAlmostEqual(cord.drop_v, 4.6, places=1)
        self.assertAlmostEqual(cord.drop_share, 0.020, places=3)
        self.assertAlmostEqual(cord.dip_v, 21.8, places=1)
        self.assertAlmostEqual(cord.dip_share, 0.095, places=3)
        self.assertEqual(cord.verdict, message("cord-carries"))

    def test_verdicts(self):
        self.assertIn("dips", check_cord(60, 1.5, 6.4, 230, start_a=30).verdict.code)
        self.assertIn("drops", check_cord(60, 1.5, 6.4, 230).verdict.code)

    def test_gauges_and_materials(self):
        for gauge, area in ((14, 2.08), (12, 3.31), (10, 5.26), (0, 53.5)):
            self.assertAlmostEqual(awg_mm2(gauge) / area, 1, delta=0.002)
        self.assertAlmostEqual(ohm_per_m(2.5, "aluminium") / ohm_per_m(2.5), 1.64)

    @given(st.floats(0, 100), st.floats(0.5, 50), st.floats(0, 100))
    def test_longer_is_never_better(self, length, area, amps):
        short = check_cord(length, area, amps, 230)
        self.assertGreaterEqual(check_cord(length * 2, area, amps, 230).drop_v, short.drop_v)

    def test_refusals(self):
        for call in (
            lambda: check_cord(-1, 1.5, 5, 230),
            lambda: check_cord(1, 0, 5, 230),
            lambda: check_cord(1, 1.5, 5, 0),
            lambda: ohm_per_m(1.5, "gold"),
        ):
            with self.assertRaises(ValueError):
                call()
