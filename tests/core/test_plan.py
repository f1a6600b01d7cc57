"""Running a plan."""

import copy
import unittest
from datetime import UTC, datetime

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from needle.document import DocumentError
from needle.plan.advice.measurements import display_hours, measure_next
from needle.plan.advice.suggestions import suggestions
from needle.plan.documents.parse import parse_plan
from needle.plan.documents.report import as_document
from needle.plan.draws.inputs import LOAD, InputKey
from needle.plan.energy.likely import likely_hours
from needle.plan.energy.simulate import simulate
from needle.plan.plan import in_use
from needle.words import text_of
from tests.core.exact import exact

BASE = {
    "start": "2027-02-09T18:00:00+00:00",
    "hours": 36,
    "needed_hours": 24,
    "supply": {
        "battery": {
            "chemistry": "lfp",
            "nominal_wh": 5120,
            "floor": 0.10,
            "capacity_factor": 1.0,
            "capacity_spread": 0.0,
        },
        "inverter": {
            "continuous_w": 3000,
            "surge_va": 6000,
            "surge_s": 5,
            "idle_w": 28,
            "efficiency": 0.92,
            "overload": [[1.15, 60]],
        },
    },
    "loads": [
        {
            "name": "Box",
            "running_w": 92.4,
            "resting_w": 1.8,
            "duty": 0.345,
            "cycle_min": 47,
            "power_factor": 0.62,
            "start_va": 1363,
            "spread": 0.08,
            "priority": "must",
        },
        {"name": "Rest", "running_w": 150.95, "spread": 0.1},
        {
            "name": "Lamp",
            "running_w": 38,
            "use": {"between": [["18:00", "22:30"], ["07:00", "09:00"]]},
        },
    ],
}


def plan_of(battery=None, inverter=None, loads=None, **more):
    data = copy.deepcopy(BASE)
    data["supply"]["battery"] |= battery or {}
    data["supply"]["inverter"] |= inverter or {}
    if loads is not None:
        data["loads"] = loads
    data |= more
    return parse_plan(exact(data))


