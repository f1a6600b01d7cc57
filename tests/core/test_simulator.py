"""The whole plan document: routes, tasks, charges, sources, rest hours, limits, recovery."""

import copy
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from needle.plan.documents.parse import parse_plan
from needle.plan.documents.report import as_document
from needle.plan.energy.simulate import simulate
from tests.core.exact import exact

SUPPLY = {
    "battery": {
        "chemistry": "lfp",
        "nominal_wh": 1000,
        "volts": 12.8,
        "floor": 0.1,
        "capacity_factor": 1.0,
        "capacity_spread": 0.0,
        "charge_efficiency": 0.96,
    },
    "inverter": {"continuous_w": 2000, "surge_va": 4000, "idle_w": 0, "efficiency": 1.0},
    "outputs": [{"name": "dc12", "max_w": 120, "idle_w": 2, "efficiency": 0.9}],
}
START = "2027-06-09T18:00:00+00:00"


def run(loads, sources=(), hours=24, draws=20, battery=None, inverter=None, **more):
    supply = copy.deepcopy(SUPPLY)
    supply["battery"] |= battery or {}
    supply["inverter"] |= inverter or {}
    supply |= more.pop("supply", {})
    plan = {
        "start": START,
        "hours": hours,
        "supply": supply,
        "loads": loads,
        "sources": list(sources),
        **more,
    }
    return simulate(parse_plan(exact(plan)), draws)


NO_OUTPUTS = {"outputs": []}


class ClosedFormTest(unittest.TestCase):
    def test_a_two_rate_day(self):
        loads = [
            {"name": "Base", "running_w": 20},
            {"name": "Evening", "running_w": 100, "use": {"between": [["18:00", "21:00"]]}},
        ]
        outcome = run(loads, hours=60, supply=NO_OUTPUTS)
        # 3 h at 120 W take 360 of 900 Wh; the other 540 Wh last 27 h at 20 W: past the next
        # evening, which begins after 24 h: 21 h · 20 W = 420, then 120 Wh at 120 W.
        self.assertAlmostEqual(outcome.runtime[1], 3 + 21 + 1.0, delta=0.005 * 25)

    def test_a_single_task_with_a_pulsed_step(self):
        steps = [
            {"watts": 600, "minutes": 12},
            {"watts": 600, "minutes": 20, "duty": 0.4},
            {"watts": 120, "minutes": 15.5},
        ]
        loads = [{"name": "Autoclave", "use": {"tasks": ["20:15"]}, "steps": steps}]
        outcome = run(loads, hours=12, supply=NO_OUTPUTS)
        wh = 600 * 12 / 60 + 600 * 0.4 * 20 / 60 + 120 * 15.5 / 60
        self.assertAlmostEqual(outcome.likely.energy_wh["loads"]["Autoclave"], wh, places=3)
        self.assertAlmostEqual(outcome.likely.energy_wh["battery_out"], wh, places=3)

    def test_tasks_at_a_time_of_day_and_as_a_number_per_day(self):
        steps = [{"watts": 60, "minutes": 10}]
        for tasks, times in (
            (["2027-06-10T12:30:00+00:00"], 1),
            (["20:15"], 2),
            (["20:15", "07:00"], 4),
            (3, 6),
            (["2028-01-01T00:00:00+00:00"], 0),
        ):
            with self.subTest(tasks=tasks):
                loads = [{"name": "Kettle", "use": {"tasks": tasks}, "steps": steps}]
                wh = run(loads, hours=48).likely.energy_wh["loads"]["Kettle"]
                self.assertAlmostEqual(wh, 10 * times, places=3)

    def test_filling_a_pack_takes_its_wall_energy_and_tapers(self):
        charge = {"pack_wh": 52, "missing": 0.8, "efficiency": 0.85, "watts": 45}
        loads = [{"name": "Laptop", "use": {"charges": ["19:00"]}, "charge": charge}]
        outcome = run(loads)
        self.assertAlmostEqual(
            outcome.likely.energy_wh["loads"]["Laptop"], 52 * 0.8 / 0.85, places=3
        )
        watts = outcome.minute_w
        self.assertAlmostEqual(watts[65], 45, places=3)
        self.assertLess(watts[watts > 0][-2], 15)

    def test_a_charger_equal_to_the_load_holds_for_ever(self):
        loads = [{"name": "Load", "running_w": 100}]
        source = {
            "kind": "window",
            "watts": 100,
            "between": [["00:00", "12:00"], ["12:00", "00:00"]],
        }
        outcome = run(loads, [source], supply=NO_OUTPUTS)
        self.assertTrue(outcome.capped)
        self.assertAlmostEqual(outcome.likely.energy_wh["battery_out"], 0.0)
        self.assertAlmostEqual(outcome.likely.energy_wh["sources"], 2400, places=3)

    def test_a_charger_fills_with_its_efficiency_and_tapers_near_full(self):
        source = {
            "kind": "window",
            "name": "mains",
            "watts": 100,
            "between": [["19:00", "21:00"]],
            "litres_per_kwh": 0.5,
        }
        outcome = run([], [source], battery={"start_charge": 0.4}, hours=6, supply=NO_OUTPUTS)
        self.assertAlmostEqual(outcome.likely.charge[-1], 0.4 + 200 * 0.96 / 1000, places=5)
        self.assertAlmostEqual(outcome.likely.fuel_l, 0.1, places=5)
        self.assertAlmostEqual(outcome.likely.by_source_wh["mains"], 200, places=3)
        near = run([], [source], battery={"start_charge": 0.9}, hours=6, supply=NO_OUTPUTS)
        self.assertLess(near.likely.energy_wh["battery_in"], 110)
        self.assertLessEqual(near.likely.charge.max(), 1.0)

    def test_peukert_with_a_source_too(self):
        loads = [{"name": "All", "running_w": 250}]
        lead = {"chemistry": "lead", "peukert_n": 1.15, "floor": 0.0, "rated_hours": 20}
        weak = {"kind": "window", "watts": 1e-6, "between": [["00:00", "23:59"]]}
        hours = run(loads, [weak], battery=lead, hours=12, supply=NO_OUTPUTS).runtime[1]
        self.assertAlmostEqual(hours, 20 * (50 / 250) ** 1.15, delta=0.005 * hours)


