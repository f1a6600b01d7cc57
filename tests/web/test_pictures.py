"""Drawings of plans and trials, and how they stand by themselves."""

from __future__ import annotations

import re
import unittest
from datetime import UTC, datetime
from xml.etree import ElementTree

import numpy as np

from web.drawing.fan import Point, Run, fan
from web.drawing.spans import Span, spans
from web.drawing.standalone import standalone
from web.drawing.timeline import (
    NARROW,
    WIDE,
    Charge,
    Frame,
    Lane,
    LaneBlock,
    Power,
    charts,
    lanes,
)

START = datetime(2027, 2, 9, 18, tzinfo=UTC)
CHARGE = Charge(
    [0, 12, 24, 36],
    [1, 0.5, 0.1, 0.1],
    [1, 0.6, 0.2, 0.1],
    [1, 0.7, 0.3, 0.1],
    0.1,
    24.0,
    30.0,
    "empty Wed 23:00",
)
POWER = Power(
    np.full(36 * 60, 200.0),
    3000.0,
    "inverter limit 3 kW",
    [(2.0, "Oven trips")],
    [(0.0, "0"), (1500.0, "1.5 kW")],
)
NAMES = ("Stored", "5.1 kWh", "Drawn", "by the minute")


def tree(svg):
    return ElementTree.fromstring(str(svg))


def texts(svg):
    return [element.text for element in tree(svg).iter() if element.tag.endswith("text")]


LEFT, PLOT = WIDE.left, WIDE.plot


class FrameTest(unittest.TestCase):
    def test_hours_fall_inside_the_plot(self):
        frame = Frame(START, 6.0, 12.0)
        self.assertEqual(
            (frame.x(6), frame.x(18), frame.x(12)), (LEFT, LEFT + PLOT, LEFT + PLOT / 2)
        )
        self.assertEqual((frame.x(0), frame.x(99)), (LEFT, LEFT + PLOT))
        self.assertTrue(frame.shows(6) and frame.shows(18) and not frame.shows(5.9))


class ChartsTest(unittest.TestCase):
    def draw(self, frame):
        return charts(frame, CHARGE, POWER, NAMES, "from full to the floor")

    def test_it_says_what_matters(self):
        shown = texts(self.draw(Frame(START, 0.0, 36.0)))
        for words in (
            "needed until here",
            "floor 10 %",
            "empty Wed 23:00",
            "inverter limit 3 kW",
            "Stored",
            "Drawn",
            "Tue 18:00",
        ):
            self.assertIn(words, shown)

    def test_what_lies_outside_the_hours_shown_is_left_out(self):
        shown = texts(self.draw(Frame(START, 0.0, 6.0)))
        self.assertNotIn("needed until here", shown)
        self.assertNotIn("empty Wed 23:00", shown)

    def test_a_trip_is_marked_with_its_words(self):
        self.assertIn("Oven trips", str(self.draw(Frame(START, 0.0, 6.0))))
        self.assertNotIn("Oven trips", str(self.draw(Frame(START, 3.0, 6.0))))

    def test_lines_end_at_the_edges(self):
        path = re.search(r'd="M([^"]+)" class="likely"', str(self.draw(Frame(START, 6.0, 12.0))))[1]
        xs = [float(step.split()[0]) for step in path.split(" L")]
        self.assertEqual((xs[0], xs[-1]), (LEFT, LEFT + PLOT))

    def test_two_weeks_stay_small(self):
        power = Power(np.random.default_rng(1).uniform(0, 500, 336 * 60), None, "")
        hours = list(range(337))
        charge = Charge(hours, [0.5] * 337, [0.6] * 337, [0.7] * 337, 0.1, 72.0, None, "")
        drawn = charts(Frame(START, 0.0, 336.0), charge, power, NAMES, "")
        self.assertLess(len(drawn), 60_000)


