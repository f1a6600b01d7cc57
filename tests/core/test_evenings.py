"""Outages of simulated homes: the watch keeps the musts as well as musts only, and serves more."""

import unittest

from tools.evenings import judge


class EveningsTest(unittest.TestCase):
    def test_a_few_evenings(self):
        found = [each for seed in range(9002, 9012) if (each := judge(seed)[0])]
        self.assertGreater(len(found), 5)

        def kept(rule):
            return sum(each[rule][0] for each in found)

        def served(rule):
            return sum(each[rule][1] for each in found) / len(found)

        for rule in ("by the watch", "by the card"):
            self.assertGreaterEqual(kept(rule), kept("musts only from the start") - 1)
        self.assertGreater(served("by the watch"), 0.05)
        self.assertEqual(served("musts only from the start"), 0.0)
        self.assertGreaterEqual(served("everything until it stops"), served("by the watch"))
