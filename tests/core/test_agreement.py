"""The agreement check, and the relations beneath it."""

import math
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from needle import electrical
from needle.document import DocumentError
from needle.measure.agreement import agree
from needle.measure.instruments import INSTRUMENTS, get

GOOD = {"volts": 231.2, "amps": 0.64, "watts": 92.4, "va": 148.0, "pf": 0.62}
BAD_PF = {"volts": 231.0, "amps": 3.30, "watts": 610.0, "va": 762.0, "pf": 0.70}


class AgreementTest(unittest.TestCase):
    def test_a_good_set_agrees(self):
        agreement = agree(GOOD)
        self.assertTrue(agreement.consistent)
        self.assertIsNone(agreement.suspect)
        self.assertAlmostEqual(agreement.power_factor, 0.6243, places=4)
        self.assertIn("agree", agreement.message)

    def test_the_misread_power_factor_is_named(self):
        agreement = agree(BAD_PF)
        self.assertFalse(agreement.consistent)
        self.assertEqual(agreement.suspect, "pf")
        self.assertAlmostEqual(agreement.power_factor, 0.8005, places=4)
        self.assertAlmostEqual(agreement.nonactive_va, 456.7, places=1)
        self.assertGreater(agreement.residuals["pf"], 3)
        self.assertTrue(agreement.usable)
        self.assertEqual(
            agreement.message,
            "W ÷ VA is 0.80 but PF was read as 0.70: one of them was misread; the others "
            "support 0.80.",
        )

    def test_each_misread_figure_is_found(self):
        true = {"volts": 230.0, "amps": 2.0, "watts": 322.0, "va": 460.0, "pf": 0.70}
        for key, wrong in [("amps", 3.0), ("va", 640.0), ("pf", 0.35)]:
            with self.subTest(key=key):
                self.assertEqual(agree({**true, key: wrong}).suspect, key)

    def test_more_watts_than_volt_amperes_is_kept_but_no_evidence(self):
        agreement = agree({"watts": 200.0, "va": 148.0})
        self.assertFalse(agreement.consistent)
        self.assertFalse(agreement.usable)
        self.assertIn("cannot exceed", agreement.message)
        self.assertEqual(
            agree({"volts": 231.0, "amps": 3.3, "watts": 900.0, "va": 762.0}).suspect, "watts"
        )

    def test_no_culprit_is_named_where_nothing_checks_the_rest(self):
        """Left out in turn, each leaves readings that agree with anything."""
        for read in (
            {"volts": 230.0, "watts": 100.0, "va": 80.0},
            {"volts": 230.0, "amps": 0.4, "watts": 200.0},
            {"amps": 0.4, "watts": 200.0, "va": 92.0},
        ):
            with self.subTest(read=read):
                answer = agree(read)
                self.assertEqual((answer.consistent, answer.suspect), (False, None))
                self.assertFalse(answer.usable)
                self.assertIn("cannot exceed", answer.message)

    def test_a_resistive_load_a_count_over_unity_agrees(self):
        self.assertTrue(agree({"volts": 231.0, "amps": 3.3, "watts": 765.0}).consistent)

    def test_any_subset_fills_in_what_follows(self):
        agreement = agree({"volts": 230.0, "amps": 2.0, "pf": 0.5})
        self.assertAlmostEqual(agreement.va, 460.0)
        self.assertAlmostEqual(agreement.watts, 230.0)
        self.assertAlmostEqual(agree({"watts": 100.0, "pf": 0.5}).va, 200.0)
        self.assertAlmostEqual(agree({"va": 230.0, "volts": 230.0}).amps, 1.0)
        lone = agree({"watts": 100.0})
        self.assertTrue(lone.consistent)
        self.assertEqual(lone.residuals, {})

    def test_refuses_what_no_meter_shows(self):
        for read in [{}, {"pf": 1.2}, {"watts": -5.0}, {"volts": math.nan}, {"amps": math.inf}]:
            with self.subTest(read=read), self.assertRaises(DocumentError):
                agree(read)

    @given(st.floats(100, 250), st.floats(0.5, 15), st.floats(0.3, 1.0), st.integers(0, 2**32 - 1))
    def test_readings_within_the_accuracy_agree(self, volts, amps, factor, seed):
        plug = get("plug")
        rng = np.random.default_rng(seed)
        true = {
            "volts": volts,
            "amps": amps,
            "va": volts * amps,
            "watts": volts * amps * factor,
            "pf": factor,
        }
        read = {
            key: value * (1 + 0.9 * plug.limit * rng.uniform(-1, 1)) for key, value in true.items()
        }
        read["pf"] = min(read["pf"], 1.0)
        self.assertTrue(agree(read, plug).consistent)

    @given(st.permutations(list(BAD_PF)))
    def test_order_does_not_matter(self, keys):
        self.assertEqual(agree({key: BAD_PF[key] for key in keys}), agree(BAD_PF))


class ElectricalTest(unittest.TestCase):
    def test_relations(self):
        self.assertAlmostEqual(electrical.apparent_va(231.2, 0.64), 147.97, places=2)
        self.assertAlmostEqual(electrical.nonactive_va(610, 762), 456.67, places=2)
        self.assertAlmostEqual(electrical.power_factor(610, 762), 0.8005, places=4)
        self.assertAlmostEqual(electrical.motor_input_w(746, 0.5), 1492)

    def test_impossible_relations_are_refused(self):
        for watts, va in [(10, 0), (200, 148)]:
            with self.subTest(va=va), self.assertRaises(ValueError):
                electrical.power_factor(watts, va)
        with self.assertRaises(ValueError):
            electrical.motor_input_w(746, 1.2)

    def test_accuracy_counts_the_last_digit(self):
        clamp = INSTRUMENTS["clamp"]
        # ±2.5 % and five digits of 0.01 A, of 5 A: rectangular, in quadrature.
        self.assertAlmostEqual(clamp.relative_sd("amps", 5.0), math.hypot(0.025, 0.01) / 3**0.5)
        self.assertGreater(clamp.relative_sd("amps", 0.1), clamp.relative_sd("amps", 10.0))