class RouteTest(unittest.TestCase):
    def test_a_dc_route_spares_the_inverter(self):
        router = {"name": "Router", "running_w": 15}
        inverter = {
            "idle_w": 28,
            "efficiency": 0.9,
            "off": [["00:00", "12:00"], ["12:00", "00:00"]],
        }
        dc = run([{**router, "route": "dc12"}], inverter=inverter, hours=100)
        exact = 900 / (2 + 15 / 0.9)
        self.assertAlmostEqual(dc.runtime[1], exact, delta=0.01)
        self.assertEqual(dc.likely.energy_wh["inverter_idle"], 0.0)

    def test_resting_the_inverter_leaves_its_loads_unserved(self):
        inverter = {"idle_w": 10, "efficiency": 1.0, "off": [["23:00", "06:00"]]}
        outcome = run(
            [{"name": "Load", "running_w": 20}], inverter=inverter, hours=12, supply=NO_OUTPUTS
        )
        self.assertAlmostEqual(outcome.likely.energy_wh["inverter_idle"], 10 * 5, places=3)
        self.assertAlmostEqual(outcome.likely.unserved_wh["Load"], 20 * 7, places=3)

    def test_an_output_has_its_own_limit(self):
        loads = [
            {"name": "Pump", "running_w": 100, "route": "dc12"},
            {
                "name": "Fan",
                "running_w": 40,
                "route": "dc12",
                "use": {"between": [["19:00", "20:00"]]},
            },
        ]
        outcome = run(loads, hours=4)
        (trip,) = outcome.trips
        self.assertEqual((trip.load, trip.why, trip.limit_w), ("Fan", "output", 120))
        self.assertAlmostEqual(outcome.likely.unserved_wh["Fan"], 40, places=3)

    def test_all_outputs_have_a_common_limit(self):
        loads = [
            {"name": "Heater", "running_w": 900},
            {
                "name": "Pump",
                "running_w": 110,
                "route": "dc12",
                "use": {"between": [["18:10", "18:20"]]},
            },
        ]
        free = run(loads, hours=0.5, supply={"total_max_w": 1100})
        self.assertEqual(free.trips, [])
        (trip,) = run(loads, hours=0.5, supply={"total_max_w": 1000}).trips
        self.assertEqual(trip.load, "Pump")

    def test_a_pulsed_step_is_held_to_its_full_watts(self):
        steps = [{"watts": 2400, "minutes": 10, "duty": 0.2}]
        loads = [{"name": "Hob", "use": {"tasks": ["18:30"]}, "steps": steps}]
        (trip,) = run(loads, hours=2).trips
        self.assertAlmostEqual(trip.watts, 2400, places=2)

    def test_a_dropped_task_takes_its_pulses_along(self):
        loads = [
            {"name": "Lamp", "running_w": 40},
            {
                "name": "Oven",
                "use": {"tasks": ["18:30"]},
                "steps": [{"watts": 1600, "minutes": 46.5, "duty": 0.4}],
            },
        ]
        supply = {
            **SUPPLY,
            "inverter": {**SUPPLY["inverter"], "continuous_w": 1000, "surge_va": 2000},
        }
        outcome = run(loads, hours=3, supply=supply)
        self.assertEqual([trip.load for trip in outcome.trips], ["Oven"])
        self.assertNotIn("Lamp", outcome.likely.unserved_wh)


