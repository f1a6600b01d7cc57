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
from needle.drill.truth import day_wh, line_of, running_w, start_va, task_wh, truth_of
from needle.words import text_of

BOX = next(drill for drill in DRILLS if drill["name"] == "Complete cycles")
PUMP = next(drill for drill in DRILLS if drill["ask"] == "start")
CUPS = next(drill for drill in DRILLS if drill["ask"] == "tasks")
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
        self.assertGreater(
            wrong.readings["Incubator"][-1]["wh"], right.readings["Incubator"][-1]["wh"] + 100
        )
        self.assertEqual([mistake.doing for mistake in wrong.mistakes], [0])
        self.assertEqual(right.mistakes, [])

    def test_a_clamp_around_the_whole_cable_reads_nothing(self):
        drill = parse_drill(PUMP)
        wrong = played(drill, [{"do": "start", "load": "Pump", "whole_cable": True}])
        self.assertEqual(len(wrong.readings["Pump"]), 1)
        self.assertIn("the currents cancel", text_of(wrong.mistakes[0].said))
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
            ([{"do": "drain"}], "shunt"),
            ([{"do": "dance"}], "do"),
            ("x", "do"),
        ):
            with self.subTest(said=said), self.assertRaisesRegex(DocumentError, said):
                played(drill, doings)

    def test_a_drain_tells_what_the_pack_holds(self):
        session = played(
            parse_drill({**CASE, "meters": ["shunt"]}), [{"do": "idle"}, {"do": "drain"}]
        )
        idle, drain = session.tests
        self.assertAlmostEqual(idle["watts"], 12.0, delta=0.2)
        self.assertAlmostEqual(drain["wh"], 1024 * 0.81 * 0.9, delta=10)


class TaskTest(unittest.TestCase):
    def test_many_together_come_nearer_than_one(self):
        drill = parse_drill(CUPS)
        kettle = drill.loads[0]
        true = task_wh(drill, kettle)
        single, many = (
            played(
                drill,
                [
                    {"do": "reset", "load": "Kettle"},
                    {"do": "task", "load": "Kettle", "count": count},
                ],
            )
            for count in (1, 20)
        )
        last = many.readings["Kettle"][-1]
        self.assertAlmostEqual(last["wh"] / last["runs"] / true, 1.0, delta=0.08)
        self.assertIn("more at once say more", text_of(single.mistakes[0].said))
        self.assertEqual(many.mistakes, [])
        self.assertLess(single.minutes, many.minutes)

    def test_no_cup_is_made_twice(self):
        cups = {"do": "task", "load": "Kettle", "count": 8}
        reset = {"do": "reset", "load": "Kettle"}
        session = played(parse_drill(CUPS), [reset, cups, reset, cups, reset, cups])
        shown = [read["wh"] for read in session.readings["Kettle"] if read["type"] == "task"]
        self.assertEqual(len(shown), 3)
        self.assertGreater(len(set(shown)), 1)
        endless = {**CUPS, "minutes": 10_000}
        with self.assertRaisesRegex(DocumentError, "did enough tasks"):
            played(parse_drill(endless), [{**cups, "count": 20}] * 30)

    def test_the_truth_is_what_is_left_beside_the_idle(self):
        drill = parse_drill(CUPS)
        left = 1024 * 0.81 * 0.9 - 2 * 12
        self.assertAlmostEqual(truth_of(drill), left * 0.9 / task_wh(drill, drill.loads[0]))

    def test_only_what_does_tasks_is_asked_for_them(self):
        with self.assertRaisesRegex(DocumentError, "take a kettle"):
            parse_drill({**CUPS, "loads": [{"name": "Router", "standin": "electronics"}]})
        with self.assertRaisesRegex(DocumentError, "does no tasks"):
            played(parse_drill(BOX), [{"do": "task", "load": "Cold box"}])