class RuntimeTest(unittest.TestCase):
    def test_constant_load_gives_the_first_answer_exactly(self):
        plan = plan_of(loads=[{"name": "All", "running_w": 184}])
        outcome = simulate(plan, 50)
        exact = 5120 * 0.9 / (28 + 184 / 0.92)
        for hours in outcome.runtime:
            self.assertAlmostEqual(hours, exact, places=3)
        self.assertAlmostEqual(exact, 20.2, places=1)
        self.assertEqual(outcome.chance, 0.0)
        self.assertFalse(outcome.capped)

    def test_windows_are_counted_by_the_minute(self):
        loads = [{"name": "Lamp", "running_w": 100, "use": {"between": [["19:00", "21:30"]]}}]
        outcome = simulate(plan_of(loads=loads, hours=24), 20)
        self.assertAlmostEqual(outcome.likely.energy_wh["loads"]["Lamp"], 250.0)

    def test_a_plan_that_does_not_stop_is_capped(self):
        outcome = simulate(plan_of(battery={"nominal_wh": 50_000}), 50)
        self.assertTrue(outcome.capped)
        self.assertEqual(outcome.runtime[1], 36)
        self.assertEqual(outcome.chance, 1.0)
        self.assertIsNone(as_document(outcome)["stop"])

    def test_never_cycling_off_is_a_lower_bound(self):
        outcome = simulate(plan_of(), 200)
        self.assertLess(outcome.likely.never_off_h, outcome.runtime[0])

    def test_cycles_average_to_the_mean(self):
        loads = [{"name": "Box", "running_w": 200, "resting_w": 2, "duty": 0.3, "cycle_min": 31}]
        cycling = simulate(plan_of(loads=loads, hours=100), 200).runtime[1]
        steady = likely_hours(plan_of(loads=loads, hours=100))
        self.assertAlmostEqual(cycling / steady, 1.0, delta=0.01)

    def test_the_same_seed_gives_the_same_answer(self):
        first, second = simulate(plan_of(), 60, seed=4), simulate(plan_of(), 60, seed=4)
        np.testing.assert_array_equal(first.runtime_h, second.runtime_h)
        self.assertFalse(np.array_equal(first.runtime_h, simulate(plan_of(), 60, seed=5).runtime_h))

    def test_lead_acid_gives_less_at_high_power(self):
        loads = [{"name": "All", "running_w": 700}]
        lead = {"chemistry": "lead", "peukert_n": 1.15, "floor": 0.0}
        inverter = {"idle_w": 0, "efficiency": 1.0}
        hours = simulate(plan_of(battery=lead, inverter=inverter, loads=loads), 20).runtime[1]
        # 5120 Wh over 20 h is 256 W: Peukert at 700 W, exactly.
        self.assertAlmostEqual(hours, 20 * (256 / 700) ** 1.15, delta=0.01)

    def test_counts_draw_that_many_times(self):
        three_boxes = [{"name": "Box", "running_w": 60, "count": 3}]
        three = [{"name": f"Box {i}", "running_w": 60} for i in range(3)]
        self.assertAlmostEqual(
            simulate(plan_of(loads=three_boxes), 20).runtime[1],
            simulate(plan_of(loads=three), 20).runtime[1],
            places=6,
        )

    def test_the_room_moves_a_cold_box(self):
        box = {**BASE["loads"][0], "set_c": 4, "measured_room_c": 24}
        loads = [box]
        cool = simulate(plan_of(loads=loads, room_c=24, hours=200), 60)
        warm = simulate(plan_of(loads=loads, room_c=31, hours=200), 60)
        self.assertAlmostEqual(warm.plan.loads[0].draw.duty / 0.345, 1.35 * 1.084, places=3)
        self.assertLess(warm.runtime[1], cool.runtime[1])
        self.assertGreater(warm.plan.loads[0].spreads.mean, 0.08)
        again = simulate(warm.plan, 60)
        self.assertAlmostEqual(again.plan.loads[0].draw.duty, warm.plan.loads[0].draw.duty)

    def test_a_room_too_warm_to_cycle_off_is_said(self):
        box = {**BASE["loads"][0], "set_c": 4, "measured_room_c": 10}
        outcome = simulate(plan_of(loads=[box], room_c=40), 20)
        self.assertEqual(outcome.plan.loads[0].draw.duty, 1.0)
        self.assertTrue(any("never cycle off" in text_of(notice) for notice in outcome.notices))


class PropertyTest(unittest.TestCase):
    plans = st.fixed_dictionaries(
        {
            "wh": st.floats(500, 20_000),
            "watts": st.floats(10, 900),
            "duty": st.floats(0.05, 1.0),
            "spread": st.floats(0.0, 0.6),
            "capacity_spread": st.floats(0.0, 0.1),
        }
    )

    def build(self, wh, watts, duty, spread, capacity_spread, floor=0.1):
        load = {
            "name": "Load",
            "running_w": watts,
            "resting_w": min(2.0, watts),
            "duty": duty,
            "spread": spread,
            "cycle_min": 35,
        }
        return plan_of(
            battery={"nominal_wh": wh, "capacity_spread": capacity_spread, "floor": floor},
            loads=[load, BASE["loads"][2]],
            hours=48,
        )

    @given(plans)
    def test_the_energy_balance_closes(self, given_):
        energy = simulate(self.build(**given_), 20).likely.energy_wh
        used = sum(energy["loads"].values()) + energy["inverter_idle"] + energy["outputs_idle"]
        used += energy["conversion"]
        given_out = energy["sources"] + energy["battery_out"] - energy["battery_in"]
        self.assertAlmostEqual(used / given_out, 1.0, places=3)
        self.assertAlmostEqual(
            energy["stored_change"], energy["battery_in"] * 0.96 - energy["battery_out"], places=6
        )

    @settings(max_examples=30)
    @given(plans, st.floats(1.0, 3.0))
    def test_more_capacity_never_shortens(self, given_, factor):
        small = simulate(self.build(**given_), 40).runtime_h
        large = simulate(self.build(**{**given_, "wh": given_["wh"] * factor}), 40).runtime_h
        self.assertTrue((large >= small - 1e-9).all())

    @settings(max_examples=30)
    @given(plans, st.floats(0.05, 0.5))
    def test_a_wider_spread_never_narrows_the_range(self, given_, more):
        alone = {**given_, "capacity_spread": 0.0, "duty": 1.0}
        low, _, high = simulate(self.build(**alone), 60).runtime
        wide = {**alone, "spread": alone["spread"] + more}
        wide_low, _, wide_high = simulate(self.build(**wide), 60).runtime
        self.assertLessEqual(wide_low, low + 1e-6)
        self.assertGreaterEqual(wide_high, high - 1e-6)

    @settings(max_examples=15)
    @given(plans, st.floats(0.05, 0.5))
    def test_nor_beside_another_uncertainty(self, given_, more):
        def width(spread):
            low, _, high = simulate(self.build(**{**given_, "spread": spread}), 400).runtime
            return high - low

        narrow = width(given_["spread"])
        # By chance the draws of two inputs may lean against each other a little.
        self.assertGreaterEqual(width(given_["spread"] + more), narrow * 0.95 - 0.02)

    @settings(max_examples=20)
    @given(plans)
    def test_charge_never_rises_or_passes_the_floor(self, given_):
        outcome = simulate(self.build(**given_), 20)
        self.assertTrue((np.diff(outcome.charge, axis=1) <= 1e-9).all())
        self.assertGreaterEqual(outcome.charge.min(), 0.1 - 1e-9)

    def test_one_more_load_leaves_the_others_draws_alone(self):
        fewer = simulate(plan_of(loads=BASE["loads"][:2]), 30)
        more = simulate(plan_of(), 30)
        np.testing.assert_array_equal(
            fewer.inputs.normals[InputKey(LOAD, "Rest")],
            more.inputs.normals[InputKey(LOAD, "Rest")],
        )


