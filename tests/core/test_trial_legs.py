"""Legs of a trial of which it is known what runs: the forecast follows, and so does the run."""

import unittest

from needle.document import DocumentError
from needle.plan.documents.parse import parse_plan
from needle.trial.finished_run import run_of
from needle.trial.forecast import forecast
from needle.trial.trial import parse_trial

#: 2000 Wh that are known, a box of 60 W and a heater of 100 W at the battery, both steady.
PLAN = {
    "start": "2027-02-09T18:00:00+00:00",
    "hours": 60,
    "needed_hours": 20,
    "supply": {
        "battery": {
            "chemistry": "lfp",
            "nominal_wh": 2000,
            "volts": 12.8,
            "capacity_factor": 1.0,
            "capacity_spread": 0.02,
            "floor": 0.0,
        },
        "outputs": [{"name": "dc", "max_w": 300, "idle_w": 0, "efficiency": 1.0}],
    },
    "loads": [
        {"name": "Box", "running_w": 60, "route": "dc", "spread": 0.05},
        {"name": "Heater", "running_w": 100, "route": "dc", "spread": 0.05},
    ],
}


def document(*check_ins, **more):
    return {"plan": PLAN, "check_ins": list(check_ins), **more}


def forecast_of(*check_ins, **more):
    return forecast(parse_trial(document(*check_ins, **more)))


class KnownLegTest(unittest.TestCase):
    def test_a_load_that_is_off_no_longer_counts(self):
        prediction = forecast_of({"h": 5, "on": ["Box"]})
        # 5 h of both, then the box alone.
        self.assertAlmostEqual(prediction.stop_h[1], 5 + (2000 - 800) / 60, delta=0.7)
        self.assertEqual([leg.name for leg in prediction.legs], ["start", "Box"])
        self.assertAlmostEqual(prediction.mean_w[1], 60, delta=3)

    def test_it_is_known_better_than_a_leg_of_which_only_the_name_is(self):
        known = forecast_of({"h": 5, "on": ["Box"]}).stop_h
        named = forecast_of({"h": 5, "leg": "heater off"}).stop_h
        self.assertLess(known[2] - known[0], 0.75 * (named[2] - named[0]))

    def test_nothing_on_and_back_again(self):
        checks = ({"h": 5, "on": []}, {"h": 15, "on": ["Box", "Heater"]})
        prediction = forecast_of(*checks)
        self.assertAlmostEqual(prediction.stop_h[1], 10 + 2000 / 160, delta=0.8)
        back = forecast_of(checks[0], {"h": 15, "leg": "start"})
        self.assertAlmostEqual(back.stop_h[1], prediction.stop_h[1], delta=0.4)

    def test_what_was_counted_before_tells_of_what_still_runs(self):
        plan = {**PLAN, "loads": [{**load, "spread": 0.3} for load in PLAN["loads"]]}
        counts = [{"h": 4, "wh": 4 * 200}, {"h": 4, "on": ["Box"]}]
        more = forecast(parse_trial({"plan": plan, "check_ins": counts}))
        counts[0] = {"h": 4, "wh": 4 * 160}
        usual = forecast(parse_trial({"plan": plan, "check_ins": counts}))
        self.assertGreater(more.mean_w[1], 1.05 * usual.mean_w[1])
        # It may as well have been the heater.
        self.assertLess(more.mean_w[1], 1.24 * usual.mean_w[1])

    def test_a_trial_that_begins_with_some_of_its_loads(self):
        self.assertAlmostEqual(forecast_of(on=["Box"]).stop_h[1], 2000 / 60, delta=1.0)
        later = forecast_of({"h": 10, "on": ["Box", "Heater"]}, on=["Box"])
        self.assertAlmostEqual(later.stop_h[1], 10 + 1400 / 160, delta=0.6)

    def test_refusals(self):
        for check_ins, words in (
            ([{"h": 1, "on": ["Fan"]}], "no load of its plan"),
            ([{"h": 1, "on": [3]}], "no load of its plan"),
            ([{"h": 1, "on": "Box"}], "on"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(DocumentError, words):
                forecast_of(*check_ins)
        bare = {"supply": PLAN["supply"], "expected_w": {"value": 40}}
        with self.assertRaisesRegex(DocumentError, "no load of its plan"):
            parse_trial({**bare, "check_ins": [{"h": 1, "on": ["Box"]}]})


class RunOfLegsTest(unittest.TestCase):
    def run_of(self, *check_ins, **more):
        ended = {"h": 25.0, "why": "cutoff"}
        return run_of(parse_trial(document(*check_ins, ended=ended, **more)))

    def test_each_part_has_its_loads(self):
        made = self.run_of({"h": 5, "on": ["Box"]}, {"h": 9, "leg": "start"})
        self.assertEqual(
            [(leg.h, leg.on) for leg in made.legs], [(0, None), (5, ("Box",)), (9, None)]
        )
        self.assertEqual(self.run_of({"h": 5, "wh": 500}).legs, ())
        begun = self.run_of({"h": 0, "on": ["Box"]})
        self.assertEqual([(leg.h, leg.on) for leg in begun.legs], [(0, ("Box",))])

    def test_a_leg_of_something_else_counts_by_the_watts_that_were_read(self):
        plan = {**PLAN, "supply": {**PLAN["supply"], "inverter": {"continuous_w": 500}}}
        checks = [{"h": 5, "leg": "a friend's saw"}, {"h": 6, "watts": 300, "watts_at": "ac"}]
        ended = {"h": 7.0, "why": "cutoff"}
        made = run_of(parse_trial({"plan": plan, "check_ins": checks, "ended": ended}))
        self.assertEqual(made.legs[1].watts, 300)
        unknown = {"plan": plan, "check_ins": checks[:1], "ended": ended}
        self.assertIn("what ran in its legs", run_of(parse_trial(unknown)))

    def test_the_run_of_a_plan_has_the_same_parts(self):
        """A run in two legs that lasted as its plan says leaves the battery as it was."""
        hours = 5 + (2000 - 800) / 60
        legs = [{"h": 0, "loads": ["Box", "Heater"]}, {"h": 5, "loads": ["Box"]}]
        run = {"hours": hours, "to": 0.0, "why": "cutoff", "legs": legs}
        (made,) = parse_plan({**PLAN, "runs": [run]}).runs
        self.assertEqual(
            [[load.name for load in leg.fed] for leg in made.legs], [["Box", "Heater"], ["Box"]]
        )
