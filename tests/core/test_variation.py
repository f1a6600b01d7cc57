"""How days differ, and what was not seen: against counting."""

import math
import unittest

import numpy as np

from needle.estimate import Estimate
from needle.measure.readings import parse
from needle.profile.evidence import Evidence
from needle.profile.kinds import KINDS
from needle.profile.variation import (
    day_spread,
    span_spread,
    unseen_share,
    wander_spread,
    with_unseen,
)


class SpanTest(unittest.TestCase):
    KIND = KINDS["compressor-fixed"]

    def test_a_span_leaves_what_days_and_the_time_of_day_leave(self):
        """Against means over spans of many boxes, each day and each top of the swing its own."""
        rng = np.random.default_rng(2)
        hours = np.arange(0, 96, 0.5)
        for span_h in (2.0, 24.0, 48.0):
            means = []
            for _ in range(4000):
                days = 1 + rng.normal(0, self.KIND.day_spread, 4)
                top = rng.uniform(0, 24)
                course = days[(hours // 24).astype(int)] * (
                    1 + self.KIND.day_swing * np.cos(2 * np.pi * (hours - top) / 24)
                )
                means.append(course[: int(2 * span_h)].mean())
            self.assertAlmostEqual(
                span_spread(self.KIND, span_h), float(np.std(means)), delta=0.012
            )

    def test_captures_of_several_days_replace_the_table(self):
        usual = self.KIND.day_spread
        self.assertEqual(day_spread(self.KIND), usual)
        self.assertAlmostEqual(day_spread(self.KIND, [(200, 0.02)]), 0.02, delta=0.003)
        self.assertLess(day_spread(self.KIND, [(5, 0.02)]), usual)
        self.assertGreater(day_spread(self.KIND, [(5, 0.12)]), usual)

    def test_a_wander_is_seen_through_by_its_stretches(self):
        self.assertEqual(wander_spread(0.2), wander_spread(0.7))
        self.assertAlmostEqual(wander_spread(0.7 * 16), wander_spread(0.7) / 4)


class UnseenTest(unittest.TestCase):
    def test_odds_of_a_defrost_that_nobody_saw(self):
        """Against counting: 200,000 boxes, of which two in five defrost every 8 to 24 h."""
        rng = np.random.default_rng(8)
        defrosts = rng.random(200_000) < 0.4
        every_h = rng.uniform(8, 24, 200_000)
        next_h = rng.random(200_000) * every_h
        for hours in (1.0, 6.0, 11.0, 16.0, 23.0):
            unseen = ~defrosts | (next_h > hours)
            counted = float(np.mean(defrosts[unseen])) / 0.4
            self.assertAlmostEqual(unseen_share(hours), counted, delta=0.01)
        self.assertEqual((unseen_share(0.0), unseen_share(24.0)), (1.0, 0.0))

    def test_longer_captures_outweigh_the_prior(self):
        mean = Estimate(40.0, 0.05, "B", ())
        kind = KINDS["compressor-fixed"]
        shifted = [with_unseen(mean, kind, False, False, hours) for hours in (0.0, 6.0, 12.0)]
        self.assertAlmostEqual(shifted[0].value, 41.6)
        values, spreads = ([getattr(each, of) for each in shifted] for of in ("value", "spread"))
        self.assertEqual(values, sorted(values, reverse=True))
        self.assertEqual(spreads, sorted(spreads, reverse=True))
        self.assertEqual(with_unseen(mean, kind, True, False, 6.0), mean)
        # A counter has counted it, if it came; how much of it, nobody knows.
        counted = with_unseen(mean, kind, False, True, 6.0)
        self.assertEqual(counted.value, 40.0)
        self.assertAlmostEqual(counted.spread, math.hypot(0.05, 0.06))

    def test_a_counter_does_not_show_that_none_came(self):
        counter = parse({"type": "energy", "wh": 400, "hours": 12}, "readings[0]")
        evidence = Evidence(KINDS["compressor-fixed"], (counter,))
        self.assertEqual((evidence.longest_h, evidence.longest_seen_h), (12.0, 0.0))
