"""Drawings: geometry, and that what people type cannot become markup."""

import itertools
import re
import unittest
from xml.etree import ElementTree

import numpy as np

from web.drawing.bars import split_bar, staircase
from web.drawing.dial import dial
from web.drawing.ladder import Rungs, ladder
from web.drawing.scale import hour_step, log_place, nice_ceiling, round_moments
from web.drawing.strip import Marks, TimeAxis, strip, thin
from web.drawing.svg import Svg

NS = {"s": "http://www.w3.org/2000/svg"}


class SvgTest(unittest.TestCase):
    def test_words_are_escaped(self):
        svg = Svg(10, 10, '<script>"&', "")
        svg.words(1, 1, "<b>")
        text = svg.render()
        self.assertNotIn("<script>", text)
        self.assertNotIn("<b>", text)
        ElementTree.fromstring(text)

    def test_nothing_needs_inline_style(self):
        text = dial((10, 14, 18), 24, lambda h: f"{h:g}", "Hours", "said")
        self.assertNotIn("style", text)


class DialTest(unittest.TestCase):
    def degrees(self, *values):
        text = dial(values, 24, lambda h: f"{h:g}", "Hours", "")
        return float(re.search(r'data-degrees="([\d.]+)"', text)[1])

    def test_the_needle_stands_at_the_likely_value(self):
        self.assertAlmostEqual(self.degrees(10, 15, 18), 90.0)
        self.assertAlmostEqual(self.degrees(0, 0, 18), 0.0)

    def test_the_arc_spans_the_range(self):
        def width(low, high):
            root = ElementTree.fromstring(
                dial((low, 14, high), 24, lambda h: f"{h:g}", "Hours", "")
            )
            path = root.find(".//s:path[@class='dial-range']", NS).get("d")
            xs = [float(pair.split()[0]) for pair in re.findall(r"[\d.]+ [\d.]+", path)]
            return max(xs) - min(xs)

        self.assertGreater(width(8, 20), width(13, 15) * 2)


class ScaleTest(unittest.TestCase):
    def test_ceilings_divide_by_three(self):
        self.assertEqual(
            [nice_ceiling(value) for value in (2.9, 3.1, 25.9, 31, 70)], [3, 4.5, 30, 45, 75]
        )
        for value in (0.2, 7, 19, 140, 999):
            self.assertTrue(value <= nice_ceiling(value) <= 1.7 * value)

    def test_places(self):
        self.assertEqual(log_place(1, 1, 100), 0)
        self.assertAlmostEqual(log_place(10, 1, 100), 0.5)
        self.assertEqual(log_place(1e9, 1, 100), 1)
        self.assertEqual([hour_step(value) for value in (6, 24, 72, 336)], [1, 3, 12, 48])


class ChartTest(unittest.TestCase):
    def test_a_ladder_shows_what_is_known(self):
        rungs = Rungs(1.8, 92.0, 85.0, 99.0, (31.0,), 1363.0, 1200.0, 1550.0)
        root = ElementTree.fromstring(ladder(rungs, "States", "said"))
        running = float(root.find(".//s:rect[@class='state-running']", NS).get("x"))
        other = float(root.find(".//s:rect[@class='state-other']", NS).get("x"))
        resting = float(root.find(".//s:circle", NS).get("cx"))
        self.assertTrue(resting < other < running)
        bare = Rungs(None, 92.0, 85.0, 99.0, (), 1363.0, 1200.0, 1550.0)
        self.assertIsNone(ElementTree.fromstring(ladder(bare, "S", "")).find(".//s:circle", NS))

    def test_a_split_bar_fills_its_width(self):
        root = ElementTree.fromstring(split_bar([("a", 3, "x"), ("b", 1, "y")], "Bar", 400))
        widths = [float(element.get("width")) for element in root.findall(".//s:rect", NS)]
        self.assertEqual(widths, [300, 100])
        self.assertIn("a 75 %, b 25 %", root.get("aria-label"))

    def test_stairs_fall(self):
        steps = [("label", 100, 100, 100, "100"), ("left", 70, 80, 90, "80"), ("end", 0, 0, 0, "0")]
        root = ElementTree.fromstring(staircase(steps, "Stairs"))
        heights = [
            float(element.get("height"))
            for element in root.findall(".//s:rect[@class='stair']", NS)
        ]
        self.assertEqual(heights, sorted(heights, reverse=True))
        self.assertEqual(heights[-1], 0)


class StripTest(unittest.TestCase):
    def test_thinning_keeps_every_extreme(self):
        rng = np.random.default_rng(3)
        values = rng.uniform(0, 10, 100_000)
        values[[17, 54_321]] = [900.0, -40.0]
        points = thin(np.arange(100_000.0), values, 400)
        self.assertLessEqual(len(points.time_s), 400)
        self.assertEqual((points.high.max(), points.low.min()), (900.0, -40.0))
        self.assertTrue((points.low <= points.high).all())

    def test_short_series_stay_as_they_are(self):
        points = thin(np.arange(5.0), np.array([1, np.nan, 3, 2, 5.0]), 400)
        self.assertEqual(points.high.tolist(), [1, 3, 2, 5])
        empty = thin(np.arange(3.0), np.full(3, np.nan), 10)
        self.assertEqual(len(empty.time_s), 0)

    def test_levels_starts_and_gaps_stand_on_it(self):
        points = thin(np.arange(100.0), np.where(np.arange(100) > 50, 92.0, 2.0), 400)
        marks = Marks([(2.0, "resting"), (92.0, "running")], [50.0, 500.0], [(10.0, 20.0)])
        root = ElementTree.fromstring(
            strip(points, TimeAxis(0.0, 99.0, lambda s: f"{s:.0f}"), marks, "Strip", "said")
        )
        self.assertEqual(len(root.findall(".//s:line[@class='level-line']", NS)), 2)
        self.assertEqual(len(root.findall(".//s:line[@class='start-mark']", NS)), 1)
        self.assertEqual(len(root.findall(".//s:rect[@class='gap']", NS)), 1)

    def test_marks_stand_at_round_times_of_the_clock(self):
        # It begins at 20:56 and lasts 36 h: six hours apart, on the clock's own sixths.
        moments = round_moments(0.0, 36 * 3600, -(20 * 3600 + 56 * 60))
        self.assertEqual(moments, [11040.0 + 21600 * number for number in range(6)])
        self.assertEqual(round_moments(0, 9), [0, 2, 4, 6, 8])

    def test_names_of_near_levels_do_not_collide(self):
        points = thin(np.arange(10.0), np.full(10, 100.0), 50)
        marks = Marks([(1.0, "a"), (1.5, "b"), (2.0, "c")])
        root = ElementTree.fromstring(strip(points, TimeAxis(0, 9, str), marks, "Strip", ""))
        ys = [
            float(element.get("y"))
            for element in root.findall(".//s:text[@class='level-label']", NS)
        ]
        self.assertTrue(all(abs(a - b) >= 14 for a, b in itertools.pairwise(sorted(ys))))
