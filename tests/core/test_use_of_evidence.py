"""What is entered of a load reaches the plan once, and in the sense in which it was meant."""

import unittest
from datetime import UTC, datetime

import numpy as np

from needle.decide.starting import StartTried, overload_as_tried, start_as_tried
from needle.document import DocumentError
from needle.measure.readings import parse
from needle.message import message
from needle.plan.advice.alone import alone
from needle.plan.advice.measurements import display_hours, measure_next
from needle.plan.advice.sizing import nights_covered
from needle.plan.advice.suggestions import suggestions
from needle.plan.documents.parse import parse_plan
from needle.plan.draws.inputs import OUTPUT
from needle.plan.energy.simulate import simulate
from needle.plan.sources.registry import parse_sources
from needle.profile.profile import derive
from needle.profile.record import LoadRecord
from needle.quantity import charge_volts
from needle.supply.inverter import parse_inverter
from needle.supply.supply import parse_supply, staircase
from needle.supply.supply_tests import parse_test
from needle.trial.forecast import forecast
from needle.trial.trial import parse_trial
from needle.words import text_of

SUPPLY = {
    "battery": {
        "chemistry": "lfp",
        "nominal_wh": 10_000,
        "volts": 51.2,
        "capacity_factor": 1.0,
        "capacity_spread": 0.0,
    },
    "inverter": {"continuous_w": 3000, "idle_w": 10, "efficiency": 0.9},
    "outputs": [{"name": "dc12", "volts": 12, "idle_w": 1, "efficiency": 0.9}],
}


def evidence(kind, *readings, **more):
    return {"name": "Load", "kind": kind, "readings": list(readings), **more}


def plan(*loads, **more):
    document = {
        "start": "2027-02-09T18:00:00+00:00",
        "hours": 24,
        "supply": SUPPLY,
        "loads": list(loads),
        **more,
    }
    return parse_plan(document)


def wh_of(load, **more):
    """Wh that the likely run gives a load over its hours."""
    outcome = simulate(plan({"name": "Load", **load}, **more), 8)
    return outcome.likely.energy_wh["loads"]["Load"]


def profile(kind, *readings, **more):
    return derive(LoadRecord("Load", kind, tuple(map(parse, readings)), **more))


SHORT_RUN = {"type": "short-run", "watts": 780, "seconds": 150, "times_per_day": 6}