class TripTest(unittest.TestCase):
    def test_what_pushes_the_sum_over_is_dropped_for_that_use(self):
        loads = [
            {"name": "Base", "running_w": 900},
            {"name": "Kettle", "running_w": 2900, "use": {"between": [["19:00", "19:30"]]}},
        ]
        outcome = simulate(plan_of(loads=loads, hours=6, needed_hours=4), 30)
        (trip,) = outcome.trips
        self.assertEqual((trip.load, trip.why, trip.chance), ("Kettle", "overload", 1.0))
        self.assertEqual((trip.minute, trip.limit_w), (60, 3000))
        self.assertAlmostEqual(trip.watts, 3800, delta=1)
        self.assertAlmostEqual(outcome.likely.unserved_wh["Kettle"], 1450, delta=1)
        self.assertEqual(outcome.likely.energy_wh["loads"]["Kettle"], 0)
        self.assertIn("Kettle", as_document(outcome)["trips"][0]["loads"])

    def test_an_overload_is_supplied_for_its_rated_time(self):
        def tripped(minutes, watts, overload):
            loads = [
                {"name": "Base", "running_w": 500},
                {
                    "name": "Saw",
                    "running_w": watts,
                    "use": {"between": [["19:00", f"19:{minutes:02d}"]]},
                },
            ]
            plan = plan_of(loads=loads, hours=3, needed_hours=3, inverter={"overload": overload})
            return [trip.load for trip in simulate(plan, 10).trips]

        self.assertEqual(tripped(10, 2800, [[1.15, 600]]), [])
        self.assertEqual(tripped(11, 2800, [[1.15, 600]]), ["Saw"])
        self.assertEqual(tripped(1, 2800, [[1.15, 60]]), [])
        self.assertEqual(tripped(1, 3200, [[1.15, 60]]), ["Saw"])
        self.assertEqual(tripped(1, 2800, []), ["Saw"])

    def test_a_start_beyond_twice_the_surge_trips(self):
        loads = [
            {
                "name": "Motor",
                "running_w": 500,
                "start_va": 13_000,
                "start_s": 0.3,
                "use": {"between": [["20:00", "21:00"]]},
            },
        ]
        outcome = simulate(plan_of(loads=loads, hours=6, needed_hours=4), 20)
        self.assertEqual([(trip.load, trip.why) for trip in outcome.trips], [("Motor", "start")])
        self.assertEqual(outcome.starts[0].verdict.verdict, "trips")
        self.assertAlmostEqual(outcome.trips[0].watts, 13_000)

    def test_two_large_loads_at_once_drop_the_later_one(self):
        loads = [
            {"name": "First", "running_w": 2000, "use": {"between": [["19:00", "20:00"]]}},
            {"name": "Second", "running_w": 1800, "use": {"between": [["19:20", "20:30"]]}},
        ]
        outcome = simulate(plan_of(loads=loads, hours=6, needed_hours=4), 20)
        self.assertEqual([trip.load for trip in outcome.trips], ["Second"])

    def test_uncertain_trips_are_shown_with_their_chance(self):
        loads = [
            {"name": "Kettle", "running_w": 2000, "duty": 0.3, "cycle_min": 20},
            {"name": "Iron", "running_w": 1900, "use": {"between": [["19:00", "19:05"]]}},
        ]
        outcome = simulate(plan_of(loads=loads, hours=3, needed_hours=2), 200)
        total = sum(trip.chance for trip in outcome.trips)
        self.assertTrue(0.3 < total < 0.9, total)

    def test_starts_are_judged_beside_all_that_may_run(self):
        starts = {start.load: start for start in simulate(plan_of(), 20).starts}
        self.assertAlmostEqual(starts["Box"].others_w, 150.95 + 38, places=1)
        self.assertEqual(starts["Box"].verdict.verdict, "holds")