class SourceTest(unittest.TestCase):
    sun = {
        "kind": "sun",
        "rated_w": 400,
        "yield": 0.7,
        "latitude": 50.0,
        "longitude": 0.0,
        "tilt": 35,
        "clouds": 0.0,
        "spread": 0.0,
    }

    def test_sun_comes_by_day_and_less_through_clouds(self):
        loads = [{"name": "Load", "running_w": 300}]
        clear = run(loads, [self.sun], hours=24, supply=NO_OUTPUTS)
        self.assertEqual(clear.likely.sources_w[6:9].sum(), 0.0)  # 00:00 to 03:00
        noon = clear.likely.sources_w[17:19].mean()
        self.assertTrue(0.6 * 280 < noon <= 1.15 * 280, noon)
        grey = run(loads, [{**self.sun, "clouds": 1.0}], hours=24, supply=NO_OUTPUTS)
        ratio = grey.likely.by_source_wh["sun"] / clear.likely.by_source_wh["sun"]
        self.assertAlmostEqual(ratio, 0.25, places=2)

    def test_the_controller_holds_it_down(self):
        loads = [{"name": "Load", "running_w": 300}]
        held = {"inputs": [{"name": "sun", "controller_a": 10}], "outputs": []}
        outcome = run(loads, [self.sun], supply=held)
        self.assertLessEqual(outcome.likely.sources_w.max(), 128 + 1e-6)

    def test_a_stop_recovers_five_points_above_the_floor(self):
        loads = [{"name": "Load", "running_w": 200}]
        source = {"kind": "window", "watts": 100, "between": [["23:00", "03:00"]]}
        outcome = run(loads, [source], hours=12, supply=NO_OUTPUTS, battery={"start_charge": 0.6})
        self.assertAlmostEqual(outcome.runtime[1], 2.5, places=3)
        # 500 Wh to the floor; at 23:00 100 W lift it: 50 Wh ÷ (100·0.96) W.
        back = 5 + 50 / 96
        on = outcome.likely.charge
        self.assertAlmostEqual(on[round(back * 60)], 0.15, delta=0.003)
        self.assertLess(on[round(back * 60) + 10], 0.15)
        self.assertGreater(outcome.likely.unserved_wh["Load"], 1000)

    def test_another_battery_gives_until_it_is_empty(self):
        other = {"kind": "battery", "nominal_wh": 200, "max_w": 50, "efficiency": 1.0}
        loads = [{"name": "Load", "running_w": 100}]
        outcome = run(loads, [other], supply=NO_OUTPUTS)
        self.assertAlmostEqual(outcome.likely.by_source_wh["battery"], 200, places=3)
        self.assertAlmostEqual(outcome.runtime[1], 11.0, places=2)

    def test_lithium_takes_no_charge_below_freezing(self):
        source = {"kind": "window", "watts": 100, "between": [["18:00", "20:00"]]}
        cold = run([], [source], battery={"start_charge": 0.5}, hours=4, room_c=-5)
        self.assertEqual(cold.likely.energy_wh["battery_in"], 0.0)

    def test_cloudier_never_lasts_longer(self):
        loads = [{"name": "Load", "running_w": 90}]
        hours = [
            run(
                loads, [{**self.sun, "rated_w": 150, "clouds": clouds, "spread": 0.2}], hours=72
            ).runtime_h
            for clouds in (0.0, 0.5, 0.9)
        ]
        self.assertTrue((hours[0] >= hours[1] - 1e-9).all())
        self.assertTrue((hours[1] >= hours[2] - 1e-9).all())


class RoomTest(unittest.TestCase):
    box = {
        "name": "Box",
        "running_w": 100,
        "resting_w": 2,
        "duty": 0.3,
        "cycle_min": 40,
        "set_c": 4,
        "measured_room_c": 24,
    }

    def test_a_room_that_follows_the_day(self):
        flat = run([self.box], hours=24, room_c=24)
        swung = run([self.box], hours=24, room_c=24, room_swing_c=6)
        wh = [outcome.likely.energy_wh["loads"]["Box"] for outcome in (flat, swung)]
        self.assertAlmostEqual(wh[0], 24 * (2 + 98 * 0.3), places=2)
        self.assertAlmostEqual(wh[1] / wh[0], 1.0, delta=0.03)
        self.assertGreater(
            swung.likely.drawn_w[20], swung.likely.drawn_w[10]
        )  # 14:00 against 04:00

    def test_warm_contents_take_their_pull_down_once(self):
        large = {"nominal_wh": 3000}
        plain = run([self.box], hours=24, battery=large)
        warm = run([{**self.box, "pull_down_wh": 150}], hours=24, battery=large)
        more = warm.likely.energy_wh["loads"]["Box"] - plain.likely.energy_wh["loads"]["Box"]
        self.assertAlmostEqual(more, 150, delta=1)
        self.assertAlmostEqual(warm.likely.drawn_w[0] - 2, 100, places=1)