class UseTest(unittest.TestCase):
    def test_uses_a_day_are_the_plan_s_default_use(self):
        load = {"profile": evidence("universal-motor", SHORT_RUN)}
        self.assertAlmostEqual(wh_of(load), 195, delta=1)

    def test_hours_a_day_are_the_plan_s_default_use(self):
        load = {"profile": evidence("led", {"type": "spot", "watts": 40}, hours_per_day=5)}
        self.assertAlmostEqual(wh_of(load), 200, delta=1)

    def test_a_use_of_ones_own_comes_before_that_of_the_evidence(self):
        load = {"profile": evidence("universal-motor", SHORT_RUN), "use": {"tasks": 2}}
        self.assertAlmostEqual(wh_of(load), 65, delta=0.5)

    def test_single_uses_of_which_nobody_says_when_are_asked_about(self):
        task = {"type": "task", "wh": 612, "minutes": 54}
        with self.assertRaisesRegex(DocumentError, "say when it is used"):
            plan({"name": "Load", "profile": evidence("thermostat-heat", task)})

    def test_what_a_counter_counted_over_a_day_was_within_its_hours(self):
        run = {"type": "energy", "wh": 350, "hours": 24}
        load = {
            "profile": evidence("electronics", {"type": "spot", "watts": 72}, run),
            "use": {"between": [["18:00", "23:00"]]},
        }
        self.assertAlmostEqual(wh_of(load), 350, delta=2)
        self.assertAlmostEqual(
            profile("electronics", run, hours_per_day=5).wh_per_day.value, 350, places=3
        )

    def test_a_counter_shorter_than_the_use_is_of_the_use(self):
        run = {"type": "energy", "wh": 140, "hours": 2}
        load = {"profile": evidence("electronics", run), "use": {"between": [["18:00", "23:00"]]}}
        self.assertAlmostEqual(wh_of(load), 350, delta=2)

    def test_a_box_that_is_off_by_day_draws_by_night_what_it_always_does(self):
        run = {"type": "energy", "wh": 800, "hours": 24}
        load = {
            "profile": evidence("compressor-fixed", run),
            "use": {"between": [["18:00", "06:00"]]},
        }
        self.assertAlmostEqual(wh_of(load), 400, delta=10)

    def test_a_heater_runs_at_its_watts_in_its_hours(self):
        load = {
            "profile": evidence("resistive-heat", {"type": "spot", "watts": 880}),
            "use": {"between": [["19:00", "19:09"]]},
        }
        self.assertAlmostEqual(wh_of(load), 132, delta=1)
        supply = {**SUPPLY, "inverter": {"continuous_w": 1000}}
        outcome = simulate(plan({"name": "Load", **load}, supply=supply), 200)
        self.assertEqual(outcome.trips, [])

    def test_a_heater_alone_runs_full_on(self):
        load = {
            "name": "Load",
            "profile": evidence("resistive-heat", {"type": "spot", "watts": 880}),
        }
        (row,) = alone(plan(load), 40)
        self.assertAlmostEqual(row.hours[1], 9000 / (10 + 880 / 0.9), delta=0.3)

    def test_a_short_task_takes_its_own_energy(self):
        steps = [{"watts": 900, "minutes": 1 / 3}]
        load = {"name": "Load", "running_w": 900, "steps": steps, "use": {"tasks": 3}}
        (row,) = alone(plan(load), 40)
        self.assertAlmostEqual(row.wh_per_day[1], 15, delta=0.5)
        # 9,000 Wh of the battery at 5 Wh a task, 10 W of idle for 20 s of it: 1606 of them.
        each = 5 / 0.9 + 10 / 180
        self.assertAlmostEqual(row.tasks[1], 9000 / each, delta=0.03 * 9000 / each)

    def test_notices_of_the_evidence_reach_the_plan(self):
        load = {
            "profile": evidence(
                "pump", {"type": "spot", "watts": 444}, {"type": "energy", "wh": 0, "hours": 12}
            ),
            "name": "Sump",
        }
        notices = simulate(plan(load), 4).notices
        self.assertTrue(
            any(text_of(notice).startswith("Sump: A counter shows no") for notice in notices)
        )


class SeveralTest(unittest.TestCase):
    def test_three_of_a_thing_have_three_days(self):
        def spread(count, watts):
            load = {
                "name": "Load",
                "running_w": watts,
                "count": count,
                "spread": 0.0,
                "day_spread": 0.3,
            }
            outcome = simulate(plan(load, hours=200, needed_hours=24), 400)
            return np.std(np.log(outcome.runtime_h))

        self.assertAlmostEqual(spread(3, 100) / spread(1, 300), 1 / np.sqrt(3), delta=0.12)


class SettingTest(unittest.TestCase):
    READINGS = (
        {"type": "spot", "watts": 40},
        {"type": "energy", "wh": 300, "hours": 12, "setting": "low"},
        {"type": "energy", "wh": 600, "hours": 12, "setting": "high"},
        {"type": "energy", "wh": 620, "hours": 12, "setting": "high"},
    )

    def test_what_was_counted_in_a_setting_comes_before_a_moment_in_none(self):
        known = profile("thermostat-heat", *self.READINGS)
        self.assertEqual(known.setting, "high")
        self.assertAlmostEqual(known.mean_w.value, 50.8, delta=0.5)

    def test_equal_readings_without_a_setting_count(self):
        known = profile(
            "led", {"type": "spot", "watts": 40}, {"type": "spot", "watts": 20, "setting": "low"}
        )
        self.assertEqual(known.setting, "")


