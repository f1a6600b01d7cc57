"""What tests of a supply prove: fits against known truth, idle, drains, routes."""

import math
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from needle.document import DocumentError
from needle.estimate import Estimate
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate
from needle.standin.supplies import standin_supply
from needle.supply.fit import fit_inverter
from needle.supply.inverter import dc_w
from needle.supply.supply import parse_supply
from needle.supply.supply_tests import (
    account,
    idle_w,
    parse_test,
    saved_w,
    state_of_health,
)
from needle.words import text_of

CABINET = {
    "battery": {"chemistry": "lfp", "nominal_wh": 5120, "volts": 51.2},
    "inverter": {"continuous_w": 3000, "surge_va": 6000},
    "outputs": [{"name": "dc12", "volts": 12, "max_a": 20}],
}


def fits(seeds, supply):
    """Seeded stand-ins of a supply, each with the fit to its five paired readings."""
    for seed in seeds:
        twin = standin_supply(supply, seed)
        yield twin, fit_inverter(twin.paired())


class FewPairsTest(unittest.TestCase):
    """One pair or two say a part of what a line would."""

    def inverter(self, *tests):
        supply = {**CABINET, "inverter": {"continuous_w": 1000}, "tests": list(tests)}
        return parse_supply(supply).inverter

    def test_one_pair_narrows_idle_and_efficiency_together(self):
        before = self.inverter()
        after = self.inverter({"type": "efficiency", "pairs": [[100, 122]]})
        self.assertLess(after.idle_w.spread, 0.7 * before.idle_w.spread)
        self.assertAlmostEqual(dc_w(100, after.idle_w.value, after.efficiency.value), 122, delta=2)
        # It can be little idle and much loss or the other way: both stay wide.
        self.assertGreater(after.idle_w.high / after.idle_w.low, 2)
        self.assertEqual(after.idle_w.grade, "C")

    def test_an_idle_test_beside_it_settles_both(self):
        both = self.inverter(
            {"type": "efficiency", "pairs": [[100, 122]]}, {"type": "idle", "watts": 9.0}
        )
        self.assertLess(both.efficiency.spread, 0.02)
        self.assertAlmostEqual(both.efficiency.value, 100 / 113, delta=0.01)

    def test_it_never_replaces_a_line_fit(self):
        line = {"type": "efficiency", "pairs": [[0, 9], [100, 120], [500, 570]]}
        alone = self.inverter(line)
        later = self.inverter(line, {"type": "efficiency", "pairs": [[100, 122]]})
        self.assertEqual(alone.efficiency, later.efficiency)

    def test_what_no_inverter_gives_is_refused(self):
        for pairs, said in (
            ([[100, 300]], "no usual inverter"),
            ([[100, 80]], "swapped"),
            ([], "at least one pair"),
        ):
            with self.subTest(pairs=pairs), self.assertRaisesRegex(DocumentError, said):
                self.inverter({"type": "efficiency", "pairs": pairs})


class OutputKindTest(unittest.TestCase):
    def energy(self, **output):
        """Wh of a 12 W load for two hours out of ten, on one output."""
        outcome = simulate(
            parse_plan(
                {
                    "hours": 10,
                    "supply": {
                        "battery": {"chemistry": "lfp", "nominal_wh": 1000},
                        "outputs": [{"name": "dc", "volts": 12, **output}],
                    },
                    "loads": [
                        {
                            "name": "L",
                            "route": "dc",
                            "running_w": 12.0,
                            "use": {"between": [["18:00", "20:00"]]},
                        }
                    ],
                }
            ),
            50,
        )
        return outcome.likely.energy_wh

    def test_straight_on_the_terminals_there_is_only_wire(self):
        energy = self.energy(kind="terminals")
        self.assertEqual(energy["outputs_idle"], 0)
        self.assertAlmostEqual(energy["conversion"], 24 / 0.98 - 24, delta=0.01)

    def test_a_usb_output_idles_less_than_a_socket(self):
        self.assertLess(self.energy(kind="usb")["outputs_idle"], self.energy()["outputs_idle"] / 3)

    def test_off_when_idle_it_draws_with_its_loads_only(self):
        always = self.energy(idle_w=3.0)["outputs_idle"]
        sleeping = self.energy(idle_w=3.0, off_when_idle=True)
        self.assertAlmostEqual(always, 30)
        self.assertAlmostEqual(sleeping["outputs_idle"], 6)
        gone = sleeping["battery_out"]
        self.assertAlmostEqual(gone, 24 + sleeping["outputs_idle"] + sleeping["conversion"])