class LanesTest(unittest.TestCase):
    def test_on_narrow_paper_names_stand_above_their_bar(self):
        frame = Frame(START, 0.0, 6.0, paper=NARROW)
        root = tree(lanes(frame, self.rows(), "Lanes"))
        names = [
            (float(e.get("x")), float(e.get("y")))
            for e in root.iter()
            if e.get("class") == "lane-name"
        ]
        bars = [float(e.get("y")) for e in root.iter() if e.get("class") == "lane"]
        self.assertEqual(len(names), len(bars))
        for (x, y), bar in zip(names, bars, strict=True):
            self.assertTrue(x < 5 and bar - 12 < y < bar)
        self.assertLess(float(root.get("width")), 390)

    def rows(self):
        key = {"data_of": "loads", "data_key": 3, "data_index": 0}
        return [
            Lane(
                "A load with a rather long name",
                "33 W",
                "/loads/3/",
                [
                    LaneBlock(1.0, 2.0, "of-load", "Lamp, <b>Tue</b>", key, True),
                    LaneBlock(0.0, 4.0, "on"),
                ],
                None,
                [(1.5, "trips")],
            ),
            Lane("Panels", "720 W", "", [], np.linspace(0, 1, 600)),
        ]

    def test_blocks_can_be_chosen_and_are_escaped(self):
        drawn = lanes(Frame(START, 0.0, 6.0), self.rows(), "Lanes", [(1, LaneBlock(3, 4, "ghost"))])
        root = tree(drawn)
        blocks = [
            element for element in root.iter() if "block" in (element.get("class") or "").split()
        ]
        self.assertEqual(len(blocks), 1)
        self.assertEqual((blocks[0].get("role"), blocks[0].get("tabindex")), ("button", "0"))
        self.assertEqual(blocks[0].get("data-key"), "3")
        self.assertEqual(blocks[0].get("aria-label"), "Lamp, <b>Tue</b>")
        self.assertNotIn("<b>", str(drawn))
        self.assertEqual(root.get("role"), "group")
        self.assertIn("ghost", str(drawn))
        self.assertIn("A load with a rather…", texts(drawn))

    def test_what_is_outside_is_not_drawn(self):
        drawn = lanes(Frame(START, 4.0, 2.0), self.rows(), "Lanes")
        self.assertNotIn("data-key", str(drawn))


class FanTest(unittest.TestCase):
    def run_of(self, **change):
        values = {
            "points": [Point(2.0, 0.8, True, "2 h: 80 %"), Point(5.0, 0.5, False, "5 h: 50 %")],
            "fan": [(5.0, 0.5, 0.5, 0.5), (10.0, 0.0, 0.1, 0.2)],
            "legs": [(0.0, "start"), (3.0, "mat to low")],
            "promises": [(2.0, 0.8, 30.0)],
            "stop_at": 0.1,
            "start_charge": 1.0,
            "planned_h": 9.0,
            "ended": None,
        }
        return fan(Run(**{**values, **change}), "Charge", "two check-ins")

    def test_it_says_what_matters(self):
        shown = texts(self.run_of())
        for words in (
            "start",
            "mat to low",
            "stop at 10 %",
            "plan said",
            "the last fifth often goes faster than it says",
        ):
            self.assertIn(words, shown)
        self.assertEqual(str(self.run_of()).count('class="seen"'), 1)
        self.assertEqual(str(self.run_of()).count('class="seen counted"'), 1)

    def test_an_end_is_marked_and_no_fan_is_left(self):
        drawn = self.run_of(fan=[], ended=(8.0, "reached its floor"))
        self.assertIn("reached its floor", texts(drawn))
        self.assertNotIn("band", str(drawn))

    def test_promises_stay_inside(self):
        for line in tree(self.run_of()).iter():
            if line.get("class") == "promise":
                self.assertLessEqual(float(line.get("x2")), 872)


class SpansTest(unittest.TestCase):
    def test_names_and_words(self):
        drawn = spans([Span("Old", 10, 20, 30), Span("N" * 40, 5, 6, 7)], "W", "Mean, W")
        self.assertIn("Old", texts(drawn))
        self.assertEqual(
            tree(drawn).get("aria-label"), f"Mean, W. Old 20.0\u00a0W; {'N' * 40} 6.00\u00a0W"
        )


class StandaloneTest(unittest.TestCase):
    def test_it_is_whole_and_has_its_colours(self):
        drawn = standalone(charts(Frame(START, 0.0, 36.0), CHARGE, POWER, NAMES, ""))
        root = ElementTree.fromstring(drawn.encode())
        style = next(element.text for element in root.iter() if element.tag.endswith("style"))
        self.assertIn("#0f6a73", style)
        self.assertIn(".band", style)
        self.assertNotIn("var(", style)
        self.assertNotIn("@", style)