class VoltAmpereTest(unittest.TestCase):
    def test_watts_and_power_factor_of_one_reading_err_together(self):
        spot = {"type": "spot", "watts": 610, "va": 762, "volts": 231, "amps": 3.3}
        load = {"name": "Load", "profile": evidence("induction-motor", spot), "use": "always"}
        outcome = simulate(plan(load), 400)
        (start,) = outcome.starts
        low, _, high = start.running_va
        known = profile("induction-motor", spot)
        self.assertAlmostEqual(
            np.log(high / low) / 2 / 1.2816, known.va_spread, delta=0.15 * known.va_spread
        )

    def test_amps_of_a_clamp_are_va_whatever_the_power_factor(self):
        spot = {"type": "spot", "amps": 3.3, "volts": 231, "instrument": "clamp"}
        known = profile("induction-motor", spot)
        self.assertLess(known.va_spread, 0.4 * known.running_w.spread)

    def test_amps_beside_a_label_of_other_volts_count_at_these(self):
        known = profile(
            "induction-motor",
            {"type": "label", "watts": 900, "volts": 240},
            {"type": "spot", "amps": 3.0},
            mains_v=120.0,
        )
        self.assertAlmostEqual(known.running_w.value, 240 * 3 * 0.75)
        self.assertIn("label says 240 V", text_of(known.notices[0]))


class TestedSupplyTest(unittest.TestCase):
    def test_a_plan_at_the_rate_of_a_capacity_test_lasts_as_long_as_the_test(self):
        battery = {"chemistry": "lead", "nominal_wh": 1200, "floor": 0.0, "peukert_n": 1.2}
        test = {"type": "capacity", "wh": 800, "hours": 4, "from": 1.0, "to": 0.0}
        supply = {
            "battery": battery,
            "outputs": [{"name": "wire", "idle_w": 0, "efficiency": 1.0}],
            "tests": [test],
        }
        load = {"name": "Load", "running_w": 200, "route": "wire", "spread": 0.0}
        outcome = simulate(plan(load, supply=supply), 200)
        self.assertAlmostEqual(outcome.runtime[1], 4.0, delta=0.04)

    def test_what_a_route_test_read_is_what_the_output_passes_on(self):
        test = {
            "type": "route",
            "load": "Load",
            "output": "dc12",
            "hours": 24,
            "ac": {"from": 1.0, "to": 0.0, "load_wh": 8000},
            "dc": {"from": 1.0, "to": 0.0, "load_wh": 7500},
        }
        plain = {**SUPPLY, "outputs": [{"name": "dc12", "idle_w": 1}]}
        tested = parse_supply({**plain, "tests": [test]}).outputs[0].efficiency
        self.assertAlmostEqual(tested.value, 7500 / (10_000 - 24), delta=0.02)
        self.assertEqual(tested.how, (message("route-test"),))
        self.assertLess(tested.spread, parse_supply(plain).outputs[0].efficiency.spread)
        load = {"name": "Load", "running_w": 400, "spread": 0.03, "route": "dc12"}
        for tests, advised in (([], True), ([test], False)):
            outcome = simulate(plan(load, supply={**plain, "tests": tests}), 400)
            kinds = {narrowing.key.kind for narrowing in measure_next(outcome)}
            self.assertEqual(OUTPUT in kinds, advised)

    def test_a_step_of_the_staircase_never_rises(self):
        supply = {
            **SUPPLY,
            "battery": {**SUPPLY["battery"], "capacity_spread": 0.05},
            "inverter": {"continuous_w": 3000},
        }
        for mean_w in (20, 100, 800):
            highs = [step.left_wh.high for step in staircase(parse_supply(supply), 24, mean_w)][1:]
            self.assertEqual(highs, sorted(highs, reverse=True))

    def test_an_input_called_as_the_source_limits_it_whatever_its_kind(self):
        supply = parse_supply(
            {**SUPPLY, "inputs": [{"name": "sun", "max_w": 300}, {"name": "Mains", "max_w": 500}]}
        )
        window = {"kind": "window", "watts": 900, "between": [["18:00", "20:00"]]}
        for more, limit in (({"name": "mains"}, 500), ({}, 500), ({"input": "sun"}, 300)):
            (source,) = parse_sources([{**window, **more}], UTC, supply)
            self.assertEqual(source.limit_w, limit)
        power = source.power_w(datetime(2027, 2, 9, 18, tzinfo=UTC), 60)
        self.assertEqual(float(power.max()), 300)