class FitTest(unittest.TestCase):
    @given(st.floats(1, 60), st.floats(0.8, 0.97), st.floats(0.005, 0.015))
    def test_exact_readings_give_back_the_truth(self, idle, efficiency, square):
        ac = np.array([0, 50, 200, 700, 1500, 2500.0])
        dc = idle + ac / efficiency + square / 2500 * ac**2
        fitted = fit_inverter(list(zip(ac, dc, strict=True)), 1e-6, 1e-6, 1e-6)
        self.assertAlmostEqual(fitted.idle_w.value, idle, delta=0.01)
        self.assertAlmostEqual(fitted.efficiency.value, efficiency, delta=1e-4)
        self.assertLess(max(abs(residual) for residual in fitted.residuals), 3)

    def test_nine_of_ten_stand_ins_are_found(self):
        for watts in (600, 3000):
            supply = parse_supply({**CABINET, "inverter": {"continuous_w": watts}})
            good = [
                abs(fit.idle_w.value - twin.idle_w) <= 2
                and abs(fit.efficiency.value - twin.efficiency) <= 0.01
                for twin, fit in fits(range(60), supply)
            ]
            self.assertGreaterEqual(sum(good), 54)

    def test_the_range_holds_the_truth_about_as_often_as_it_says(self):
        supply = parse_supply(CABINET)
        for name in ("idle_w", "efficiency"):
            held = [
                getattr(fit, name).low <= getattr(twin, name) <= getattr(fit, name).high
                for twin, fit in fits(range(100, 200), supply)
            ]
            self.assertGreater(sum(held), 75)

    def test_a_misread_pair_is_named(self):
        pairs = [(0, 28), (150, 191), (450, 517), (1050, 1170), (2100, 2500)]
        self.assertIsNone(fit_inverter([*pairs[:4], (2100, 2310)]).suspect)
        fitted = fit_inverter([pairs[0], (150, 251), *pairs[2:4], (2100, 2310)])
        self.assertEqual(fitted.suspect, 1)
        self.assertIn("read it again", text_of(fitted.notices[0]))
        self.assertEqual(fitted.efficiency.grade, "B")

    def test_refusals(self):
        for pairs, said in [
            ([(0, 28), (100, 140)], "too few"),
            ([(0, 28), (100, 140), (300, 200)], "swapped"),
            ([(90, 130), (100, 140), (110, 150)], "nearly alike"),
            ([(0, 28), (100, 0), (300, 400)], "above 0"),
            ([(0, 28), (100, math.nan), (300, 400)], "above 0"),
            ([(0, 28), (100, 1400), (300, 4000)], "same moment"),
        ]:
            with self.subTest(said=said):
                with self.assertRaises(DocumentError) as caught:
                    fit_inverter(pairs)
                self.assertIn(said, str(caught.exception))


class IdleTest(unittest.TestCase):
    def test_the_worked_idle_test(self):
        test = parse_test({"type": "idle", "from": 1.0, "to": 0.91, "hours": 6})
        idle = idle_w(test, Estimate(1020, 0.0, "B"))
        self.assertAlmostEqual(idle.value, 15.3)
        # Two last digits, and a display that is only good to two percent of full.
        self.assertAlmostEqual(idle.spread, math.hypot(0.01 / math.sqrt(6), 0.02) / 0.09)
        self.assertEqual(idle.grade, "B")

    def test_a_short_drop_is_wide(self):
        test = parse_test({"type": "idle", "from": 1.0, "to": 0.98, "hours": 1.5})
        idle = idle_w(test, Estimate(1020, 0.05, "D"))
        self.assertGreater(idle.spread, 0.2)
        self.assertEqual(idle.grade, "B")

    def test_read_directly(self):
        idle = idle_w(parse_test({"type": "idle", "watts": 27.4}), Estimate(1, 0.0, "A"))
        self.assertEqual((idle.value, idle.grade), (27.4, "A"))


