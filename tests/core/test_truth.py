"""A slice of the households whose truth is known: ranges hold it about as often as they say.

``make bench`` judges many more.
"""

from unittest import TestCase

import numpy as np

from tools.homes import judge_homes
from tools.scores import Score, reliability
from tools.truth import judge


class TruthTest(TestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.scores = judge(60, 0.05, draws=60)

    def test_ranges_hold_the_truth(self):
        held = self.scores["all"].held
        self.assertGreaterEqual(np.mean(held), 0.70)
        self.assertLess(np.mean(held), 1.0)

    def test_better_evidence_is_nearer(self):
        def error(*names):
            return np.median(np.abs(np.concatenate([self.scores[name].errors for name in names])))

        self.assertLess(error("run", "capture"), 0.10)
        self.assertLess(error("run", "capture"), error("label"))


class HomesTest(TestCase):
    """Households whose loads people and water use."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.scores, cls.chances = judge_homes(50, 900)

    def test_ranges_hold_the_truth_of_what_is_used(self):
        for name, least in (("all", 0.70), ("by use", 0.66), ("by themselves", 0.62)):
            self.assertGreaterEqual(self.scores[name].share_held, least, name)

    def test_what_is_used_is_less_sure(self):
        width = {name: np.mean(self.scores[name].widths) for name in ("by use", "by themselves")}
        self.assertGreater(width["by use"], 1.4 * width["by themselves"])

    def test_chances_order_what_comes_true(self):
        low = [came for chance, came in self.chances if chance < 0.3]
        high = [came for chance, came in self.chances if chance > 0.7]
        self.assertLess(np.mean(low), 0.35)
        self.assertGreater(np.mean(high), 0.7)


class ScoreTest(TestCase):
    def test_a_range_that_misses_costs_ten_times_its_distance(self):
        score = Score()
        score.add((8.0, 10.0, 12.0), 10.0)
        self.assertAlmostEqual(score.interval_score, 0.4)
        score.add((8.0, 10.0, 12.0), 16.0)
        self.assertAlmostEqual(score.scores[1], (4 + 10 * 4) / 16)
        self.assertEqual(score.share_held, 0.5)

    def test_fifths_of_chances(self):
        found = reliability([(0.1, False), (0.15, True), (0.95, True), (1.0, True)])
        self.assertEqual(found, [(0.125, 0.5, 2), (0.975, 1.0, 2)])