class AdviceTest(unittest.TestCase):
    def test_the_widest_large_load_matters_most(self):
        loads = [
            {"name": "Known", "running_w": 150, "spread": 0.04},
            {"name": "Guessed", "running_w": 100, "spread": 0.4},
        ]
        first = measure_next(simulate(plan_of(loads=loads, hours=60), 300))[0]
        self.assertEqual(first.what, "Guessed")
        self.assertGreater(first.share, 0.9)
        self.assertLess(first.range_h_after, first.range_h)

    def test_the_promised_narrowing_comes_true(self):
        loads = [{"name": "Guessed", "running_w": 200, "spread": 0.3}]
        wide = simulate(plan_of(loads=loads, hours=90), 300)
        promised = measure_next(wide)[0].range_h_after
        loads[0]["spread"] = 0.04
        low, _, high = simulate(plan_of(loads=loads, hours=90), 300).runtime
        self.assertAlmostEqual(high - low, promised, delta=0.35 * promised)

    def test_leaving_off_wins_hours_and_spares_the_musts(self):
        offered = suggestions(simulate(plan_of(), 100))
        self.assertEqual(offered[0].load, "Rest")
        self.assertGreater(offered[0].value, 10)
        self.assertTrue(offered[0].low <= offered[0].value <= offered[0].high)
        self.assertNotIn("Box", [offer.load for offer in offered])

    def test_what_a_display_would_say(self):
        rest, work = display_hours(plan_of())
        self.assertAlmostEqual(rest, 4608 / (28 + (1.8 + 150.95) / 0.92), places=6)
        self.assertAlmostEqual(work, 4608 / (28 + (92.4 + 150.95 + 38) / 0.92), places=6)


