"""A slice of the households whose truth is known: ranges hold it about as often as they say.

``make bench`` judges many more.
"""

from unittest import TestCase

import numpy as np

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
