"""Percentiles over draws, against NumPy's."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from needle.percentiles import RANGE, median, range_of, ranges_of

DRAWS = st.lists(st.floats(-1e6, 1e6), min_size=1, max_size=40)


class PercentilesTest(unittest.TestCase):
    @given(DRAWS)
    def test_of_few_and_of_many_of_an_even_and_an_odd_number(self, draws):
        np.testing.assert_allclose(range_of(np.array(draws)), np.quantile(draws, RANGE), atol=1e-9)
        self.assertAlmostEqual(median(np.array(draws)), float(np.median(draws)), places=9)

    def test_along_the_last_axis(self):
        draws = np.random.default_rng(3).normal(size=(7, 5, 400))
        expected = np.quantile(draws, RANGE, axis=-1)
        self.assertEqual(ranges_of(draws).shape, (3, 7, 5))
        np.testing.assert_allclose(ranges_of(draws), expected, rtol=1e-12)

    def test_draws_stay_in_their_order(self):
        draws = np.array([3.0, 1.0, 2.0])
        self.assertEqual(range_of(draws)[1], 2.0)
        self.assertEqual(draws.tolist(), [3.0, 1.0, 2.0])