class CapacityTest(unittest.TestCase):
    def test_a_drain_from_full_to_cut_off(self):
        test = parse_test({"type": "capacity", "from": 1, "to": 0, "wh": 4700, "hours": 20})
        health = state_of_health(test, 5120)
        self.assertAlmostEqual(health.value, 4700 / 5120)
        self.assertEqual(health.grade, "A")
        self.assertLess(health.spread, 0.01)

    def test_counted_behind_the_inverter_adds_its_losses(self):
        supply = parse_supply(
            {**CABINET, "inverter": {"continuous_w": 3000, "idle_w": 28, "efficiency": 0.92}}
        )
        log = [[0, 1.0, 0], [10, 0.5, 1800], [20, 0.08, 3680]]
        test = parse_test({"type": "capacity", "log": log, "counted": "ac"})
        health = state_of_health(test, 5120, supply.inverter)
        self.assertAlmostEqual(health.value, (3680 / 0.92 + 28 * 20) / (5120 * 0.92))

    def test_a_part_of_the_scale_is_wider_than_the_whole(self):
        part = {"type": "capacity", "from": 1, "to": 0.6, "wh": 1880, "hours": 8}
        whole = {"type": "capacity", "from": 1, "to": 0, "wh": 4700, "hours": 20}
        spreads = [state_of_health(parse_test(test), 5120).spread for test in (part, whole)]
        self.assertGreater(spreads[0], 3 * spreads[1])

    def test_stand_ins(self):
        supply = parse_supply(CABINET)
        for seed in range(12):
            twin = standin_supply(supply, seed)
            log = twin.drain_log(400, 0.1)
            test = parse_test({"type": "capacity", "log": [list(row) for row in log]})
            health = state_of_health(test, 5120)
            self.assertAlmostEqual(health.value, twin.held_wh / 5120, delta=3 * health.spread)


class RouteTest(unittest.TestCase):
    def test_where_each_route_s_energy_went(self):
        test = parse_test(
            {
                "type": "route",
                "load": "Router",
                "output": "dc12",
                "hours": 10,
                "step": 0.001,
                "ac": {"load_wh": 140, "from": 1, "to": 0.91},
                "dc": {"load_wh": 120, "from": 1, "to": 0.97},
            }
        )
        held = Estimate(5000, 0.0, "A")
        ac = account("ac", test.ac, test, held, Estimate(28, 0.0, "A"))
        dc = account("dc12", test.dc, test, held, Estimate(1, 0.0, "A"))
        self.assertAlmostEqual(ac.battery_wh.value, 450)
        self.assertAlmostEqual(ac.conversion_wh.value, 450 - 140 - 280)
        self.assertAlmostEqual(dc.mean_w.value, 15)
        low, value, high = saved_w(ac, dc)
        self.assertAlmostEqual(value, 30)
        self.assertLess(low, value)
        self.assertLess(value, high)

    def test_more_at_the_load_than_left_the_battery_is_refused(self):
        test = parse_test(
            {
                "type": "route",
                "hours": 5,
                "output": "dc12",
                "ac": {"load_wh": 900, "to": 0.9},
                "dc": {"to": 0.95},
            }
        )
        with self.assertRaises(DocumentError) as caught:
            account("ac", test.ac, test, Estimate(1000, 0.0, "A"), Estimate(5, 0.0, "A"))
        self.assertIn("more than", str(caught.exception))
        dc = account("dc12", test.dc, test, Estimate(1000, 0.0, "A"), Estimate(1, 0.0, "A"))
        self.assertIsNone(dc.conversion_wh)


