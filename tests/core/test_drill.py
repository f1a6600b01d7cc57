"""Drills: what is shown follows from what is true, mistakes are named, care is worth it."""

import unittest
from unittest import mock

import numpy as np

from needle.document import DocumentError
from needle.drill import answer
from needle.drill.answer import answered, by_label
from needle.drill.drill import parse_drill
from needle.drill.judge import interval_score, judged, parse_answer
from needle.drill.play import careful, careless
from needle.drill.session import played
from needle.drill.shipped import DRILLS
from needle.drill.truth import day_wh, start_va, truth_of

BOX = next(drill for drill in DRILLS if drill["name"] == "Whole cycles")
PUMP = next(drill for drill in DRILLS if drill["ask"] == "start")
CASE = next(drill for drill in DRILLS if drill["name"] == "Twelve hours of cold")
OLD = next(drill for drill in DRILLS if drill["name"] == "A counter from yesterday")


class ScoreTest(unittest.TestCase):
    def test_it_is_the_width_where_it_holds_and_ten_times_the_miss_where_not(self):
        self.assertAlmostEqual(interval_score(90, 110, 100), 0.2)
        self.assertAlmostEqual(interval_score(90, 98, 100), 0.08 + 10 * 0.02)
        self.assertAlmostEqual(interval_score(103, 110, 100), 0.07 + 10 * 0.03)

    def test_it_is_proper(self):
        """Of all ranges, the 10th to 90th percentile of what is believed scores best."""
        truths = np.random.default_rng(3).normal(100, 10, 20_000)
        scores = {
            z: np.mean([interval_score(100 - 10 * z, 100 + 10 * z, t) * t for t in truths[:4000]])
            for z in (0.6, 1.0, 1.2816, 1.6, 2.2)
        }
        self.assertEqual(min(scores, key=scores.get), 1.2816)


class SessionTest(unittest.TestCase):
    def test_the_same_doings_show_the_same(self):
        doings = [
            {"do": "spot", "load": "Cold box"},
            {"do": "counter", "load": "Cold box", "hours": 3},
        ]
        first, second = (played(parse_drill(BOX), doings) for _ in range(2))
        self.assertEqual(first.readings, second.readings)
        self.assertNotEqual(
            first.readings, played(parse_drill({**BOX, "seed": 2}), doings).readings
        )

    def test_a_long_counter_comes_near_the_truth(self):
        drill = parse_drill({**BOX, "minutes": 3000})
        session = played(drill, [{"do": "counter", "load": "Cold box", "hours": 48}])
        reading = session.readings["Cold box"][-1]
        self.assertAlmostEqual(reading["wh"] / 2 / day_wh(drill, drill.loads[0]), 1.0, delta=0.12)

    def test_a_counter_that_was_not_reset_shows_more_and_is_named(self):
        drill = parse_drill(OLD)
        count = {"do": "counter", "load": "Incubator", "hours": 2}
        wrong = played(drill, [count])
        right = played(drill, [{"do": "reset", "load": "Incubator"}, count])
        self.assertGreater(wrong.readings["Incubator"][-1]["wh"],
                           right.readings["Incubator"][-1]["wh"] + 100)  # fmt: skip
        self.assertEqual([mistake.doing for mistake in wrong.mistakes], [0])
        self.assertEqual(right.mistakes, [])

    def test_a_clamp_around_the_whole_cable_reads_nothing(self):
        drill = parse_drill(PUMP)
        wrong = played(drill, [{"do": "start", "load": "Pump", "whole_cable": True}])
        self.assertEqual(len(wrong.readings["Pump"]), 1)
        self.assertIn("the currents cancel", wrong.mistakes[0].words)
        right = played(drill, [{"do": "start", "load": "Pump"}]).readings["Pump"][-1]
        shown = right["amps"] * right["volts"]
        self.assertAlmostEqual(shown / start_va(drill, drill.loads[0]), 1.0, delta=0.15)

    def test_what_cannot_be_done_is_said(self):
        drill = parse_drill(BOX)
        for doings, said in (
            ([{"do": "counter", "load": "Cold box", "hours": 9}], "min are left"),
            ([{"do": "counter", "load": "Cold box"}], "how long"),
            ([{"do": "spot", "load": "Kettle"}], "no load of this drill"),
            ([{"do": "start", "load": "Cold box"}], "clamp meters"),
            ([{"do": "spot", "load": "Cold box", "when": "asleep"}], "one of running, resting"),
            ([{"do": "drain"}], "shunt"), ([{"do": "dance"}], "do"), ("x", "do"),
        ):  # fmt: skip
            with self.subTest(said=said), self.assertRaisesRegex(DocumentError, said):
                played(drill, doings)

    def test_a_drain_tells_what_the_pack_holds(self):
        session = played(parse_drill(CASE), [{"do": "idle"}, {"do": "drain"}])
        idle, drain = session.tests
        self.assertAlmostEqual(idle["watts"], 12.0, delta=0.2)
        self.assertAlmostEqual(drain["wh"], 1024 * 0.81 * 0.9, delta=10)


class DocumentTest(unittest.TestCase):
    def test_a_teachers_file_is_checked(self):
        for wrong, said in (
            ({"ask": "moon"}, "ask"), ({"loads": []}, "one load or more"),
            ({"meters": ["eye"]}, "none of"), ({"ask": "hours"}, "supply"),
            ({"loads": [{"standin": "led", "quirks": ["ghost"]}]}, "quirks"),
            ({"minutes": 0}, "minutes"), ({"colour": "red"}, "colour"),
        ):  # fmt: skip
            with self.subTest(said=said), self.assertRaisesRegex(DocumentError, said):
                parse_drill({**BOX, **wrong})
        with self.assertRaisesRegex(DocumentError, "lies under"):
            parse_answer({"low": 5, "high": 4, "yes": True})


@mock.patch.object(answer, "_DRAWS", 60)
class PlayTest(unittest.TestCase):
    def test_care_wins_on_every_drill(self):
        for document in DRILLS:
            with self.subTest(drill=document["name"]):
                wins, right = 0, 0
                for seed in range(1, 21):
                    drill = parse_drill(document).like_it(seed)
                    measured, glanced = (played(drill, way(drill)) for way in (careful, careless))
                    good = judged(measured, answered(measured))
                    bad = judged(glanced, by_label(drill, glanced))
                    wins += good.score < bad.score
                    right += good.right
                    self.assertEqual(good.truth, truth_of(drill))
                self.assertGreaterEqual(wins, 19)
                self.assertGreaterEqual(right, 14)
