"""Costs, and settings side by side."""

import unittest

from needle.estimate import Estimate
from needle.measure.readings import parse
from needle.profile.cost import cost, settings_of
from needle.profile.record import LoadRecord

SPOTS = [
    {"type": "spot", "watts": 31, "setting": "low"},
    {"type": "spot", "watts": 62, "setting": "high"},
    {"type": "spot", "state": "resting", "watts": 3},
    {"type": "tally", "setting": "high", "edges": [["on", 0], ["off", 300], ["on", 600]]},
]


class CostTest(unittest.TestCase):
    def test_energy_times_tariff_with_its_range(self):
        price = cost(Estimate(1000.0, 0.1, "B"), 0.31)
        self.assertAlmostEqual(price.value, 0.31)
        self.assertAlmostEqual(price.high / price.value, Estimate(1, 0.1, "B").high)

    def test_settings_side_by_side(self):
        record = LoadRecord("Mat", "thermostat-heat", tuple(map(parse, SPOTS)))
        rows = settings_of(record)
        self.assertEqual([row.setting for row in rows], ["low", "high"])
        high = rows[1].profile
        self.assertAlmostEqual(high.mean_w.value, 3 + 0.5 * 59)
        self.assertAlmostEqual(rows[1].relative, high.mean_w.value / rows[0].profile.mean_w.value)

    def test_one_setting_has_nothing_beside_it(self):
        record = LoadRecord("Mat", "thermostat-heat", tuple(map(parse, SPOTS[:1])))
        self.assertEqual(settings_of(record), [])