class StartTestTest(unittest.TestCase):
    def test_a_start_that_held_alone_draws_no_more_than_is_carried(self):
        rng = np.random.default_rng(3)
        start_va = 4000 * np.exp(0.3 * rng.standard_normal(400))
        limit = np.full(400, 3500.0)
        held = start_as_tried(start_va, limit, StartTried("held", 0.0, 5))
        self.assertLessEqual(float(held.max()), 3500 * 1.001)
        self.assertTrue(np.array_equal(np.argsort(held), np.argsort(start_va)))
        tripped = start_as_tried(start_va, limit, StartTried("tripped"))
        self.assertGreater(float(tripped.min()), 3400)
        self.assertIs(start_as_tried(start_va, limit, None), start_va)

    def test_a_start_that_was_measured_beyond_the_rating_and_held_is_what_was_measured(self):
        start_va = 4000 * np.exp(0.02 * np.random.default_rng(3).standard_normal(400))
        held = start_as_tried(start_va, np.full(400, 3500.0), StartTried("held"))
        np.testing.assert_array_equal(held, start_va)

    def test_many_starts_that_held_alone_make_one_beside_others_likelier(self):
        def chance(**tested):
            pump = {
                "name": "Pump",
                "running_w": 400,
                "power_factor": 0.8,
                "start_va": 2400,
                "start_spread": 0.4,
                **tested,
            }
            lamp = {"name": "Lamp", "running_w": 300}
            supply = {**SUPPLY, "inverter": {"continuous_w": 1500, "surge_va": 3000}}
            starts = simulate(plan(pump, lamp, supply=supply), 400).starts
            return next(start for start in starts if start.load == "Pump").verdict.chance

        self.assertGreater(chance(start_tested="held", start_times=9), chance() + 0.05)

    def test_what_tripped_beside_a_lamp_and_now_stands_alone_names_its_own_start(self):
        pump = {
            "name": "Pump",
            "running_w": 400,
            "power_factor": 0.8,
            "start_va": 2400,
            "start_s": 1.0,
            "start_spread": 0.4,
            "start_tested": "tripped",
            "start_beside_w": 80,
        }
        supply = {**SUPPLY, "inverter": {"continuous_w": 1500, "surge_va": 3000}}
        (start,) = simulate(plan(pump, supply=supply), 400).starts
        self.assertEqual(start.verdict.verdict, "trips")
        self.assertIn("over the surge rating", text_of(start.verdict.reason))
        self.assertIn("tested: it tripped, beside 80", text_of(start.verdict.reason))

    def test_what_ran_on_for_a_while_is_carried_so_long(self):
        inverter = parse_inverter({"continuous_w": 1000})
        self.assertEqual(overload_as_tried(inverter, [(1300, 90, False)]), ((1.3, 90),))
        known = parse_inverter({"continuous_w": 1000, "overload": [[1.15, 60], [1.5, 10]]})
        self.assertEqual(
            overload_as_tried(known, [(1300, 30, False)]), ((1.15, 60), (1.3, 30), (1.5, 10))
        )
        self.assertEqual(overload_as_tried(known, [(1100, 20, True)]), ((1.15, 20), (1.5, 10)))
        self.assertEqual(overload_as_tried(known, [(900, 300, False)]), known.overload)

    def test_a_step_that_was_carried_for_two_minutes_does_not_trip_for_one(self):
        mill = {
            "name": "Mill",
            "running_w": 1300,
            "steps": [{"watts": 1300, "minutes": 1}],
            "use": {"tasks": ["19:00"]},
        }
        supply = {**SUPPLY, "inverter": {"continuous_w": 1000, "surge_va": 4000}}
        tested = {**mill, "start_tested": "complained", "start_ran_s": 130}
        self.assertTrue(simulate(plan(mill, supply=supply), 40).trips)
        self.assertEqual(simulate(plan(tested, supply=supply), 40).trips, [])


