"""A load that is too large is named, hours and advice are those of a householder's plan."""

import unittest

from needle.estimate import Estimate
from needle.plan.advice.suggestions import suggestions
from needle.plan.verdict import verdict_of
from tests.core.test_verdict import outcome_of

FRIDGE = {"name": "Fridge", "kind": "compressor-fixed", "running_w": 92, "duty": 0.36}
ROUTER = {"name": "Router", "running_w": 12}
KETTLE = {
    "name": "Kettle",
    "running_w": 2200,
    "kind": "resistive-heat",
    "steps": [{"watts": 2200, "minutes": 3}],
    "use": {"tasks": ["19:00", "07:00"]},
}


def household(*loads, **changes):
    return outcome_of([FRIDGE, ROUTER, *loads], 1000, **changes)


class CulpritTest(unittest.TestCase):
    def test_it_alone_is_named_with_what_it_needs(self):
        (blocked,) = verdict_of(household(KETTLE)).blocked_loads
        self.assertEqual(
            (blocked.load, blocked.why, blocked.alone),
            ("Kettle", "overload", True),
        )
        self.assertEqual(
            (blocked.needs, blocked.limit, blocked.unit),
            (2200, 1000, "W"),
        )
        self.assertEqual((blocked.needs_high, blocked.chance), (2200, 1.0))

    def test_another_inverter_would_have_to_give_its_most(self):
        (blocked,) = verdict_of(household({**KETTLE, "watts_spread": 0.1})).blocked_loads
        self.assertAlmostEqual(blocked.needs_high, Estimate(2200, 0.1, "D").high)

    def test_hours_and_chances_are_those_of_all_the_rest(self):
        with_kettle, without = household(KETTLE, needed_hours=12), household(needed_hours=12)
        self.assertEqual(with_kettle.runtime, without.runtime)
        verdict = verdict_of(with_kettle)
        self.assertEqual((verdict.chance, verdict.chance_without), (0.0, without.chance))

    def test_the_others_start(self):
        starts = {start.load: start.verdict.verdict for start in household(KETTLE).starts}
        self.assertEqual(starts, {"Fridge": "holds", "Router": "holds", "Kettle": "trips"})

    def test_one_that_joins_others_is_named_with_their_sum(self):
        heaters = [
            {"name": name, "running_w": 600, "use": {"between": [[begin, "22:00"]]}}
            for name, begin in (("First", "18:30"), ("Second", "19:30"))
        ]
        (blocked,) = verdict_of(household(*heaters)).blocked_loads
        self.assertEqual((blocked.load, blocked.alone), ("Second", False))
        self.assertGreater(blocked.needs, 1200)

    def test_a_failed_start_names_the_rating(self):
        motor = {"name": "Pump", "running_w": 300, "start_va": 9000}
        (blocked,) = verdict_of(household(motor, inverter={"surge_va": 2000})).blocked_loads
        self.assertEqual(
            (blocked.why, blocked.needs, blocked.limit),
            ("start", 9000, 2000),
        )


class HelpTest(unittest.TestCase):
    def first(self, *loads, **changes):
        return suggestions(household(*loads, **changes))[0]

    def test_the_first_help_removes_what_fails_first(self):
        first = self.first(KETTLE)
        self.assertEqual(
            (first.change.kind, first.load, first.fixes), ("leave_off", "Kettle", True)
        )

    def test_of_two_that_are_too_large_neither_alone_lets_all_run(self):
        heater = {"name": "Heater", "running_w": 1800, "use": {"between": [["20:00", "21:00"]]}}
        first = self.first(KETTLE, heater)
        self.assertEqual((first.fixes, first.all_run), (True, False))
        self.assertTrue(self.first(KETTLE).all_run)

    def test_a_must_and_what_the_plan_is_for_are_never_left_off(self):
        for kept in ({"priority": "must"}, {"purpose": True}):
            loads = {help_.load for help_ in suggestions(household({**KETTLE, **kept}))}
            self.assertNotIn("Kettle", loads)

    def test_refrigeration_keeps_its_contents_unless_somebody_says_no(self):
        outcome = household(KETTLE)
        self.assertNotIn("Fridge", {help_.load for help_ in suggestions(outcome)})
        may_warm_up = outcome_of([{**FRIDGE, "cares": ""}, ROUTER, KETTLE], 1000)
        self.assertIn("Fridge", {help_.load for help_ in suggestions(may_warm_up)})

    def test_what_is_only_nice_to_have_is_no_trouble(self):
        first = self.first({**KETTLE, "priority": "nice"})
        self.assertEqual((first.load, first.fixes), ("Router", False))
