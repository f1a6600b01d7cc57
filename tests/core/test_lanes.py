"""A plan laid out over its hours."""

from __future__ import annotations

import unittest

import numpy as np

from needle.plan.documents.parse import parse_plan
from needle.plan.draws.lanes import load_lanes, source_lanes
from needle.plan.energy.simulate import simulate
from needle.profile.temperature import FREEZING_KJ, WATER_KJ, pull_down_wh, scale_mean

SUPPLY = {
    "battery": {"chemistry": "lfp", "nominal_wh": 4000, "volts": 51.2},
    "inverter": {"continuous_w": 2000, "idle_w": 20, "efficiency": 0.9},
    "outputs": [{"name": "dc12", "idle_w": 2, "efficiency": 0.95, "off_unused": True}],
    "inputs": [{"name": "sun", "max_w": 300}, {"name": "mains", "max_w": 900}],
}
LOADS = [
    {"name": "Box", "running_w": 90, "resting_w": 2, "duty": 0.25, "cycle_min": 40},
    {"name": "Lamp", "running_w": 40, "use": {"between": [["16:00", "20:00"], ["06:00", "07:00"]]}},
    {"name": "Kettle", "use": {"tasks": ["19:00"]}, "steps": [{"watts": 1500, "minutes": 6}]},
    {
        "name": "Pack",
        "use": {"charges": ["20:00"]},
        "charge": {"pack_wh": 50, "missing": 0.5, "watts": 50},
    },
]
SOURCES = [
    {"kind": "sun", "rated_w": 800, "latitude": 10.0, "clouds": 0.0},
    {"kind": "window", "name": "generator", "watts": 700, "between": [["18:30", "20:30"]]},
    {"kind": "battery", "nominal_wh": 500, "max_w": 100},
]


def plan_of(**change):
    return parse_plan(
        {
            "start": "2027-03-21T18:00:00+00:00",
            "hours": 48,
            "supply": SUPPLY,
            "loads": LOADS,
            "sources": SOURCES,
            **change,
        }
    )


class LoadLaneTest(unittest.TestCase):
    def setUp(self):
        self.box, self.lamp, self.kettle, self.pack = load_lanes(plan_of())

    def test_what_is_always_on_cycles_by_its_duty(self):
        self.assertEqual([(s.first, s.last, s.index) for s in self.box.uses], [(0, 2880, -1)])
        on = int(np.diff(self.box.on, axis=1).sum())
        self.assertAlmostEqual(on / 2880, 0.25, delta=0.02)
        self.assertAlmostEqual(len(self.box.on), 72, delta=1)

    def test_hours_are_cut_at_the_start_and_come_every_day(self):
        spans = [(s.first, s.last) for s in self.lamp.uses if s.index == 0]
        self.assertEqual(spans, [(0, 120), (1320, 1560), (2760, 2880)])
        self.assertEqual([s.first for s in self.lamp.uses if s.index == 1], [720, 2160])

    def test_tasks_and_charges_are_as_long_as_they_take(self):
        self.assertEqual([(s.first, s.last) for s in self.kettle.uses], [(60, 66), (1500, 1506)])
        first = self.pack.uses[0]
        self.assertEqual(first.first, 120)
        # 29.4 Wh at 50 W, and a slow end.
        self.assertGreater(first.last - first.first, 35)
        self.assertLess(first.last - first.first, 80)


class SourceLaneTest(unittest.TestCase):
    def test_sources(self):
        sun, generator, other = source_lanes(plan_of())
        self.assertLessEqual(sun.offered_w.max(), 300.0)
        self.assertEqual(sun.offered_w[60:120].max(), 0.0)
        noon = sun.offered_w[18 * 60]
        self.assertEqual(noon, 300.0)
        self.assertEqual([(s.first, s.last) for s in generator.uses], [(30, 150), (1470, 1590)])
        self.assertEqual(generator.offered_w[30], 700)
        self.assertEqual((other.uses, float(other.offered_w.max())), ([], 0.0))


class OffUnusedTest(unittest.TestCase):
    """What nothing is on can be switched off; by default it idles on."""

    def idle_wh(self, output_off, inverter_off, route):
        supply = {
            **SUPPLY,
            "inverter": {**SUPPLY["inverter"], "off_unused": inverter_off},
            "outputs": [{**SUPPLY["outputs"][0], "off_unused": output_off}],
        }
        loads = [{"name": "Router", "running_w": 10, "route": route}]
        plan = plan_of(supply=supply, loads=loads, sources=[], hours=10)
        energy = simulate(plan, 20).likely.energy_wh
        return round(energy["outputs_idle"], 3), round(energy["inverter_idle"], 3)

    def test_idle_draws(self):
        self.assertEqual(self.idle_wh(True, True, "ac"), (0.0, 200.0))
        self.assertEqual(self.idle_wh(False, True, "ac"), (20.0, 200.0))
        self.assertEqual(self.idle_wh(True, True, "dc12"), (20.0, 0.0))
        self.assertEqual(self.idle_wh(True, False, "dc12"), (20.0, 200.0))


class SetPointTest(unittest.TestCase):
    def test_another_set_point_scales_by_the_lift(self):
        self.assertAlmostEqual(scale_mean(6, 24, 24, measured_set_c=4).factor, 18 / 20)
        both = scale_mean(6, 24, 31, measured_set_c=4).factor
        self.assertAlmostEqual(both, 25 / 20 * (1 + 0.012 * 7))

    def test_in_a_plan(self):
        box = {**LOADS[0], "set_c": 8, "measured_set_c": 4, "measured_room_c": 24}
        outcome = simulate(plan_of(loads=[box], sources=[], room_c=24), 20)
        self.assertAlmostEqual(outcome.plan.loads[0].draw.duty, 0.25 * 16 / 20)

    def test_pull_down(self):
        self.assertAlmostEqual(pull_down_wh(10, 24, 4), 10 * WATER_KJ * 20 / 3.6 / 1.5)
        self.assertAlmostEqual(
            pull_down_wh(1, 10, -18),
            (WATER_KJ * 10 + FREEZING_KJ + 2.1 * 18) / 3.6 / 1.5,
        )
        self.assertAlmostEqual(pull_down_wh(2, 20, 60), 2 * WATER_KJ * 40 / 3.6)
        self.assertEqual(pull_down_wh(5, 4, 4), 0.0)