class MeasuredTest(unittest.TestCase):
    def test_the_newest_test_of_a_kind_counts(self):
        tests = [
            {"type": "idle", "watts": 40, "on": "2026-01-01"},
            {"type": "idle", "watts": 30, "on": "2026-05-01"},
            {"type": "idle", "output": "dc12", "watts": 1.5},
            {"type": "capacity", "wh": 4600, "hours": 20, "to": 0.0},
        ]
        supply = parse_supply({**CABINET, "tests": tests})
        self.assertEqual(supply.inverter.idle_w.value, 30)
        self.assertIn("1 May 2026", text_of(supply.inverter.idle_w.how[0]))
        self.assertEqual(supply.outputs[0].idle_w.value, 1.5)
        self.assertAlmostEqual(supply.battery.state_of_health.value, 4600 / 5120)

    def test_a_fitted_and_a_tested_idle_are_pooled(self):
        pairs = [[0, 28], [150, 191], [450, 517], [1050, 1170], [2100, 2310]]
        tests = [{"type": "efficiency", "pairs": pairs}, {"type": "idle", "watts": 29}]
        supply = parse_supply({**CABINET, "tests": tests}).inverter
        self.assertTrue(28 < supply.idle_w.value < 29)
        self.assertEqual(supply.efficiency.grade, "A")
        self.assertGreater(supply.square_per_w.value, 0)

    def test_refusals(self):
        for test, said in [
            ({"type": "idle", "output": "usb", "watts": 1}, "no output “usb”"),
            ({"type": "idle", "to": 1.0, "hours": 5}, "not below"),
            ({"type": "idle", "to": 0.9}, "hours: is needed"),
            ({"type": "idle"}, "to: is needed"),
            ({"type": "capacity", "wh": 90_000, "hours": 5, "to": 0}, "of its label"),
            ({"type": "capacity", "log": [[0, 1, 0], [5, 0.5, 100], [4, 0.4, 120]]}, "must rise"),
            ({"type": "capacity", "log": [[0, 1, 0]]}, "before anything"),
            ({"type": "efficiency", "pairs": [[1]]}, "[AC watts, DC watts]"),
            ({"type": "effciency"}, "did you mean “efficiency”"),
            ("idle", "must be an object"),
        ]:
            with self.subTest(said=said):
                with self.assertRaises(DocumentError) as caught:
                    parse_supply({**CABINET, "tests": [test]})
                self.assertIn(said, str(caught.exception))

    def test_stand_ins_show_what_they_are_made_of(self):
        supply = parse_supply(CABINET)
        twin = standin_supply(supply, 5)
        self.assertEqual(twin, standin_supply(supply, 5))
        hours = twin.hours_to(200, 0.5)
        self.assertAlmostEqual(twin.display(200, hours), 0.5, delta=0.006)
        gone = 1 - twin.true_charge(0.5)
        self.assertAlmostEqual(twin.drain_w(200) * hours, gone * twin.held_wh)
        self.assertLess(twin.drain_w(20, "dc12"), twin.drain_w(20))

    def test_the_last_fifth_of_a_display_goes_faster_or_slower(self):
        knees = []
        for seed in range(20):
            twin = standin_supply(parse_supply(CABINET), seed)
            knees.append(twin.true_charge(0.2))
            for shown in (0.0, 0.1, 0.2, 0.55, 1.0):
                self.assertAlmostEqual(twin.charge_shown(twin.true_charge(shown)), shown)
            self.assertAlmostEqual(twin.true_charge(1.0), 1.0)
        self.assertTrue(0.08 < min(knees) < 0.15 and 0.2 < max(knees) < 0.28)


class OutputVoltsTest(unittest.TestCase):
    """A DC load wants the volts of its output, or of the battery it hangs on straight."""

    def trips(self, load_v, **output):
        outcome = simulate(
            parse_plan(
                {
                    "hours": 5,
                    "supply": {
                        "battery": {"chemistry": "lead", "nominal_wh": 1000, "volts": 12},
                        "outputs": [{"name": "o", **output}],
                    },
                    "loads": [{"name": "L", "route": "o", "running_w": 12.0, "volts": load_v}],
                }
            ),
            50,
        )
        return [(trip.why, trip.limit_w) for trip in outcome.trips]

    def test_a_load_for_other_volts_does_not_run(self):
        self.assertEqual(self.trips(24, volts=12), [("volts", 12)])
        self.assertEqual(self.trips(24, kind="terminals"), [("volts", 12)])
        self.assertEqual(self.trips(24, kind="converter", volts=24), [])
        self.assertEqual(self.trips(13.8, volts=12), [])

    def test_what_says_nothing_is_taken_as_fitting(self):
        # An AC adapter's volts, a USB output, an output whose volts nobody gave.
        for load_v, output in ((230, {"volts": 12}), (20, {"volts": 5, "kind": "usb"}), (24, {})):
            self.assertEqual(self.trips(load_v, **output), [])