class SagTest(unittest.TestCase):
    def test_a_start_near_empty_switches_off_what_running_would_not(self):
        lead = {
            "chemistry": "lead",
            "volts": 12,
            "floor": 0.0,
            "internal_ohm": 0.03,
            "cutoff_v": 11.0,
            "peukert_n": 1.0,
        }
        pump = {"name": "Pump", "running_w": 60, "duty": 0.4, "cycle_min": 20, "start_va": 1000}
        soft = run([{**pump, "start_va": 80}], battery=lead, hours=60, supply=NO_OUTPUTS)
        hard = run([pump], battery=lead, hours=60, supply=NO_OUTPUTS)
        self.assertLess(hard.runtime[1], 0.8 * soft.runtime[1])
        self.assertEqual(as_document(hard)["stop"]["why"], "cutoff")


class BalanceTest(unittest.TestCase):
    plans = st.fixed_dictionaries(
        {
            "wh": st.floats(300, 5000),
            "start": st.floats(0.3, 1.0),
            "watts": st.floats(5, 600),
            "dc": st.floats(1, 100),
            "sun": st.floats(10, 800),
            "charger": st.floats(10, 500),
            "other": st.floats(10, 500),
            "square": st.floats(0, 1e-4),
            "swing": st.floats(0, 8),
        }
    )

    @settings(max_examples=15)
    @given(plans)
    def test_it_closes_with_everything_at_once(self, g):
        loads = [
            {
                "name": "Box",
                "running_w": g["watts"],
                "resting_w": 1,
                "duty": 0.4,
                "spread": 0.2,
                "set_c": 4,
                "measured_room_c": 25,
                "pull_down_wh": 20,
            },
            {
                "name": "Light",
                "running_w": g["dc"],
                "route": "dc12",
                "spread": 0.1,
                "use": {"between": [["19:00", "23:30"]]},
            },
            {
                "name": "Task",
                "use": {"tasks": ["20:00"]},
                "steps": [
                    {"watts": 700, "minutes": 9.5},
                    {"watts": 300, "minutes": 30, "duty": 0.5},
                ],
            },
            {
                "name": "Pack",
                "use": {"charges": ["21:00"]},
                "charge": {"pack_wh": 60, "missing": 0.7, "watts": 40},
            },
        ]
        sources = [
            {"kind": "sun", "rated_w": g["sun"], "latitude": 55.0, "clouds": 0.3},
            {"kind": "window", "watts": g["charger"], "between": [["22:00", "01:00"]]},
            {"kind": "battery", "nominal_wh": g["other"], "max_w": 60},
        ]
        outcome = run(
            loads,
            sources,
            hours=36,
            draws=10,
            room_c=25,
            room_swing_c=g["swing"],
            battery={"nominal_wh": g["wh"], "start_charge": g["start"]},
            inverter={
                "idle_w": 9,
                "efficiency": 0.9,
                "square_per_w": g["square"],
                "off": [["02:00", "05:00"]],
            },
        )
        energy = outcome.likely.energy_wh
        used = sum(energy["loads"].values()) + energy["inverter_idle"] + energy["outputs_idle"]
        used += energy["conversion"]
        given_out = energy["sources"] + energy["battery_out"] - energy["battery_in"]
        self.assertAlmostEqual(used / given_out, 1.0, places=3)
        self.assertAlmostEqual(
            sum(outcome.likely.by_source_wh.values()), energy["sources"], places=2
        )
        last = int(np.ceil(outcome.likely.until_h * 60 - 1e-9)) - 1
        stored = (outcome.likely.charge[last] - g["start"]) * g["wh"]
        self.assertAlmostEqual(energy["stored_change"], stored, delta=1e-3 * g["wh"])
        self.assertGreaterEqual(energy["conversion"], -1e-6)
        self.assertTrue((outcome.charge <= 1 + 1e-9).all())

    def test_blocks_do_not_show(self):
        loads = [{"name": "Box", "running_w": 90, "duty": 0.35, "cycle_min": 47, "spread": 0.2}]
        sun = {"kind": "sun", "rated_w": 300, "latitude": 50.0}
        from needle.plan.energy import demand as module

        charges = []
        for size in (60, 180, 10_000):
            kept, module.BLOCK = module.BLOCK, size
            try:
                charges.append(run(loads, [sun], hours=48).charge)
            finally:
                module.BLOCK = kept
        np.testing.assert_allclose(charges[0], charges[1], atol=1e-5)
        np.testing.assert_allclose(charges[0], charges[2], atol=1e-5)
