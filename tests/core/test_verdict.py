"""One verdict: what fails first, whether a battery mends it, and that figures agree with it."""

import unittest

import numpy as np

from needle.plan.advice.sizing import battery_for, shortage
from needle.plan.documents.parse import parse_plan
from needle.plan.documents.report import as_document
from needle.plan.energy.simulate import simulate
from needle.plan.verdict import verdict_of
from tests.core.exact import exact

LAMP = {"name": "Lamp", "running_w": 100}


def outcome_of(loads, nominal_wh=3000, draws=60, inverter=(), **changes):
    return simulate(
        parse_plan(
            exact(
                {
                    "start": "2027-02-09T18:00:00+00:00",
                    "hours": 40,
                    "needed_hours": 24,
                    "supply": {
                        "battery": {"chemistry": "lfp", "nominal_wh": nominal_wh},
                        "inverter": {
                            "continuous_w": 1000,
                            "idle_w": 10,
                            "efficiency": 0.9,
                            **dict(inverter),
                        },
                    },
                    "loads": loads,
                    **changes,
                }
            )
        ),
        draws,
    )


class VerdictTest(unittest.TestCase):
    def test_states_at_the_chance_wanted(self):
        for nominal, odds, state in (
            (5000, 0.9, "covers"),
            (3600, 0.9, "likely"),
            (3600, 0.5, "covers"),
            (2000, 0.9, "does not"),
        ):
            with self.subTest(nominal=nominal, odds=odds):
                self.assertEqual(verdict_of(outcome_of([LAMP], nominal, odds=odds)).state, state)

    def test_each_trouble_has_its_name(self):
        heater = {"name": "Heater", "running_w": 1500}
        motor = {"name": "Motor", "running_w": 300, "start_va": 9000}
        must = {**LAMP, "priority": "must"}
        resting = {"off": [["23:00", "06:00"]]}
        for loads, inverter, why, load in (
            ([LAMP], {}, "empty", ""),
            ([LAMP, heater], {}, "overload", "Heater"),
            ([LAMP, motor], {}, "start", "Motor"),
            ([must], resting, "rest", "Lamp"),
        ):
            with self.subTest(why=why):
                first_failure = verdict_of(outcome_of(loads, 1500, inverter=inverter)).first_failure
                self.assertEqual((first_failure.why, first_failure.load), (why, load))

    def test_a_load_of_class_life_is_never_dispensable(self):
        resting = {"off": [["23:00", "06:00"]]}
        for cares in ("life", "store"):
            kept = {**LAMP, "cares": cares, "priority": "nice"}
            first_failure = verdict_of(outcome_of([kept], 9000, inverter=resting)).first_failure
            self.assertEqual((first_failure.why, first_failure.load), ("rest", "Lamp"))
            heater = {"name": "Heater", "running_w": 1500, "cares": cares, "priority": "nice"}
            verdict = verdict_of(outcome_of([LAMP, heater], 9000))
            self.assertEqual((verdict.state, verdict.first_failure.load), ("does not", "Heater"))

    def test_what_is_nice_to_have_may_be_dropped(self):
        heater = {"name": "Heater", "running_w": 1500, "priority": "nice"}
        self.assertEqual(verdict_of(outcome_of([LAMP, heater], 6000)).state, "covers")

    def test_the_shortage_bought_holds_at_the_odds(self):
        outcome = outcome_of([LAMP], 2000, 200)
        lacks = shortage(outcome).wh
        self.assertGreaterEqual(outcome_of([LAMP], 2000 + 1.03 * lacks, 200).chance, 0.88)
        self.assertLess(outcome_of([LAMP], 2000 + 0.9 * lacks, 200).chance, 0.88)

    def test_the_size_and_the_odds_never_contradict_each_other(self):
        box = {
            "name": "Box",
            "running_w": 200,
            "duty": 0.5,
            "spread": 0.1,
            "day_spread": 0.07,
            "day_swing": 0.1,
        }
        for nominal in (3000, 3300, 3600, 3900, 4200):
            for hours in (26, 40):
                outcome = outcome_of([box], nominal, hours=hours)
                more = battery_for(outcome).more_wh
                self.assertEqual(more <= 0.011 * nominal, outcome.chance >= 0.9, (nominal, hours))

    def test_the_first_days_are_the_same_however_far_a_plan_looks(self):
        box = {"name": "Box", "running_w": 100, "duty": 0.4, "day_spread": 0.1, "day_swing": 0.1}
        near, far = (outcome_of([box], 3000, hours=hours) for hours in (40, 120))
        stops = near.runtime_h < 40
        self.assertTrue(stops.any())
        np.testing.assert_allclose(near.runtime_h[stops], far.runtime_h[stops], rtol=1e-4)

    def test_no_battery_mends_a_trip(self):
        outcome = outcome_of([LAMP, {"name": "Heater", "running_w": 1500}], 6000)
        self.assertIsNone(battery_for(outcome).nominal_wh)
        self.assertIn("Heater", shortage(outcome).why_not)

    def test_energies_are_of_the_hours_needed_or_to_the_stop(self):
        for nominal in (1500, 9000):
            outcome = outcome_of([LAMP], nominal)
            energy, hours = outcome.likely.energy_wh, outcome.likely.until_h
            self.assertAlmostEqual(energy["loads"]["Lamp"], 100 * hours, delta=1.7)
            self.assertAlmostEqual(energy["inverter_idle"], 10 * hours, delta=0.2)
            got = energy["loads"]["Lamp"] + outcome.likely.unserved_wh.get("Lamp", 0.0)
            self.assertAlmostEqual(got, 2400, delta=1.7)

    def test_the_document_words_the_same_verdict(self):
        rng = np.random.default_rng(5)
        for _ in range(6):
            loads = [{"name": f"L{n}", "running_w": float(rng.uniform(20, 700))} for n in range(3)]
            outcome = outcome_of(loads, float(rng.uniform(1000, 9000)))
            document = as_document(outcome)
            verdict = document["verdict"]
            self.assertEqual(verdict["chance"], document["chance"])
            self.assertEqual(verdict["state"] == "covers", document["covers"])
            self.assertEqual(verdict["lasts_h"], document["runtime_h"])
            self.assertAlmostEqual(
                verdict["needed_wh"], 24 * sum(load["running_w"] for load in loads), places=3
            )
