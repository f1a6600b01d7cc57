"""Volts under load, cold, limits of outputs and inputs."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from needle.decide.starting import holds_above
from needle.document import DocumentError
from needle.plan.documents.parse import parse_plan
from needle.plan.documents.report import as_document
from needle.plan.energy.simulate import simulate
from needle.supply.battery import cold_factor, parse_battery
from needle.supply.charging import input_limit_w, parse_inputs
from needle.supply.chemistry import CHEMISTRIES
from needle.supply.inverter import parse_inverter
from needle.supply.outputs import parse_outputs
from needle.supply.voltage import cells_in_series, most_w, open_circuit_v
from tests.core.exact import exact
from tests.core.reference import terminal_v

LEAD = {
    "chemistry": "lead",
    "nominal_wh": 1200,
    "volts": 12,
    "floor": 0.0,
    "internal_ohm": 0.03,
    "cutoff_v": 11.0,
    "capacity_factor": 1.0,
    "capacity_spread": 0.0,
}


class VoltageTest(unittest.TestCase):
    def test_published_lead_acid_volts(self):
        # Specific gravity tables of 12 V batteries: 12.66 V full, 12.2 V half, 11.8 V empty.
        volts = open_circuit_v("lead", 12, np.array([1.0, 0.5, 0.0]))
        np.testing.assert_allclose(volts, [12.66, 12.21, 11.79], atol=0.01)

    def test_lithium_iron_says_almost_nothing_between_20_and_90(self):
        full, low = open_circuit_v("lfp", 51.2, np.array([0.9, 0.2]))
        self.assertLess((full - low) / full, 0.03)
        self.assertGreater(open_circuit_v("lfp", 51.2, 0.2) - open_circuit_v("lfp", 51.2, 0.0), 9)

    def test_cells(self):
        for chemistry, volts, cells in (
            ("lead", 12, 6),
            ("lead", 24, 12),
            ("lfp", 12.8, 4),
            ("lfp", 51.2, 16),
            ("lithium", 14.8, 4),
            ("usb", 3.6, 1),
            ("usb", 3.7, 1),
        ):
            self.assertEqual(cells_in_series(chemistry, volts), cells)

    @given(st.sampled_from(sorted(CHEMISTRIES)), st.floats(0, 1), st.floats(0, 1))
    def test_more_charge_is_never_less_volts(self, chemistry, first, second):
        low, high = sorted((first, second))
        self.assertLessEqual(
            open_circuit_v(chemistry, 12.8, low), open_circuit_v(chemistry, 12.8, high)
        )

    @given(st.floats(0.005, 0.1), st.floats(0.05, 1.0))
    def test_the_limit_in_watts_is_where_the_terminals_meet_the_cut_off(self, ohm, charge):
        rested = float(open_circuit_v("lead", 12, charge))
        watts = float(most_w(rested, ohm, 11.0))
        self.assertAlmostEqual(terminal_v(rested, ohm, watts / 11.0), 11.0)

    def test_a_40_amp_start_near_empty_trips_a_box_that_shows_20_percent(self):
        battery = parse_battery(LEAD)
        ohm = battery.internal_ohm.value
        at = {c: terminal_v(float(open_circuit_v("lead", 12, c)), ohm, 40) for c in (0.2, 0.6)}
        self.assertLess(at[0.2], battery.cutoff_v)
        self.assertGreater(at[0.6], battery.cutoff_v)
        inverter = parse_inverter(
            {"continuous_w": 600, "surge_va": 1200, "idle_w": 0, "efficiency": 1.0}
        )
        start_va = 2 * 40 * 11.5
        least = holds_above(start_va, 100, 0, battery, inverter)
        self.assertGreater(least, 0.2)
        self.assertLess(least, 0.6)
        self.assertIsNone(
            holds_above(
                start_va,
                1,
                0,
                parse_battery({**LEAD, "internal_ohm": None, "cutoff_v": None}),
                inverter,
            )
        )

    def test_cutoff_comes_earlier_at_higher_power(self):
        stops = []
        for watts in (350, 425, 500):
            plan = parse_plan(
                {
                    "hours": 24,
                    "supply": {
                        "battery": {**LEAD, "peukert_n": 1.0},
                        "inverter": {"continuous_w": 600, "idle_w": 0, "efficiency": 1.0},
                    },
                    "loads": [{"name": "Heater", "running_w": watts}],
                }
            )
            document = as_document(simulate(plan, draws=20))
            self.assertEqual(document["stop"]["why"], "cutoff")
            stops.append(document["runtime_h"]["value"] * watts)
        self.assertEqual(stops, sorted(stops, reverse=True))
        self.assertLess(stops[2], 0.5 * stops[0])

    def test_what_is_not_given_is_usual_for_the_chemistry(self):
        battery = parse_battery({**LEAD, "internal_ohm": None})
        self.assertAlmostEqual(battery.internal_ohm.value, 0.0048)
        self.assertEqual(battery.internal_ohm.grade, "D")
        self.assertAlmostEqual(parse_battery({**LEAD, "cutoff_v": None}).cutoff_v, 10.5)


class ColdTest(unittest.TestCase):
    def test_cold_takes_capacity(self):
        for chemistry, left in (("lead", 0.8), ("lfp", 0.9), ("lithium", 0.9)):
            battery = parse_battery({"chemistry": chemistry, "nominal_wh": 100})
            self.assertAlmostEqual(cold_factor(battery, 0.0), left)
            self.assertEqual(cold_factor(battery, 35.0), 1.0)
            self.assertEqual(cold_factor(battery, None), 1.0)

    def test_a_factor_found_in_the_cold_is_not_cut_twice(self):
        battery = parse_battery({"chemistry": "lead", "nominal_wh": 100, "measured_c": 5})
        self.assertAlmostEqual(cold_factor(battery, 5.0), 1.0)
        self.assertAlmostEqual(cold_factor(battery, 25.0), 1 / 0.84)

    def test_no_lithium_charging_below_freezing(self):
        self.assertFalse(CHEMISTRIES["lfp"].may_charge(-1))
        self.assertTrue(CHEMISTRIES["lfp"].may_charge(1))
        self.assertTrue(CHEMISTRIES["lead"].may_charge(-10))


class PortsTest(unittest.TestCase):
    def test_a_controller_lets_a_12_v_battery_take_half(self):
        (entry,) = parse_inputs([{"name": "sun", "max_w": 1200, "controller_a": 40}], "inputs")
        for volts, watts in ((12, 480), (24, 960), (51.2, 1200)):
            battery = parse_battery({"chemistry": "lfp", "nominal_wh": 1000, "volts": volts})
            self.assertAlmostEqual(input_limit_w(entry, battery), watts)

    def test_amps_at_the_inputs_own_volts(self):
        (entry,) = parse_inputs([{"name": "car", "max_a": 8, "volts": 12}], "inputs")
        self.assertEqual(entry.max_w, 96)

    def test_a_small_charger_hardly_tapers_and_a_large_one_does(self):
        def hours_to_fill(chemistry, watts):
            """From 80 %, over what it would take without a taper."""
            battery = {
                "chemistry": chemistry,
                "nominal_wh": 1000,
                "start_charge": 0.8,
                "floor": 0.1,
                "charge_efficiency": 1.0,
                "capacity_factor": 1.0,
            }
            plan = parse_plan(
                exact(
                    {
                        "hours": 24,
                        "supply": {"battery": {**battery, "capacity_spread": 0.0}},
                        "sources": [
                            {"kind": "window", "watts": watts, "between": [["00:00", "23:59"]]}
                        ],
                    }
                )
            )
            charge = simulate(plan, 4).likely.charge
            return float(np.argmax(charge >= 0.995)) / 60 / (195 / watts)

        self.assertLess(hours_to_fill("lfp", 30), 1.05)
        self.assertGreater(hours_to_fill("lfp", 500), 1.5)
        self.assertGreater(hours_to_fill("lead", 200), hours_to_fill("lfp", 200))

    def test_outputs(self):
        (output,) = parse_outputs(
            [{"name": "dc12", "max_a": 10, "volts": 12, "max_w": 240}], "outputs"
        )
        self.assertEqual((output.max_w, output.idle_w.grade), (120, "D"))

    def test_refusals(self):
        for call, said in [
            (lambda: parse_outputs([{"name": "ac"}], "o"), "is the inverter"),
            (lambda: parse_outputs([{"name": "a"}, {"name": "a"}], "o"), "two outputs"),
            (lambda: parse_outputs([{"name": "a", "max_a": 3}], "o"), "o[0].volts: is needed"),
            (lambda: parse_outputs([{"name": "a", "efficiency": 1.5}], "o"), "too large"),
            (lambda: parse_inputs([{"max_a": 3}], "i"), "i[0].volts: is needed"),
            (lambda: parse_inputs([{"max_w": 0}], "i"), "above 0"),
        ]:
            with self.subTest(said=said):
                with self.assertRaises(DocumentError) as caught:
                    call()
                self.assertIn(said, str(caught.exception))
