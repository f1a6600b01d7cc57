"""Uncertain values."""

import math
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from needle.estimate import Estimate, disagree, from_limits, pool, product, worst

values = st.floats(min_value=0.01, max_value=1e5)
spreads = st.floats(min_value=0.001, max_value=1.5)


class EstimateTest(unittest.TestCase):
    def test_range_is_the_10th_and_90th_percentile(self):
        estimate = Estimate(100.0, 0.3, "B")
        drawn = estimate.draws(np.random.default_rng(3).standard_normal(200_000))
        low, mid, high = np.quantile(drawn, [0.1, 0.5, 0.9])
        self.assertAlmostEqual(low / estimate.low, 1, delta=0.01)
        self.assertAlmostEqual(mid / 100, 1, delta=0.01)
        self.assertAlmostEqual(high / estimate.high, 1, delta=0.01)

    def test_a_duty_never_passes_one(self):
        duty = Estimate(0.9, 0.4, "C", most=1.0)
        self.assertEqual(duty.high, 1.0)
        self.assertLessEqual(duty.draws(np.linspace(-4, 4, 50)).max(), 1.0)

    def test_refuses_nonsense(self):
        for value, spread, grade in [(-1, 0, "A"), (math.nan, 0, "A"), (1, -0.1, "A"), (1, 0, "E")]:
            with (
                self.subTest(value=value, spread=spread, grade=grade),
                self.assertRaises(ValueError),
            ):
                Estimate(value, spread, grade)

    def test_a_chain_is_as_good_as_its_worst_link(self):
        self.assertEqual(worst(("A", "C", "B")), "C")
        self.assertEqual(product(Estimate(2, 0.1, "A"), Estimate(3, 0.1, "D")).grade, "D")

    def test_limits_come_back(self):
        estimate = from_limits(3, 5, 8)
        self.assertAlmostEqual(estimate.high / estimate.low, 8 / 3, places=9)

    @given(values, spreads)
    def test_range_holds_the_value(self, value, spread):
        estimate = Estimate(value, spread, "C")
        self.assertLess(estimate.low, estimate.value)
        self.assertGreater(estimate.high, estimate.value)

    @given(values, spreads, spreads)
    def test_a_wider_spread_widens_the_range(self, value, first, second):
        narrow, wide = sorted((first, second))
        self.assertLessEqual(Estimate(value, wide).low, Estimate(value, narrow).low)
        self.assertGreaterEqual(Estimate(value, wide).high, Estimate(value, narrow).high)

    @given(st.lists(st.tuples(values, spreads), min_size=2, max_size=6), st.randoms())
    def test_pooling_does_not_mind_the_order(self, pairs, random):
        estimates = [Estimate(value, spread, "B") for value, spread in pairs]
        shuffled = list(estimates)
        random.shuffle(shuffled)
        self.assertAlmostEqual(pool(estimates).value, pool(shuffled).value, places=9)
        self.assertAlmostEqual(pool(estimates).spread, pool(shuffled).spread, places=9)

    def test_agreeing_values_narrow_and_contradicting_ones_do_not(self):
        same = pool([Estimate(33, 0.1, "B"), Estimate(33.5, 0.1, "B")])
        self.assertLess(same.spread, 0.08)
        apart = pool([Estimate(20, 0.1, "B"), Estimate(60, 0.1, "B")])
        self.assertGreater(apart.spread, 0.5)
        self.assertTrue(disagree(Estimate(20, 0.1, "B"), Estimate(60, 0.1, "B")))
        self.assertFalse(disagree(Estimate(20, 0.1, "B"), Estimate(22, 0.1, "B")))
