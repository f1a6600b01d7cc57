"""Each load by itself: the same figures as a plan of it alone."""

import unittest

import numpy as np

from needle.plan.advice.alone import alone, alone_plan, as_document, hours_alone
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate

SUPPLY = {
    "battery": {
        "chemistry": "lfp",
        "nominal_wh": 5120,
        "floor": 0.1,
        "capacity_factor": 1.0,
        "capacity_spread": 0.0,
    },
    "inverter": {
        "continuous_w": 3000,
        "idle_w": 28,
        "idle_spread": 0,
        "efficiency": 0.92,
        "efficiency_spread": 0,
    },
    "outputs": [
        {
            "name": "dc12",
            "max_w": 240,
            "idle_w": 2,
            "idle_spread": 0,
            "efficiency": 0.95,
            "efficiency_spread": 0,
        }
    ],
}


def plan_of(*loads, **more):
    return parse_plan({"hours": 10, "supply": SUPPLY, "loads": list(loads), **more})


class AloneTest(unittest.TestCase):
    def test_hours_by_hand(self):
        (row,) = alone(plan_of({"name": "Heater", "running_w": 184, "spread": 0}))
        # 5120 Wh · 0.9 over 28 W + 184 W / 0.92.
        np.testing.assert_allclose(row.hours, 5120 * 0.9 / 228, rtol=1e-3)
        self.assertEqual(row.wh_per_day[1], 184 * 24)

    def test_dc_leaves_the_inverter_off(self):
        router = {"name": "Router", "running_w": 19, "spread": 0, "can": ["dc12"]}
        ac, dc = alone(plan_of(router))
        self.assertEqual((ac.route, dc.route), ("ac", "dc12"))
        np.testing.assert_allclose(ac.hours[1], 5120 * 0.9 / (28 + 19 / 0.92), rtol=1e-3)
        np.testing.assert_allclose(dc.hours[1], 5120 * 0.9 / (2 + 19 / 0.95), rtol=1e-3)

    def test_tasks_are_counted_whole(self):
        kettle = {
            "name": "Kettle",
            "use": {"tasks": ["12:00", "16:00"]},
            "spread": 0,
            "steps": [{"watts": 1840, "minutes": 6}],
        }
        (row,) = alone(plan_of(kettle))
        # A task takes 0.1 h of 28 W + 2000 W: 202.8 Wh of 4608.
        self.assertEqual((row.hours, row.tasks), (None, (22, 22, 22)))
        self.assertAlmostEqual(row.wh_per_day[1], 368)

    def test_what_does_not_run_says_why(self):
        (heavy,) = alone(plan_of({"name": "Oven", "running_w": 4000, "spread": 0}))
        (motor,) = alone(plan_of({"name": "Motor", "running_w": 500, "start_va": 20_000}))
        self.assertEqual((heavy.hours, heavy.why_not), (None, "overload"))
        self.assertEqual((motor.hours, motor.why_not), (None, "start"))

    def test_it_is_what_a_plan_of_it_alone_says(self):
        box = {
            "name": "Box",
            "running_w": 92.4,
            "resting_w": 1.8,
            "duty": 0.345,
            "spread": 0.08,
            "day_spread": 0.07,
            "day_swing": 0.12,
            "use": {"between": [["18:00", "22:00"]]},
        }
        plan = plan_of(box, {"name": "Lamp", "running_w": 40})
        row = alone(plan, 100)[0]
        by_itself = alone_plan(plan, plan.loads[0], "ac")
        self.assertEqual(simulate(by_itself, 100).runtime, row.hours)
        self.assertEqual(tuple(np.quantile(hours_alone(plan, 100), [0.1, 0.5, 0.9])), row.hours)

    def test_the_document(self):
        document = as_document(alone(plan_of({"name": "Heater", "running_w": 184})))
        self.assertEqual(list(document), ["alone"])
        self.assertEqual(
            set(document["alone"][0]),
            {"load", "route", "hours", "tasks", "wh_per_day", "capped", "why_not"},
        )
