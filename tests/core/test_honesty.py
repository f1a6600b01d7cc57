"""Whether ranges were honest over several runs."""

import unittest

import numpy as np

from needle.document import DocumentError
from needle.estimate import Z90
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate
from needle.trial.honesty import Foretold, honesty
from needle.words import text_of
from tests.core.test_runs import PLAN


def runs(count, times, seed=1, sd=0.1):
    """Runs that end ``times`` as far from their middle as their ranges of one sd say."""
    ends = 20 * np.exp(times * sd * np.random.default_rng(seed).standard_normal(count))
    low, high = 20 * np.exp(-Z90 * sd), 20 * np.exp(Z90 * sd)
    return [Foretold(low, 20, high, hours) for hours in ends]


class HonestyTest(unittest.TestCase):
    def test_honest_ranges_are_mostly_left_alone(self):
        factors = [honesty(runs(10, 1.0, seed)).factor for seed in range(60)]
        self.assertGreaterEqual(sum(factor == 1 for factor in factors), 50)
        self.assertAlmostEqual(
            np.mean([honesty(runs(50, 1.0, s)).held for s in range(40)]), 40, delta=1
        )

    def test_ranges_that_were_too_narrow_are_widened_by_about_what_is_missing(self):
        factors = [honesty(runs(12, 2.0, seed)).factor for seed in range(40)]
        self.assertTrue(1.4 < np.median(factors) < 2.0, factors)

    def test_too_wide_ones_are_narrowed(self):
        factors = [honesty(runs(20, 0.3, seed)).factor for seed in range(20)]
        self.assertTrue(all(0.6 <= factor < 0.8 for factor in factors), factors)

    def test_five_runs_are_too_few(self):
        self.assertEqual(honesty(runs(5, 5.0)).factor, 1)
        self.assertEqual(honesty([]).factor, 1)

    def test_a_range_that_was_widened_already_counts_as_it_was_before(self):
        narrow = runs(12, 2.0)
        wide = [
            Foretold(20 * (run.low_h / 20) ** 2, 20, 20 * (run.high_h / 20) ** 2, run.hours, 2.0)
            for run in narrow
        ]
        self.assertAlmostEqual(honesty(wide).factor, honesty(narrow).factor)


class FactorTest(unittest.TestCase):
    """A plan's ranges follow the factor, with and without runs."""

    def width(self, **changes):
        low, _, high = simulate(parse_plan({**PLAN, **changes}), 300).runtime
        return np.log(high / low)

    def test_ranges_are_that_much_wider(self):
        self.assertAlmostEqual(self.width(spread_factor=1.6) / self.width(), 1.6, delta=0.25)
        run = {"hours": 40, "to": 0.1, "why": "floor", "loads": ["Box"]}
        self.assertGreater(self.width(spread_factor=2.0, runs=[run]) / self.width(runs=[run]), 1.5)

    def test_it_is_said(self):
        outcome = simulate(parse_plan({**PLAN, "spread_factor": 1.6}), 50)
        self.assertIn("1.6 times as wide", " ".join(map(text_of, outcome.notices)))
        plain = simulate(parse_plan(PLAN), 50)
        self.assertNotIn("times as wide", " ".join(map(text_of, plain.notices)))

    def test_what_it_may_be(self):
        with self.assertRaisesRegex(DocumentError, "spread_factor"):
            parse_plan({**PLAN, "spread_factor": 9})