class AdviceTest(unittest.TestCase):
    def test_what_helps_after_a_run_does_not_change_what_ran_in_it(self):
        loads = [
            {"name": name, "running_w": watts, "spread": 0.2, "priority": "nice"}
            for name, watts in (("Box", 60), ("Router", 40))
        ]
        supply = {**SUPPLY, "battery": {**SUPPLY["battery"], "nominal_wh": 3000}}
        run = {"hours": 22.2, "to": 0.1, "why": "floor", "loads": ["Box", "Router"]}
        outcome = simulate(plan(*loads, supply=supply, runs=[run], hours=60, needed_hours=40), 200)
        self.assertAlmostEqual(outcome.runtime[1], 22.2, delta=0.7)
        off = next(help_ for help_ in suggestions(outcome) if help_.load == "Router")
        self.assertAlmostEqual(off.value, 22.2 * (121 / 76.7 - 1), delta=1.5)

    def test_the_chance_before_is_the_plan_s_own(self):
        load = {"name": "Box", "running_w": 400, "spread": 0.2, "priority": "nice"}
        other = {"name": "Lamp", "running_w": 60, "spread": 0.2}
        outcome = simulate(plan(load, other, hours=40, needed_hours=20), 400)
        self.assertTrue(0.1 < outcome.chance < 0.9)
        for suggestion in suggestions(outcome):
            self.assertEqual(suggestion.chance_before, outcome.chance)

    def test_a_gain_beyond_the_plan_is_looked_for_or_said_to_be_at_least(self):
        loads = [{"name": "Heater", "running_w": 400}, {"name": "Lamp", "running_w": 20}]
        outcome = simulate(plan(*loads, hours=24, needed_hours=12), 40)
        gains = {help_.load: help_ for help_ in suggestions(outcome)}
        self.assertGreater(gains["Heater"].value, 100)
        self.assertTrue(gains["Heater"].at_least)

    def test_a_rest_wins_no_hours_in_which_what_is_wanted_is_off(self):
        box = {"name": "Box", "running_w": 90, "duty": 0.4, "kind": "compressor-fixed"}
        supply = {**SUPPLY, "battery": {**SUPPLY["battery"], "nominal_wh": 700}}
        outcome = simulate(plan(box, supply=supply, hours=30, needed_hours=24), 100)
        for suggestion in suggestions(outcome):
            self.assertNotEqual(suggestion.change.kind, "rest", suggestion.what)

    def test_no_rest_mends_an_overload(self):
        loads = [
            {"name": "Kettle", "running_w": 4000, "use": {"between": [["18:30", "18:40"]]}},
            {"name": "Lamp", "running_w": 20, "use": {"between": [["18:00", "20:00"]]}},
        ]
        outcome = simulate(plan(*loads, hours=40, needed_hours=24), 40)
        self.assertNotIn("rest", [help_.change.kind for help_ in suggestions(outcome)])

    def test_what_a_display_promises_counts_dc_loads_with_hours(self):
        lamp = {
            "name": "Lamp",
            "running_w": 45,
            "route": "dc12",
            "use": {"between": [["18:00", "23:00"]]},
        }
        supply = {**SUPPLY, "inverter": {**SUPPLY["inverter"], "off_unused": True}}
        rest, work = display_hours(plan(lamp, supply=supply))
        self.assertAlmostEqual(work, 9000 / (1 + 45 / 0.9), delta=0.1)
        self.assertGreater(rest, work)

    def test_what_runs_in_the_morning_covers_no_night(self):
        cutter = {"name": "Cutter", "running_w": 50, "use": {"between": [["08:00", "09:00"]]}}
        lamp = {"name": "Lamp", "running_w": 20, "use": {"between": [["21:00", "06:00"]]}}
        outcome = simulate(plan(cutter, lamp, hours=48), 8)
        self.assertEqual([night.load for night in nights_covered(outcome)], ["Lamp"])


