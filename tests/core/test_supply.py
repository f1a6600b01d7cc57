"""Batteries, inverters, and what of the label reaches the loads."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from needle.decide.starting import will_it_start
from needle.document import DocumentError
from needle.supply.battery import nominal_wh, parse_battery, usable_wh
from needle.supply.inverter import dc_w, parse_inverter, percentage
from needle.supply.supply import parse_supply, staircase
from needle.words import text_of

BATTERY = {"chemistry": "lfp", "nominal_wh": 5120}
INVERTER = {
    "continuous_w": 3000,
    "surge_va": 6000,
    "surge_s": 5,
    "idle_w": 28,
    "efficiency": 0.92,
    "overload": [[1.15, 60]],
}


class BatteryTest(unittest.TestCase):
    def test_series_adds_volts_and_parallel_adds_amp_hours(self):
        self.assertAlmostEqual(nominal_wh(12, 110, series=2, parallel=2), 5280)
        self.assertAlmostEqual(nominal_wh(3.6, 24), 86.4)
        self.assertAlmostEqual(86.4 * 0.87, 75.2, places=1)

    def test_usable_is_between_the_charge_and_the_floor(self):
        battery = parse_battery({**BATTERY, "capacity_factor": 1.0, "start_charge": 0.9})
        self.assertAlmostEqual(usable_wh(battery).value, 5120 * 0.8)

    def test_chemistry_defaults(self):
        floors = {"lfp": 0.10, "lithium": 0.15, "lead": 0.50, "usb": 0.0}
        for key, floor in floors.items():
            battery = parse_battery({"chemistry": key, "nominal_wh": 100})
            self.assertEqual(battery.floor, floor)
            self.assertAlmostEqual(battery.state_of_health.value, 0.93)
        self.assertEqual(parse_battery({"chemistry": "lead", "nominal_wh": 1}).peukert_n, 1.15)

    def test_refusals(self):
        for data, said in [
            (None, "object"),
            ({"chemistry": "lpf", "nominal_wh": 1}, "did you mean “lfp”"),
            ({"chemistry": "lfp"}, "nominal_wh: is needed"),
            ({**BATTERY, "nominal_wh": 0}, "too small"),
            ({**BATTERY, "floor": 1.0}, "too large"),
            ({**BATTERY, "start_charge": 0.05}, "nothing to use"),
            ({**BATTERY, "internal_ohm": 0.02}, "volts: is needed"),
            ({**BATTERY, "volts": 51.2, "cutoff_v": 60}, "above the battery's"),
            ({**BATTERY, "flor": 0.1}, "did you mean “floor”"),
        ]:
            with self.subTest(said=said):
                with self.assertRaises(DocumentError) as caught:
                    parse_battery(data)
                self.assertIn(said, str(caught.exception))


class InverterTest(unittest.TestCase):
    def test_idle_and_marginal_efficiency(self):
        self.assertAlmostEqual(dc_w(33, 28, 0.92), 63.87, places=2)
        self.assertAlmostEqual(percentage(33, 28, 0.92), 0.517, places=3)
        self.assertAlmostEqual(dc_w(184, 28, 0.92), 228.0)
        self.assertAlmostEqual(5120 * 0.9 / dc_w(184, 28, 0.92), 20.2, places=1)

    def test_idle_test(self):
        self.assertAlmostEqual(0.09 * 1020 / 6, 15.3)

    def test_what_is_not_given_is_wide(self):
        usual = parse_inverter({"continuous_w": 1000})
        self.assertEqual(usual.idle_w.grade, "D")
        self.assertLess(usual.idle_w.low, 5)
        self.assertGreater(usual.idle_w.high, 10)
        self.assertFalse(usual.surge_known)
        self.assertEqual(usual.surge_va, 1000)

    def test_refusals(self):
        for change, said in [
            ({"continuous_w": None}, "is needed"),
            ({"surge_va": 2000}, "below the continuous"),
            ({"efficiency": 1.2}, "too large"),
            ({"waveform": "square"}, "one of sine, stepped"),
            ({"overload": [[1.5, 5], [1.15, 60]]}, "must rise"),
            ({"overload": [[1.15]]}, "seconds]"),
            ({"off": [["23:00", "06:00"], ["05:00", "07:00"]]}, "overlaps"),
        ]:
            with self.subTest(said=said):
                with self.assertRaises(DocumentError) as caught:
                    parse_inverter({**INVERTER, **change})
                self.assertIn(said, str(caught.exception))


class StaircaseTest(unittest.TestCase):
    def supply(self, **battery):
        return parse_supply({"battery": {**BATTERY, **battery}, "inverter": INVERTER})

    def test_each_step_is_lower_and_the_last_is_the_sum(self):
        steps = staircase(self.supply(capacity_factor=0.95, capacity_spread=0.0), 24)
        values = [step.left_wh.value for step in steps]
        self.assertEqual(values, sorted(values, reverse=True))
        self.assertAlmostEqual(values[-1], (5120 * 0.95 * 0.9 - 28 * 24) * 0.92)
        self.assertEqual(len(steps), 5)

    def test_hours_beyond_what_it_lasts_are_not_paid_for(self):
        steps = staircase(self.supply(), 1000, mean_ac_w=184)
        self.assertGreater(steps[-1].left_wh.value, 3000)

    def test_idle_may_eat_it_all(self):
        self.assertEqual(staircase(self.supply(), 1000)[-1].left_wh.value, 0)

    def test_without_an_inverter_it_ends_at_the_floor(self):
        supply = parse_supply({"battery": {"chemistry": "usb", "nominal_wh": 86.4}})
        self.assertEqual(len(staircase(supply, 24)), 3)

    def test_a_usb_bank_gives_less_at_its_port(self):
        bank = {"chemistry": "usb", "nominal_wh": 86.4, "capacity_factor": 1.0}
        port = {"name": "usb", "efficiency": 0.87, "idle_w": 0}
        steps = staircase(parse_supply({"battery": bank, "outputs": [port]}), 10)
        self.assertAlmostEqual(steps[-1].left_wh.value, 75.2, places=1)

    def test_the_square_loss_counts_at_the_mean_load(self):
        inverter = {**INVERTER, "square_per_w": 1e-5}
        plain = {**BATTERY, "capacity_factor": 1.0, "capacity_spread": 0.0}
        steps = staircase(parse_supply({"battery": plain, "inverter": inverter}), 4)
        reached, left = steps[-1].left_wh.value, steps[-2].left_wh.value
        self.assertAlmostEqual(dc_w(reached / 4, 0, 0.92, 1e-5) * 4, left, places=6)
        self.assertLess(reached, left * 0.92)


class StartingTest(unittest.TestCase):
    def verdict(self, start_va, others_w=0.0, running_w=100.0, start_s=0.3, **inverter):
        return will_it_start(
            start_va, start_s, running_w, others_w, parse_inverter({**INVERTER, **inverter})
        )

    def test_holds_with_its_margin(self):
        verdict = self.verdict(1363, others_w=200)
        self.assertEqual((verdict.verdict, verdict.margin_va), ("holds", 6000 - 1563))

    def test_grey_between_once_and_twice_the_surge(self):
        self.assertEqual(self.verdict(6001).verdict, "grey")
        self.assertEqual(self.verdict(11_999).verdict, "grey")
        self.assertEqual(self.verdict(12_000).verdict, "trips")

    def test_a_long_start_over_the_surge_trips(self):
        self.assertEqual(self.verdict(6500, start_s=0.6).verdict, "trips")

    def test_a_start_longer_than_the_surge_time_is_held_to_the_continuous_rating(self):
        self.assertEqual(self.verdict(3500, start_s=8).verdict, "trips")
        self.assertEqual(self.verdict(2500, start_s=8).verdict, "holds")

    def test_the_running_sum_counts(self):
        self.assertEqual(self.verdict(200, others_w=3400).verdict, "trips")
        over = self.verdict(200, others_w=3200)
        self.assertEqual(over.verdict, "grey")
        self.assertIn("60 s only", text_of(over.reason))
        self.assertEqual(self.verdict(200, others_w=3200, overload=[]).verdict, "trips")

    @given(st.floats(0, 20_000), st.floats(0, 4000))
    def test_less_is_never_worse(self, start, others):
        rank = {"holds": 0, "grey": 1, "trips": 2}
        more = rank[self.verdict(start, others).verdict]
        self.assertLessEqual(rank[self.verdict(start * 0.9, others * 0.9).verdict], more)

    def test_reason_has_a_figure(self):
        self.assertIn("kVA", text_of(self.verdict(9000).reason))