class QuirkTest(unittest.TestCase):
    def test_a_display_that_sticks_hides_the_idle_at_first(self):
        drill = parse_drill(CASE)
        short = played(drill, [{"do": "idle", "hours": 3}])
        self.assertEqual(short.tests, [])
        self.assertIn("something is drawn all the same", text_of(short.mistakes[0].said))
        long = played(drill, [{"do": "idle", "hours": 8}])
        fallen = 1 - 12.0 * 8 / (1024 * 0.81)
        self.assertAlmostEqual(long.tests[0]["to"], fallen, delta=0.006)
        with self.assertRaisesRegex(DocumentError, "how long nothing is plugged in"):
            played(drill, [{"do": "idle"}])

    def test_a_drain_by_the_display_is_counted_behind_the_inverter(self):
        test = played(parse_drill(CASE), [{"do": "drain"}]).tests[0]
        self.assertEqual(test["counted"], "ac")
        at_battery = test["wh"] / 0.9 + 12 * test["hours"]
        self.assertAlmostEqual(at_battery, 1024 * 0.81 * 0.9, delta=10)

    def test_a_quick_meter_is_never_called_slow(self):
        for document in DRILLS[:4]:
            drill = parse_drill(document)
            for seed in range(1, 6):
                looks = [
                    {"do": "spot", "load": drill.loads[0].name, "when": when}
                    for when in ("running", "resting")
                    if when == "running" or drill.loads[0].standin != "electronics"
                ]
                self.assertEqual(played(drill.like_it(seed), looks).mistakes, [])

    def test_a_slow_meter_is_let_settle(self):
        night = parse_drill(next(each for each in DRILLS if "clinic" in each["name"]))
        mat, ten = night.loads[2], night.second(0)
        starts = next(at for at in line_of(night, mat).starts_s() if at > ten + 60)
        wait = {"do": "wait", "hours": (starts - 10 - ten) / 3600}
        hasty, patient = (
            played(night, [wait, {"do": "spot", "load": "Heat mat", "settle": settle}])
            for settle in (False, True)
        )
        true = running_w(night, mat)
        self.assertLess(hasty.readings["Heat mat"][-1]["watts"], 0.9 * true)
        shown = patient.readings["Heat mat"][-1]["watts"]
        self.assertAlmostEqual(shown / true, 1.0, delta=0.03)
        self.assertIn("before it had settled", text_of(hasty.mistakes[-1].said))
        self.assertEqual(patient.mistakes, [])


@mock.patch.object(answer, "_DRAWS", 60)
class DrawnPlanTest(unittest.TestCase):
    def drawn(self, uses, **more):
        drill = parse_drill({**CASE, "supply": {**CASE["supply"], "quirks": []}})
        return played(drill, [{"do": "plan", "uses": uses, **more}])

    def test_nobody_is_blamed_for_what_could_not_be_done(self):
        blamed = "the pack was not drained"
        for meters, said in ((["plug"], False), (["plug", "display"], True), (["shunt"], True)):
            session = played(parse_drill({**CASE, "meters": meters}), [])
            words = " ".join(
                text_of(each.said) for each in judged(session, answered(session)).mistakes
            )
            self.assertEqual(blamed in words, said, meters)

    def test_the_clients_plan_has_no_mistake_and_is_the_tools_own(self):
        session = self.drawn({"Router": [["20:00", "23:00"]]})
        verdict = judged(session, answered(session))
        self.assertEqual([m for m in verdict.mistakes if "plan" in text_of(m.said)], [])
        low, _, high = answer.drawn_hours(session)
        self.assertEqual((low, high), (verdict.tool.low, verdict.tool.high))

    def test_what_the_plan_has_otherwise_is_named(self):
        session = self.drawn({"Router": "out"}, floor=0.0)
        words = [text_of(mistake.said) for mistake in judged(session, answered(session)).mistakes]
        self.assertIn("your plan has Router left out: it runs 20:00 to 23:00", words)
        self.assertIn("your plan drains the pack to 0 %: 10 % stays in it", words)
        always = self.drawn({})
        words = [text_of(mistake.said) for mistake in judged(always, answered(always)).mistakes]
        self.assertIn("your plan has Router at other hours: it runs 20:00 to 23:00", words)
        self.assertLess(answer.drawn_hours(always)[1], answer.drawn_hours(session)[1])

    def test_a_plan_without_loads_has_no_hours(self):
        self.assertIsNone(answer.drawn_hours(self.drawn({"Router": "out", "Cold box": "out"})))
        for wrong in (
            5,
            [],
            {"Router": [["20:00"]]},
            {"Lamp": "out"},
            {"Router": 5},
            {"Router": [["2027-02-09T20:00", "2027-02-09T23:00"]]},
        ):
            with self.subTest(wrong=wrong), self.assertRaises(DocumentError):
                self.drawn(wrong)


class DocumentTest(unittest.TestCase):
    def test_a_teachers_file_is_checked(self):
        for wrong, said in (
            ({"ask": "moon"}, "ask"),
            ({"loads": []}, "one load or more"),
            ({"meters": ["eye"]}, "none of"),
            ({"ask": "hours"}, "supply"),
            ({"loads": [{"standin": "led", "quirks": ["ghost"]}]}, "quirks"),
            ({"minutes": 0}, "minutes"),
            ({"colour": "red"}, "colour"),
        ):
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
                for seed in range(1, 7):
                    drill = parse_drill(document).like_it(seed)
                    measured, glanced = (played(drill, way(drill)) for way in (careful, careless))
                    good = judged(measured, answered(measured))
                    bad = judged(glanced, by_label(drill, glanced))
                    wins += good.score < bad.score
                    right += good.right
                    self.assertEqual(good.truth, truth_of(drill))
                self.assertGreaterEqual(wins, 5)
                self.assertGreaterEqual(right, 4)