class DocumentTest(unittest.TestCase):
    def test_has_the_contracts_keys(self):
        document = as_document(simulate(plan_of(), 50))
        self.assertEqual(
            set(document) - {"notices"},
            {
                "runtime_h",
                "capped",
                "never_cycles_off_h",
                "covers",
                "chance",
                "stop",
                "energy_wh",
                "unserved_wh",
                "peak_w",
                "trips",
                "starts",
                "hourly",
                "helps",
                "ledger",
                "measure_next",
                "sources_wh",
                "fuel_l",
                "verdict",
                "until_h",
            },
        )
        self.assertEqual(
            set(document["energy_wh"]),
            {
                "loads",
                "inverter_idle",
                "outputs_idle",
                "conversion",
                "sources",
                "battery_out",
                "battery_in",
                "stored_change",
            },
        )
        self.assertEqual(document["stop"]["why"], "floor")
        self.assertEqual([row["hour"] for row in document["hourly"]], list(range(37)))
        for row in document["hourly"]:
            self.assertTrue(row["charge_low"] <= row["charge"] <= row["charge_high"])

    def test_refusals(self):
        lamp = BASE["loads"][2]
        for change, said in [
            ({"hours": 0}, "hours"),
            ({"hours": 0.001}, "too small"),
            ({"hours": 1000}, "at most 336"),
            ({"start": "tomorrow"}, "not a time"),
            ({"start": "18:00"}, "needs a date"),
            ({"laods": []}, "did you mean “loads”"),
            ({"sources": [{"kind": "sun"}]}, "rated_w: is needed"),
            ({"sources": [{"kind": "moon"}]}, "one of sun, window, battery"),
            ({"sources": [{"kind": "window", "watts": 5}]}, "at least one window"),
            ({"sources": [{"kind": "sun", "rated_w": 5, "latitude": 95}]}, "too large"),
            ({"loads": [{"name": "x"}]}, "loads[0].running_w: is needed"),
            ({"loads": [{**lamp, "route": "dc12"}]}, "one of ac"),
            ({"loads": [{**lamp, "use": {"tasks": ["20:15"]}}]}, "steps: are needed"),
            ({"loads": [{"name": "x", "steps": [{"watts": 5, "minutes": 9}]}]}, "tasks"),
            (
                {
                    "loads": [
                        {
                            "name": "x",
                            "use": {"tasks": ["20:15"]},
                            "steps": [{"watts": 5, "minutes": 9000}],
                        }
                    ]
                },
                "longer than the plan",
            ),
            ({"loads": [{"name": "x", "use": {"charges": ["20:15"]}}]}, "charge: is needed"),
            (
                {
                    "loads": [
                        {"name": "x", "use": {"tasks": 0}, "steps": [{"watts": 5, "minutes": 1}]}
                    ]
                },
                "1 to 100",
            ),
            (
                {"loads": [{**lamp, "use": {"between": [["18:00", "20:00"], ["19:00", "21:00"]]}}]},
                "overlaps 18:00–20:00",
            ),
            (
                {
                    "loads": [
                        {
                            **lamp,
                            "use": {
                                "between": [
                                    ["2027-02-09T20:00:00+00:00", "2027-02-09T19:00:00+00:00"]
                                ]
                            },
                        }
                    ]
                },
                "ends before it begins",
            ),
            ({"loads": [{**lamp, "use": {}}]}, "needs one of"),
            ({"room_warmest": "noon"}, "not a time"),
            ({"loads": [{**lamp, "use": "sometimes"}]}, 'write "always"'),
            ({"loads": [{**lamp, "use": {"between": [["18:00"]]}}]}, "must be"),
            ({"loads": [{**lamp, "use": {"between": [["18:00", "18:00"]]}}]}, "same time"),
            ({"loads": [{**lamp, "resting_w": 50}]}, "above the running"),
            ({"loads": [{**lamp, "duty": 1.4}]}, "too large"),
            ({"loads": [{**lamp, "count": 1.5}]}, "whole number"),
            ({"loads": [lamp, lamp]}, "two loads"),
            ({"supply": {"battery": BASE["supply"]["battery"]}}, "inverter"),
            ({"supply": None}, "object"),
        ]:
            with self.subTest(said=said):
                with self.assertRaises(DocumentError) as caught:
                    parse_plan({**copy.deepcopy(BASE), **change})
                self.assertIn(said, str(caught.exception))


class UseTest(unittest.TestCase):
    start = datetime(2027, 2, 9, 18, 0, tzinfo=UTC)

    def use(self, windows):
        data = {"name": "Lamp", "running_w": 1, "use": {"between": windows}}
        return in_use(plan_of(loads=[data]).loads[0], self.start, 24 * 60)

    def test_over_midnight(self):
        mask = self.use([["23:00", "01:30"]])
        self.assertEqual(mask.sum(), 150)
        self.assertTrue(mask[300] and mask[449] and not mask[450])

    def test_once(self):
        mask = self.use([["2027-02-09T20:00:00+00:00", "2027-02-09T20:45:00+00:00"]])
        self.assertEqual((mask.sum(), mask.argmax()), (45, 120))