class TrialCountsTest(unittest.TestCase):
    def trial(self, battery, *check_ins, **more):
        document = {
            "supply": {"battery": {"chemistry": "lfp", "nominal_wh": 1000, **battery}},
            "expected_w": {"value": 50},
            "check_ins": list(check_ins),
            **more,
        }
        return forecast(parse_trial(document), draws=60)

    def test_amp_hours_without_volts_are_said_or_counted_by_volts_beside_them(self):
        said = self.trial({}, {"h": 5, "ah": 30})
        self.assertIn("volts are not known", " ".join(map(text_of, said.notices)))
        beside = self.trial({}, {"h": 5, "ah": 30, "volts": 13.0})
        self.assertAlmostEqual(beside.drawn_wh[1], 390, delta=8)
        known = self.trial({"volts": 12.8}, {"h": 5, "ah": 30})
        self.assertAlmostEqual(known.drawn_wh[1], 384, delta=8)

    def test_amp_hours_written_with_volts_tell_the_volts(self):
        for text, volts in (
            ("80 Ah @ 12.8 V", 12.8),
            ("24,000 mAh at 3.7 V", 3.7),
            ("5.12 kWh", None),
            ("6 A @ 12 V", None),
        ):
            self.assertEqual(charge_volts(text), volts)

    def test_nothing_is_proved_where_nothing_was_counted(self):
        ended = {"ended": {"h": 18, "why": "cutoff"}}
        self.assertIsNone(self.trial({}, **ended).state_of_health)
        counted = self.trial({}, {"h": 18, "wh": 900}, **ended)
        self.assertAlmostEqual(counted.state_of_health[1], 0.9, delta=0.03)

    def test_watts_are_of_where_they_are_read(self):
        plan_document = {
            "start": "2027-02-09T18:00:00+00:00",
            "hours": 24,
            "supply": SUPPLY,
            "loads": [{"name": "Box", "running_w": 100, "spread": 0.3}],
        }

        def level(**place):
            check_in = {"h": 0.2, "watts": 100, **place}
            document = {"plan": plan_document, "check_ins": [check_in]}
            return forecast(parse_trial(document), draws=100).stop_h[1]

        self.assertGreater(level(), level(watts_at="ac") * 1.05)
        self.assertAlmostEqual(level(watts_at="ac"), level(counted="ac"), delta=1e-6)

    def test_a_shunt_counts_where_it_sits(self):
        run = {"type": "energy", "wh": 100, "hours": 5}
        self.assertEqual(parse({**run, "instrument": "shunt"}).counted, "dc")
        self.assertEqual(parse({**run, "instrument": "display"}).counted, "ac")
        self.assertEqual(parse({**run, "instrument": "shunt", "counted": "ac"}).counted, "ac")

    def test_an_idle_test_by_a_display_is_only_as_good_as_the_display(self):
        test = parse_test({"type": "idle", "from": 1.0, "to": 0.95, "hours": 4})
        self.assertEqual(test.end, 0.95)
        supply = parse_supply(
            {
                **SUPPLY,
                "tests": [{"type": "idle", "output": "ac", "from": 1.0, "to": 0.95, "hours": 40}],
            }
        )
        self.assertGreater(supply.inverter.idle_w.spread, 0.3)
