"""An outage rehearsed: the truth of its battery, its surprise, and the judgement."""

from __future__ import annotations

import copy
import unittest

import numpy as np

from needle.plan.documents.parse import parse_plan
from needle.watch.rehearsal import CLOUDS, RUNS_ON, STICKS, Rehearsal
from tests.core.test_watch import PLAN

SUN = {
    "kind": "sun",
    "name": "Roof",
    "rated_w": 400,
    "tilt": 10,
    "azimuth": 180,
    "latitude": 10,
    "longitude": 0,
}


def rehearsal(seed=1, needed=24.0, **changes):
    whole = {**copy.deepcopy(PLAN), **changes}
    return Rehearsal(parse_plan(whole), needed, seed)


def with_surprise(surprise, **changes):
    """The first outage that has a surprise."""
    found = (rehearsal(seed, **changes) for seed in range(40))
    return next(each for each in found if each.surprise == surprise)


EVERYTHING = [(0.0, ["Box", "Fan", "Lamp"])]


class TruthTest(unittest.TestCase):
    def test_energy_is_kept(self):
        """200 W of 2000 Wh last ten hours, 60 W two and a half times as long; within spreads."""
        made = with_surprise(STICKS)
        self.assertAlmostEqual(made.empty_h(EVERYTHING) / 10, 1, delta=0.2)
        self.assertEqual(made.empty_h([(0.0, ["Box"])]), np.inf)
        half = made.charge(EVERYTHING)[4 * 5 - 1]
        later = made.charge([*EVERYTHING, (5.0, ["Box"])])
        self.assertAlmostEqual(later[4 * 5 - 1], half)
        fall = later[4 * 5 - 1] - later[4 * 10 - 1]
        self.assertAlmostEqual(fall / ((1 - half) * 60 / 200), 1, delta=0.15)

    def test_the_same_seed_is_the_same_outage(self):
        first, second, other = rehearsal(3), rehearsal(3), rehearsal(4)
        np.testing.assert_array_equal(first.charge(EVERYTHING), second.charge(EVERYTHING))
        self.assertFalse(np.array_equal(first.charge(EVERYTHING), other.charge(EVERYTHING)))

    def test_a_load_that_runs_on_takes_more_while_it_is_on(self):
        made = with_surprise(RUNS_ON)
        self.assertEqual(made.load, "Lamp")
        self.assertLess(made.empty_h(EVERYTHING), 7.0)
        self.assertEqual(made.empty_h([(0.0, ["Box"])]), np.inf)

    def test_clouds_take_the_sun(self):
        plan = {"start": "2027-02-09T08:00:00+00:00", "sources": [SUN]}
        cloudy, clear = with_surprise(CLOUDS, **plan), with_surprise(STICKS, **plan)
        noon = 4 * 6
        box = [(0.0, ["Fan", "Box", "Lamp"])]
        self.assertLess(cloudy.charge(box)[noon], clear.charge(box)[noon] - 0.1)

    def test_a_display_that_sticks_goes_on_again(self):
        made = with_surprise(STICKS)
        shown = [made.shown(EVERYTHING, quarter / 4) for quarter in range(40)]
        stuck = max(shown.count(value) for value in set(shown[4:30]))
        self.assertGreaterEqual(stuck, 16)
        self.assertLess(shown[-1], 0.2)


class JudgementTest(unittest.TestCase):
    def test_what_was_done_beside_other_rules(self):
        made = with_surprise(STICKS)
        done = [*EVERYTHING, (3.0, ["Box"])]
        judged = {each.rule: each for each in made.judge(done)}
        self.assertTrue(judged["done"].kept and judged["musts"].kept and judged["card"].kept)
        self.assertFalse(judged["everything"].kept)
        self.assertAlmostEqual(judged["done"].served, 3 / 24)
        self.assertEqual(judged["musts"].served, 0.0)
        self.assertGreater(judged["card"].served, 0.05)

    def test_a_must_that_was_off_was_not_kept(self):
        made = with_surprise(STICKS)
        done = [(0.0, ["Box"]), (2.0, []), (3.0, ["Box"])]
        self.assertFalse(made.judge(done)[0].kept)
