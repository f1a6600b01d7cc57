"""Comparing loads, and what they cost."""

from __future__ import annotations

import math
import unittest

import numpy as np

from needle.decide.compare import LoadSide, against, figures, unfair
from needle.document import DocumentError
from needle.estimate import Estimate, from_limits
from needle.measure.readings import parse
from needle.message import message
from needle.profile.cost import (
    Tariff,
    costs_of,
    tariff_hours_from_text,
    tariff_of,
)
from needle.profile.profile import derive
from needle.profile.record import LoadRecord
from needle.words import text_of


def side(name, wh, hours=24.0, **more):
    reading = {"type": "energy", "wh": wh, "hours": hours, "step_wh": 1}
    if "room_c" in more:
        reading["room_c"] = more["room_c"]
    return LoadSide(name, derive(LoadRecord(name, "compressor-fixed", (parse(reading),))), **more)


class AgainstTest(unittest.TestCase):
    def test_a_ratio_of_log_normals(self):
        difference = against(Estimate(80, 0.05, "A"), Estimate(100, 0.05, "A"))
        self.assertAlmostEqual(difference.value, -0.2)
        spread = math.sqrt(2 * math.log(1 + 0.05**2))
        self.assertAlmostEqual(difference.low, 0.8 * math.exp(-1.2816 * spread) - 1, places=4)
        self.assertTrue(difference.real)

    def test_ranges_that_overlap_are_no_real_difference(self):
        self.assertFalse(against(Estimate(95, 0.1, "B"), Estimate(100, 0.1, "B")).real)
        self.assertIsNone(against(Estimate(0, 0.1, "B"), Estimate(100, 0.1, "B")))

    def test_it_is_symmetric(self):
        first, other = Estimate(70, 0.1, "B"), Estimate(100, 0.2, "B")
        there, back = against(first, other), against(other, first)
        self.assertAlmostEqual((1 + there.value) * (1 + back.value), 1)
        self.assertAlmostEqual((1 + there.low) * (1 + back.high), 1)


class FiguresTest(unittest.TestCase):
    def setUp(self):
        self.sides = [
            side("Old", 1200, room_c=24.0, litres=150.0, set_c=4.0, price=0.3),
            side("New", 600, room_c=24.0, litres=100.0, set_c=4.0, price=0.3),
        ]

    def row(self, name):
        return next(figure for figure in figures(self.sides) if figure.name == name)

    def test_per_litre_and_per_degree(self):
        self.assertAlmostEqual(self.row("a day and litre").values[0].value, 8.0, delta=0.01)
        self.assertAlmostEqual(self.row("a day and litre").values[1].value, 6.0, delta=0.01)
        self.assertAlmostEqual(self.row("a day and degree of lift").values[0].value, 60, delta=0.1)
        self.assertAlmostEqual(
            self.row("cost of a year").values[1].value, 0.6 * 365 * 0.3, delta=0.1
        )

    def test_what_nobody_has_is_left_out(self):
        self.assertNotIn("a task", {figure.name for figure in figures(self.sides)})

    def test_fairness(self):
        self.assertEqual(unfair(self.sides), [message("unlike-sizes")])
        warm = side("Warm", 900, room_c=31.0, litres=150.0, set_c=2.0)
        words = " ".join(map(text_of, unfair([self.sides[0], warm])))
        self.assertIn("room", words)
        self.assertIn("set point", words)
        unknown = side("Unknown", 900, set_c=4.0)
        self.assertIn("not written down", " ".join(map(text_of, unfair([self.sides[0], unknown]))))

    def test_ranges_that_do_not_overlap_are_a_real_difference(self):
        # 7.5-31 W and 36-49 W.
        low, mid = from_limits(7.5, 16.0, 31.0), from_limits(36.0, 41.8, 49.0)
        self.assertLess(low.high, mid.low)
        self.assertTrue(against(mid, low).real)
        self.assertFalse(against(from_limits(10.0, 20.0, 40.0), low).real)

    def test_hours_on_a_shared_battery_are_paired(self):
        battery = np.random.default_rng(3).lognormal(sigma=0.2, size=400)
        first, second = (
            LoadSide(name, self.sides[0].profile, hours=hours * battery)
            for name, hours in (("Low", 20.0), ("High", 19.0))
        )
        row = next(figure for figure in figures([first, second]) if figure.unit == "h")
        self.assertTrue(row.values[0].low < row.values[1].high)
        shorter = row.against(1)
        self.assertTrue(shorter.real)
        self.assertAlmostEqual(shorter.value, -0.05)


class TariffTest(unittest.TestCase):
    def test_mean_over_hours(self):
        hours = tariff_hours_from_text("23:00–07:00 0.10; 17-20 0,50")
        self.assertEqual(hours, [["23:00", "07:00", 0.1], ["17:00", "20:00", 0.5]])
        tariff = tariff_of(0.30, hours)
        self.assertAlmostEqual(tariff.mean(), (8 * 0.1 + 3 * 0.5 + 13 * 0.3) / 24)
        self.assertAlmostEqual(tariff.mean([tariff.hours[1][0]]), 0.5)
        self.assertAlmostEqual(Tariff(0.3).mean(), 0.3)
        self.assertEqual(tariff_hours_from_text(" "), [])

    def test_refusals(self):
        for text in ("cheap at night", "23-7", "23-7 0.1; 6-9 0.2", "25-26 x"):
            with self.subTest(text=text), self.assertRaises(DocumentError):
                tariff_hours_from_text(text)

    def test_costs(self):
        record = LoadRecord(
            "Box",
            "compressor-fixed",
            (parse({"type": "energy", "wh": 1000, "hours": 24, "step_wh": 1}),),
        )
        costs = costs_of(derive(record), 0.25)
        self.assertAlmostEqual(costs.day.value, 0.25, places=3)
        self.assertAlmostEqual(costs.month.value, 0.25 * 30.4, places=2)
        self.assertAlmostEqual(costs.year.value, 0.25 * 365, places=1)
        self.assertIsNone(costs.task)
