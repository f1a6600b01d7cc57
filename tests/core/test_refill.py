"""When a battery is full again."""

from __future__ import annotations

import math
import unittest

from needle.supply.supply import parse_supply
from needle.watch.refill import full_again_h


def battery(chemistry="lfp", **more):
    entered = {"chemistry": chemistry, "nominal_wh": 2000, "charge_efficiency": 1.0, **more}
    return parse_supply({"battery": entered}).battery


class RefillTest(unittest.TestCase):
    def test_a_small_charger_gives_what_is_missing_over_its_watts(self):
        """From 49 to 99 % of 2000 Wh are 1000 Wh."""
        hours = full_again_h((0.49, 0.49, 0.49), (2000, 2000, 2000), 100, battery())
        for each in hours:
            self.assertAlmostEqual(each, 10.0, delta=0.05)

    def test_a_loss_of_charging_takes_longer(self):
        hours = full_again_h((0.49,) * 3, (2000,) * 3, 100, battery(charge_efficiency=0.8))
        self.assertAlmostEqual(hours[1], 12.5, delta=0.05)

    def test_an_emptier_and_larger_battery_takes_longer(self):
        low, mid, high = full_again_h((0.3, 0.4, 0.5), (1800, 2000, 2200), 200, battery())
        self.assertAlmostEqual(low, 0.49 * 1800 / 200, delta=0.05)
        self.assertAlmostEqual(mid, 0.59 * 2000 / 200, delta=0.05)
        self.assertAlmostEqual(high, 0.69 * 2200 / 200, delta=0.05)

    def test_lead_acid_takes_less_the_fuller_it_is(self):
        """A charger of any size leaves it hours from full: it accepts what is missing each hour."""
        hours = full_again_h((0.5,) * 3, (2000,) * 3, 5000, battery("lead"))
        self.assertGreater(hours[1], 2.5)
        self.assertLess(full_again_h((0.5,) * 3, (2000,) * 3, 5000, battery())[1], 1.2)

    def test_full_and_never(self):
        self.assertEqual(full_again_h((1.0,) * 3, (2000,) * 3, 100, battery()), (0.0, 0.0, 0.0))
        self.assertEqual(full_again_h((0.1,) * 3, (2000,) * 3, 1, battery())[1], math.inf)
