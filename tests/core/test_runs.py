"""Runs that were made condition what a plan draws."""

import math
import unittest

import numpy as np

from needle.document import DocumentError
from needle.plan.documents.parse import parse_plan
from needle.plan.draws.inputs import CAPACITY, INVERTER_EFFICIENCY, LOAD, InputKey
from needle.plan.energy.runs import counted_moves
from needle.plan.energy.simulate import simulate
from needle.plan.run import COUNTED_ONLY, Run
from needle.words import text_of

BOX = {"name": "Box", "running_w": 100, "duty": 0.4, "spread": 0.2}
LAMP = {"name": "Lamp", "running_w": 40, "spread": 0.2}
PLAN = {
    "start": "2027-02-09T18:00:00+00:00",
    "hours": 120,
    "needed_hours": 24,
    "supply": {
        "battery": {"chemistry": "lfp", "nominal_wh": 3000, "volts": 51.2, "floor": 0.1},
        "inverter": {"continuous_w": 2000},
    },
    "loads": [BOX],
}


def answer(runs=(), **changes):
    return simulate(parse_plan({**PLAN, **changes, "runs": list(runs)}), 200).runtime


class RunsTest(unittest.TestCase):
    def test_the_same_run_again_lasts_as_long(self):
        low, middle, high = answer()
        for hours in (0.85 * middle, middle, 1.15 * middle):
            run = {"hours": hours, "to": 0.1, "why": "floor", "loads": ["Box"]}
            after = answer([run])
            self.assertAlmostEqual(after[1], hours, delta=0.03 * hours)
            self.assertLess(after[2] - after[0], 0.5 * (high - low))

    def test_the_likely_run_goes_by_it_too(self):
        hours = 1.25 * answer()[1]
        run = {"hours": hours, "to": 0.1, "why": "floor", "loads": ["Box"]}
        outcome = simulate(parse_plan({**PLAN, "needed_hours": 110, "runs": [run]}), 200)
        self.assertAlmostEqual(outcome.likely.until_h, hours, delta=0.03 * hours)
        self.assertLess(sum(outcome.likely.energy_wh["loads"].values()) / hours, 0.4 * 100)

    def test_another_plan_on_the_battery_profits_from_what_they_share(self):
        loads = [BOX, {**LAMP, "use": {"between": [["18:00", "18:01"]]}}]
        run = {"hours": 30, "to": 0.1, "why": "floor", "loads": ["Box"], "wh": 2900}
        shared = simulate(parse_plan({**PLAN, "loads": loads, "runs": [run]}), 200)
        plain = simulate(parse_plan({**PLAN, "loads": loads}), 200)
        spread = [np.std(np.log(outcome.inputs.factor("battery"))) for outcome in (shared, plain)]
        self.assertLess(spread[0], spread[1])

    def test_loads_that_the_plan_does_not_have_tell_of_the_battery(self):
        heater = {"name": "Heater", "running_w": 150, "spread": 0.02}
        run = {"to": 0.1, "why": "floor", "loads": [heater]}
        plain = simulate(parse_plan({**PLAN}), 200)
        # As long as a heater of 150 W runs on 2700 Wh behind an inverter of 0.9 and 20 W.
        hours = 0.8 * 0.93 * 2700 / (150 / 0.9 + 20)
        less = simulate(parse_plan({**PLAN, "runs": [{**run, "hours": hours}]}), 200)
        held = [np.median(outcome.inputs.factor("battery")) for outcome in (plain, less)]
        self.assertLess(held[1], 0.98 * held[0])
        self.assertLess(less.runtime[1], 0.95 * plain.runtime[1])

    def test_a_load_that_ran_otherwise_shares_what_is_known_of_it(self):
        """Half a run of the box alone, beside a lamp that the plan has not, in its own hours."""
        lamp = {**LAMP, "spread": 0.01, "use": {"between": [["18:00", "22:00"]]}}
        longer = {**BOX, "route": "ac", "count": 1}
        run = {"hours": 40, "why": "counted", "wh": 40 * 65, "loads": [longer, lamp]}
        more = {**run, "wh": 40 * 85}
        factors = [
            np.median(simulate(parse_plan({**PLAN, "runs": [it]}), 200).inputs.factor(LOAD, "Box"))
            for it in (run, more)
        ]
        self.assertGreater(factors[1], 1.1 * factors[0])

    def test_a_run_in_another_room_is_in_its_own_room(self):
        """A fridge that was run in a warm room says no more for a cold one than it drew there."""
        fridge = {**BOX, "set_c": 4, "measured_room_c": 20, "spread": 0.02}
        hours = answer(loads=[fridge], room_c=28)[1]
        run = {"hours": hours, "to": 0.1, "why": "floor", "loads": ["Box"], "room_c": 28}
        cold = answer(loads=[fridge], room_c=20)
        after = answer([run], loads=[fridge], room_c=20)
        self.assertAlmostEqual(after[1], cold[1], delta=0.03 * cold[1])
        self.assertGreater(after[1], 1.1 * hours)

    def test_a_count_before_the_end_is_of_its_hours(self):
        run = {"hours": 40, "to": 0.1, "why": "floor", "loads": ["Box"], "wh": 2000}
        held = [
            0.93 * simulate(parse_plan({**PLAN, "runs": [made]}), 400).inputs.factor("battery")
            for made in (run, {**run, "counted_h": 30}, {**run, "wh": 1500, "counted_h": 30})
        ]
        # 2000 Wh in 40 h, and 1500 in 30, say the same of 2700 Wh; 2000 in 30 h say more.
        self.assertAlmostEqual(np.median(held[2]), np.median(held[0]), delta=0.03)
        self.assertGreater(np.median(held[1]), np.median(held[0]))
        with self.assertRaisesRegex(DocumentError, "after the run's end"):
            answer([{**run, "counted_h": 41}])

    def test_legs_run_in_the_room_and_without_adapters_too(self):
        output = {"name": "usb", "efficiency": 1.0, "idle_w": 0, "max_w": 200}
        supply = {**PLAN["supply"], "outputs": [output]}
        lamp = {**LAMP, "route": "usb", "adapter": 0.5, "adapter_spread": 0.0, "spread": 0.001}
        whole = {"hours": 20, "why": "counted", "wh": 20 * 60, "loads": ["Lamp", {"watts": 10}]}
        parts = {**whole, "legs": [{"h": 0, "loads": whole.pop("loads")}]}
        plans = (
            parse_plan({**PLAN, "supply": supply, "loads": [lamp], "runs": [run]})
            for run in ({**whole, "loads": parts["legs"][0]["loads"]}, parts)
        )
        one, other = (simulate(plan, 200).inputs.factor(INVERTER_EFFICIENCY) for plan in plans)
        np.testing.assert_allclose(one, other)

    def test_what_was_counted_at_the_battery_tells_its_capacity(self):
        run = {"hours": 30, "to": 0.1, "why": "floor", "loads": ["Box"], "wh": 2300}
        outcome = simulate(parse_plan({**PLAN, "runs": [run]}), 200)
        held = 0.93 * outcome.inputs.factor("battery")
        self.assertAlmostEqual(float(np.median(held)), 2300 / 2700, delta=0.03)

    def test_what_was_only_counted_tells_the_draw_and_not_the_battery(self):
        run = {"hours": 48, "why": "counted", "wh": 48 * 80.0, "loads": ["Box"]}
        plain, counted = (
            simulate(parse_plan(PLAN), 200),
            simulate(parse_plan({**PLAN, "runs": [run]}), 200),
        )
        held = [np.median(outcome.inputs.factor("battery")) for outcome in (plain, counted)]
        self.assertAlmostEqual(held[0], held[1], delta=0.02)
        hours = 0.93 * 3000 * 0.9 / 80
        self.assertAlmostEqual(counted.runtime[1], hours, delta=0.04 * hours)
        narrow, wide = (outcome.runtime[2] / outcome.runtime[0] for outcome in (counted, plain))
        self.assertLess(narrow, 1 + 0.7 * (wide - 1))

    def test_what_was_only_counted_is_taken_where_it_was_counted(self):
        # What a box of about 40 W asks of an inverter of 0.9 and 20 W, on either side of it.
        for place, counted_w in (("ac", 46.0), ("battery", 46 / 0.9 + 20)):
            run = {"hours": 48, "why": "counted", "wh": 48 * counted_w, "loads": ["Box"]}
            plan = parse_plan({**PLAN, "runs": [{**run, "counted": place}]})
            hours = 0.93 * 3000 * 0.9 / (46 / 0.9 + 20)
            likely = simulate(plan, 200).runtime[1]
            self.assertAlmostEqual(likely, hours, delta=0.05 * hours, msg=place)

    def test_a_supply_that_was_counted_with_all_its_loads_tells_the_plan(self):
        test = {"type": "together", "watts": 80, "hours": 48, "loads": ["Box"]}
        supply = {**PLAN["supply"], "tests": [test]}
        run = {"hours": 48, "why": "counted", "wh": 3840, "loads": ["Box"]}
        self.assertEqual(answer(supply=supply), answer([run]))
        # With a load that the plan has not, it says nothing of this plan.
        other = {**PLAN["supply"], "tests": [{**test, "loads": ["Box", "Lamp"]}]}
        self.assertEqual(answer(supply=other), answer())

    def test_what_a_count_would_tell_is_each_thing_by_its_share(self):
        lamp = {**LAMP, "spread": 0.5}
        plan = parse_plan({**PLAN, "loads": [BOX, lamp]})
        run = Run(10.0, 1.0, 1.0, COUNTED_ONLY, plan.loads)
        moves, spread, wh = counted_moves(plan, run)
        inverter = plan.supply.inverter
        box_w, lamp_w = 40.0, 40.0
        more_w = lamp_w * math.exp(math.sqrt(math.log1p(0.5**2)))
        idle_w, efficiency = inverter.idle_w.value, inverter.efficiency.value
        before, after = (idle_w + (box_w + watts) / efficiency for watts in (lamp_w, more_w))
        self.assertAlmostEqual(moves[InputKey(LOAD, "Lamp")], math.log(after / before), places=6)
        self.assertAlmostEqual(wh, 10 * before, places=6)
        self.assertNotIn(InputKey(CAPACITY), moves)
        self.assertLess(moves[InputKey(INVERTER_EFFICIENCY)], 0)
        self.assertGreater(spread, 0)

    def test_an_hour_of_cycles_tells_less_than_a_day(self):
        def width(hours):
            run = {"hours": hours, "why": "counted", "wh": 80 * hours, "loads": ["Box"]}
            low, _, high = answer([run])
            return high / low

        self.assertLess(width(24), width(1))

    def test_an_old_run_tells_less(self):
        def width(at):
            run = {"hours": 30, "to": 0.1, "why": "floor", "loads": ["Box"], "at": at}
            low, _, high = answer([run])
            return high - low

        self.assertGreater(width("2020-02-09T18:00:00+00:00"), width("2027-01-09T18:00:00+00:00"))

    def test_a_run_on_lead_acid_follows_peukerts_law(self):
        supply = {
            "battery": {"chemistry": "lead", "nominal_wh": 1200, "floor": 0.5},
            "inverter": {"continuous_w": 2000},
        }
        load = {"name": "Box", "running_w": 150, "spread": 0.2}
        hours = answer(supply=supply, loads=[load])[1]
        run = {"hours": hours, "to": 0.5, "why": "floor", "loads": ["Box"]}
        self.assertAlmostEqual(
            answer([run], supply=supply, loads=[load])[1], hours, delta=0.05 * hours
        )

    def test_what_warm_contents_took_is_no_part_of_the_long_run_draw(self):
        hours = answer()[1]
        ran_h = hours - 400 / 70  # 400 Wh at the load took some of its hours.
        run = {"hours": ran_h, "to": 0.1, "why": "floor", "loads": ["Box"]}
        blind, told = (
            answer([{**run, **more}])[1]
            for more in ({}, {"begins": "warm", "pull_down_wh": {"Box": 400}})
        )
        self.assertAlmostEqual(blind, ran_h, delta=0.03 * hours)
        self.assertAlmostEqual(told, hours, delta=0.05 * hours)
        # As the plan has it, if the run does not say how much.
        warm = {**BOX, "pull_down_wh": 400}
        plan_h = answer(loads=[warm])[1]
        again = answer([{**run, "hours": plan_h, "begins": "warm"}], loads=[warm])
        self.assertAlmostEqual(again[1], plan_h, delta=0.04 * plan_h)

    def test_energy_from_sources_is_taken_off(self):
        hours = answer()[1]
        run = {"hours": 1.4 * hours, "to": 0.1, "why": "floor", "loads": ["Box"]}
        put_in_wh = 0.4 * 0.93 * 3000 * 0.9
        blind, counted = (answer([{**run, **more}])[1] for more in ({}, {"wh_in": put_in_wh}))
        self.assertAlmostEqual(blind, 1.4 * hours, delta=0.04 * hours)
        self.assertAlmostEqual(counted, hours, delta=0.06 * hours)

    def test_parts_with_other_loads_are_each_counted_by_their_length(self):
        both = [BOX, {**LAMP, "spread": 0.01}]
        box_h, both_h = answer(loads=[{**BOX, "spread": 0.01}])[1], answer(loads=both)[1]
        # Half of the energy with both, the rest with the box alone.
        ran_h = both_h / 2 + box_h / 2
        run = {
            "hours": ran_h,
            "to": 0.1,
            "why": "floor",
            "legs": [{"h": 0, "loads": ["Box", "Lamp"]}, {"h": both_h / 2, "loads": ["Box"]}],
        }
        after = answer([run], loads=both)
        self.assertAlmostEqual(after[1], both_h, delta=0.05 * both_h)
        before = answer(loads=both)
        self.assertLess(after[2] - after[0], 0.6 * (before[2] - before[0]))

    def test_parts_with_the_same_loads_are_one_run(self):
        """Whose days and hours of the day are as uncertain, however it is parted."""
        box = {**BOX, "day_spread": 0.08, "day_swing": 0.15}
        whole = {"hours": 20, "to": 0.1, "why": "floor", "loads": ["Box"]}
        parted = {key: value for key, value in whole.items() if key != "loads"}
        parted["legs"] = [{"h": hour, "loads": ["Box"]} for hour in (0, 7, 12)]
        ranges = [answer([run], loads=[box]) for run in (whole, parted)]
        np.testing.assert_allclose(*ranges, rtol=1e-9)

    def test_still_on_moves_only_what_would_have_stopped(self):
        low, middle, high = answer()
        early, late = (
            answer([{"hours": hours, "why": "still on", "loads": ["Box"]}])
            for hours in (0.3 * low, high)
        )
        self.assertAlmostEqual(early[1], middle, delta=0.03 * middle)
        self.assertGreater(late[0], 0.93 * high)
        self.assertGreater(late[1], high)

    def test_a_look_on_the_way_counts_where_the_end_was_not_seen(self):
        low, middle, high = answer()
        run = {"hours": 0.6 * middle, "why": "still on", "loads": ["Box"]}
        look = [{"h": 0.5 * middle, "percent": 30}]
        with_look = answer([{**run, "check_ins": look}])
        self.assertLess(with_look[1], 0.85 * middle)
        self.assertLess(with_look[2] - with_look[0], 0.6 * (high - low))

    def test_a_run_that_fits_nothing_does_not_count_and_is_said(self):
        for run in (
            {"hours": 1e-6, "to": 0.1, "loads": ["Box"]},
            {"hours": 30, "to": 0.1, "loads": [{"watts": 1e6}]},
        ):
            outcome = simulate(parse_plan({**PLAN, "runs": [run]}), 200)
            self.assertIn("fits nothing that is known", " ".join(map(text_of, outcome.notices)))
            np.testing.assert_allclose(outcome.runtime[1], answer()[1], rtol=0.05)

    def test_refusals(self):
        for run, words in (
            ({"hours": 3, "to": 0.2, "loads": ["Fan"]}, "no load of this plan"),
            ({"hours": 3, "to": 1.0, "loads": ["Box"]}, "not below"),
            ({"hours": 3, "to": 0.2, "loads": []}, "what the run fed"),
            ({"hours": 3, "to": 0.2, "loads": ["Box"], "counted": "usb"}, "not known"),
            ({"hours": 3, "to": 0.2, "legs": [{"h": 1, "loads": ["Box"]}]}, "begins at 0"),
            ({"hours": 3, "to": 0.2, "legs": [{"h": 0, "loads": ["Fan"]}]}, "no load of this plan"),
            (
                {"hours": 3, "to": 0.2, "loads": ["Box"], "check_ins": [{"h": 1, "bars": 2}]},
                "how many there are",
            ),
            (
                {"hours": 3, "to": 0.2, "loads": ["Box"], "pull_down_wh": {"Fan": 3}},
                "Fan",
            ),
        ):
            with self.subTest(run=run), self.assertRaisesRegex(DocumentError, words):
                answer([run])
