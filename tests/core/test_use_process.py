"""Loads that run by uses: what evidence says of how often, and what plans draw of it."""

import unittest
from dataclasses import replace
from datetime import UTC, datetime

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from needle.decide.starting import surge_va
from needle.document import DocumentError
from needle.estimate import Estimate
from needle.plan.advice.suggestions import suggestions
from needle.plan.documents.measured import usual_use
from needle.plan.documents.parse import parse_plan
from needle.plan.draws.inputs import draw
from needle.plan.draws.uses import STRETCH, daily_uses, used_by_stretch
from needle.plan.energy.simulate import simulate
from needle.plan.load import LoadUse
from needle.plan.verdict import verdict_of
from needle.profile.document import parse_load
from needle.profile.kinds import KINDS, RUNS_BY
from needle.profile.profile import Profile, derive
from needle.profile.runs_by import USE_PRIORS
from needle.profile.use_process import (
    HOURS,
    STATED_TIMES_SPREAD,
    Counted,
    Seen,
    UsePrior,
    hours_spread,
    use_process,
)
from needle.words import text_of

PRIOR = UsePrior((2, 7, 25), (1, 3, 12), "water")
USE_WH = Estimate(20.0, 1.0)


def counted(wh: float, hours: float, step: float = 1.0) -> Counted:
    return Counted(max(0.0, wh - step / 2), wh + step / 2, hours, 0.01)


def profile_of(*readings: dict, kind: str = "pump", **load: object) -> Profile:
    return derive(parse_load({"name": "Load", "kind": kind, "readings": list(readings), **load}))


class ProcessTest(unittest.TestCase):
    def test_without_evidence_it_is_the_prior(self):
        process = use_process(PRIOR, USE_WH, [], [])
        self.assertAlmostEqual(process.per_day.value, 7, delta=0.3)
        self.assertAlmostEqual(process.day_wh.value, 140, delta=15)
        self.assertEqual((process.seen, process.hours_seen), (0, 0))

    def test_a_long_count_outweighs_the_prior(self):
        process = use_process(PRIOR, USE_WH, [counted(4000, 240)], [])
        self.assertAlmostEqual(process.day_wh.value, 400, delta=30)
        self.assertLess(process.day_wh.spread, 0.25)

    def test_no_use_in_some_hours_bounds_the_rate_the_longer_the_lower(self):
        rates = [
            use_process(PRIOR, USE_WH, [], [Seen(0, hours)]).per_day.value
            for hours in (0.5, 6, 24, 96)
        ]
        self.assertEqual(rates, sorted(rates, reverse=True))
        self.assertLess(rates[-1], 1.5)

    def test_a_counter_that_stood_still_says_what_a_watcher_without_a_use_says(self):
        still = use_process(PRIOR, Estimate(20.0, 0.05), [Counted(0.0, 1.0, 24, 0.01)], [])
        nothing = use_process(PRIOR, Estimate(20.0, 0.05), [], [Seen(0, 24)])
        self.assertAlmostEqual(still.per_day.value / nothing.per_day.value, 1, delta=0.15)

    def test_each_further_day_of_uses_narrows_it(self):
        spreads = [
            use_process(PRIOR, USE_WH, [], [Seen(6 * days, 24 * days, 20.0)]).day_wh.spread
            for days in (1, 3, 10)
        ]
        self.assertEqual(spreads, sorted(spreads, reverse=True))
        self.assertLess(spreads[1], 0.8 * spreads[0])

    def test_what_people_say_of_how_often_counts(self):
        often = use_process(PRIOR, Estimate(20.0, 0.1), [], [], Estimate(3.0, 0.35))
        self.assertAlmostEqual(often.per_day.value, 3.0, delta=0.1)

    def test_its_range_holds_true_rates_drawn_from_the_prior(self):
        """Households whose rate, use and days are drawn; a counter runs for a day in each."""
        rng, held = np.random.default_rng(11), 0
        for _ in range(200):
            rate = float(np.exp(np.log(7) + 0.98 * rng.standard_normal()))
            use_wh = float(20 * np.exp(0.83 * rng.standard_normal()))
            day = rate * np.exp(0.3 * rng.standard_normal() - 0.045)
            uses = rng.poisson(day)
            wh = use_wh * float(np.exp(0.6 * rng.standard_normal(uses) - 0.18).sum())
            process = use_process(PRIOR, USE_WH, [counted(wh, 24)], [])
            held += process.day_wh.low <= rate * use_wh <= process.day_wh.high
        self.assertGreater(held, 150)
        self.assertLess(held, 195)

    @given(
        wh=st.floats(0, 50_000),
        hours=st.floats(0.1, 2000),
        uses=st.integers(0, 500),
        e=st.floats(1, 5000),
    )
    @settings(max_examples=60, deadline=None)
    def test_any_evidence_gives_finite_figures(self, wh, hours, uses, e):
        seen = [Seen(uses, hours, e if uses else None)]
        process = use_process(PRIOR, Estimate(e, 0.8), [counted(wh, hours)], seen)
        for estimate in (process.per_day, process.use_wh, process.day_wh):
            self.assertTrue(0 < estimate.low <= estimate.value <= estimate.high < 1e7)

    def test_hours_that_are_not_covered_widen_what_a_short_count_says(self):
        for hours in HOURS:
            self.assertEqual(hours_spread(hours, 24.0), 0.0)
            self.assertGreater(hours_spread(hours, 2.0), hours_spread(hours, 8.0))
            self.assertAlmostEqual(np.mean(HOURS[hours]), 1.0, delta=0.06)


class ProfileTest(unittest.TestCase):
    SPOT = {"type": "spot", "state": "running", "watts": 444}

    def test_a_pump_that_was_only_read_once_is_not_taken_to_run_all_day(self):
        profile = profile_of(self.SPOT)
        self.assertLess(profile.mean_w.high, 60)
        self.assertAlmostEqual(profile.running_w.value, 444)
        self.assertIn("no use seen yet", text_of(profile.how[0]))

    def test_a_small_pump_circulates_until_somebody_says_otherwise(self):
        small = {"type": "spot", "state": "running", "watts": 30}
        self.assertAlmostEqual(profile_of(small).mean_w.value, 30)
        self.assertLess(profile_of(small, runs_by="water").mean_w.value, 3)
        self.assertAlmostEqual(profile_of(self.SPOT, runs_by="itself").mean_w.value, 444)

    def test_a_tank_runs_less_than_other_heat(self):
        label = {"type": "label", "watts": 2000}
        tank = profile_of(label, kind="thermostat-heat", runs_by="water")
        self.assertLess(tank.mean_w.value, 0.2 * 2000)
        self.assertAlmostEqual(
            tank.mean_w.value, profile_of(label, kind="water-tank").mean_w.value, delta=1
        )
        # Nobody said what makes it run: large heat is taken for a tank until it is seen to cycle.
        self.assertEqual(profile_of(label, kind="thermostat-heat").mean_w, tank.mean_w)
        edges = [["on", 0], ["off", 300], ["on", 600], ["off", 900], ["on", 1200]]
        heater = profile_of(label, {"type": "tally", "edges": edges}, kind="thermostat-heat")
        self.assertGreater(heater.mean_w.value, 0.4 * 2000)
        small = profile_of({"type": "label", "watts": 300}, kind="thermostat-heat")
        self.assertGreater(small.mean_w.value, 0.4 * 300)

    def test_in_set_hours_it_runs_as_it_is_used(self):
        record = parse_load({"name": "Pump", "kind": "pump", "readings": [self.SPOT]})
        self.assertAlmostEqual(derive(replace(record, in_hours=True)).mean_w.value, 444)

    def test_electronics_that_a_person_uses_differ_by_hour_and_day(self):
        spot = {"type": "spot", "state": "running", "watts": 80}
        always, used = (
            profile_of(spot, kind="electronics", runs_by=by) for by in ("itself", "person")
        )
        self.assertLess(always.mean_w.spread, 0.08)
        self.assertGreaterEqual(used.mean_w.spread, 0.3)
        run = {"type": "energy", "wh": 240, "hours": 3, "step_wh": 1}
        counted_3h = profile_of(spot, run, kind="electronics", runs_by="person").mean_w
        self.assertTrue(0.12 < counted_3h.spread < 0.25)

    def test_uses_in_a_capture_count_with_their_energy(self):
        capture = {
            "type": "capture",
            "pattern": "cycling",
            "covered_h": 72,
            "wh": 900,
            "idle_w": 0,
            "running_w": 440,
            "uses": 30,
            "whole_cycles": 29,
        }
        profile = profile_of(self.SPOT, capture)
        self.assertEqual((profile.uses.seen, profile.grade), (30, "A"))
        self.assertAlmostEqual(profile.uses.use_wh.value, 30, delta=3)
        self.assertAlmostEqual(profile.mean_w.value, 900 / 72, delta=1.5)

    def test_a_capture_of_one_use_on_purpose_says_nothing_of_how_often(self):
        short = {
            "type": "capture",
            "pattern": "cycling",
            "covered_h": 0.5,
            "wh": 110,
            "idle_w": 0,
            "running_w": 1900,
            "uses": 1,
        }
        label = {"type": "label", "watts": 2000}
        profile = profile_of(label, short, kind="resistive-heat", runs_by="person")
        self.assertLess(profile.uses.per_day.value, 12)

    def test_stated_uses_are_read_with_their_range(self):
        label = {"type": "label", "watts": 2000}
        sure, unsure = (
            profile_of(label, kind="resistive-heat", runs_by="person", uses_per_day=uses)
            for uses in ({"value": 6, "low": 5.5, "high": 6.5}, {"value": 6})
        )
        self.assertLess(sure.uses.per_day.spread, unsure.uses.per_day.spread)
        with self.assertRaisesRegex(DocumentError, "is not between"):
            profile_of(label, uses_per_day={"value": 6, "low": 7, "high": 9})

    def test_the_stated_length_of_a_use_counts(self):
        label = {"type": "label", "watts": 2000}
        short, long = (
            profile_of(
                label,
                kind="resistive-heat",
                runs_by="person",
                uses_per_day={"value": 6, "minutes": minutes},
            ).uses.use_wh.value
            for minutes in (3, 9)
        )
        self.assertAlmostEqual(short, 2000 / 1.03 * 3 / 60, delta=4)
        self.assertAlmostEqual(long / short, 3, delta=0.05)

    def test_single_uses_take_their_own_energy_as_often_as_is_said(self):
        """600 Wh of 90 min twice a week are 171 Wh a day, whatever length is stated beside it."""
        task = {"type": "task", "wh": 600, "minutes": 90}
        uses = {"value": 2 / 7, "minutes": 60}
        profile = profile_of(task, kind="universal-motor", uses_per_day=uses)
        self.assertAlmostEqual(profile.wh_per_day.value, 600 * 2 / 7, delta=1)
        self.assertGreater(profile.wh_per_day.spread, STATED_TIMES_SPREAD)
        # A plan does not take it to be used on each of its days.
        self.assertIsNone(usual_use(profile))
        daily = profile_of(task, kind="universal-motor", uses_per_day={"value": 2, "minutes": 60})
        self.assertEqual(usual_use(daily), {"tasks": 2})

    def test_every_prior_is_of_a_kind_and_somebody(self):
        for kind, who in USE_PRIORS:
            self.assertIn(kind, KINDS)
            self.assertIn(who, RUNS_BY)


class DrawnUsesTest(unittest.TestCase):
    def plan(self, hours: float = 48, start: str = "2027-03-01T00:00:00+00:00", **load: object):
        pump = {"name": "Pump", "running_w": 400, "duty": 0.02, "cycle_min": 45, **load}
        battery = {"chemistry": "lfp", "nominal_wh": 1000}
        return parse_plan(
            {
                "start": start,
                "hours": hours,
                "needed_hours": hours,
                "supply": {"battery": battery, "inverter": {"continuous_w": 1000, "idle_w": 0}},
                "loads": [pump],
            }
        )

    def test_energy_is_the_mean_with_the_spread_of_few_uses(self):
        plan = self.plan(uses_per_day=8.0, runs_by="water")
        inputs = draw(plan, 4000, 1)
        factors = used_by_stretch(plan.loads[0], plan, np.ones((4000, 16)), inputs, 0)
        totals = factors.mean(axis=1)
        self.assertAlmostEqual(totals.mean(), 1.0, delta=0.02)
        self.assertAlmostEqual(totals.std(), 1.2 / np.sqrt(16), delta=0.03)

    def test_nights_have_fewer_uses(self):
        plan = self.plan(uses_per_day=8.0, runs_by="water")
        factors = used_by_stretch(
            plan.loads[0], plan, np.ones((2000, 8)), draw(plan, 2000, 1), 0
        ).mean(axis=0)
        self.assertLess(factors[0], 0.5)
        self.assertGreater(factors[6], 1.2)
        self.assertEqual(STRETCH, 180)
        evening = self.plan(start="2027-03-01T18:00:00+00:00", uses_per_day=8.0, runs_by="water")
        later = used_by_stretch(
            evening.loads[0], evening, np.ones((2000, 8)), draw(evening, 2000, 1), 0
        ).mean(axis=0)
        self.assertGreater(later[0], 1.2)

    def test_a_longer_plan_begins_with_the_same_uses(self):
        short, long = (self.plan(hours, uses_per_day=8.0, runs_by="water") for hours in (24, 72))
        first, both = (
            used_by_stretch(
                plan.loads[0], plan, np.ones((50, round(plan.hours / 3))), draw(plan, 50, 1), 0
            )
            for plan in (short, long)
        )
        np.testing.assert_allclose(first, both[:, :8])

    def test_tasks_whose_number_is_uncertain_vary_by_day(self):
        step = [{"watts": 2000, "minutes": 4}]
        plan = self.plan(
            use={"tasks": 6}, steps=step, uses_per_day=6.0, runs_by="person", day_spread=0.3
        )
        inputs = draw(plan, 2000, 1)
        factors = daily_uses(plan.loads[0], 48 * 60, inputs)
        self.assertAlmostEqual(float(factors.mean()), 1.0, delta=0.03)
        self.assertAlmostEqual(
            float(factors[:, 0].std()), np.hypot(0.3, 1 / np.sqrt(6)), delta=0.05
        )
        self.assertIsNone(daily_uses(self.plan().loads[0], 600, inputs))

    def test_what_trips_whenever_it_is_used_trips_in_every_draw(self):
        """A day on which nobody used it is no evidence that the supply can run it."""
        step = [{"watts": 2200, "minutes": 3}]
        uses = {"use": {"tasks": 1}, "steps": step, "uses_per_day": 1.0, "runs_by": "person"}
        verdict = verdict_of(simulate(self.plan(24, running_w=2200, **uses), 200))
        (blocked,) = verdict.blocked_loads
        self.assertEqual((blocked.load, blocked.chance, verdict.chance), ("Pump", 1.0, 0.0))

    def test_what_is_used_now_and_then_and_is_too_large_cannot_run(self):
        """However seldom it is used, and whoever else runs: a kettle of 2.2 kW on 1 kW."""
        rare = {"running_w": 2200, "duty": 0.002, "runs_by": "person", "uses_per_day": 0.5}
        plan = self.plan(6, "2027-03-01T17:00:00+00:00", **rare)
        box = replace(
            plan.loads[0],
            name="Box",
            use=LoadUse(),
            draw=replace(
                plan.loads[0].draw, running_w=90.0, start_va=90.0, duty=0.4, cycle_min=30.0
            ),
        )
        outcome = simulate(replace(plan, loads=(plan.loads[0], box)), 400)
        (blocked,) = verdict_of(outcome).blocked_loads
        self.assertEqual((blocked.load, blocked.alone, blocked.chance), ("Pump", True, 1.0))
        self.assertEqual((outcome.chance, outcome.fails("Box").any()), (0.0, False))
        # Leaving it off is worth all of that, in the draws of its advice too.
        off = suggestions(outcome)[0]
        self.assertEqual(off.load, "Pump")
        self.assertEqual((off.chance_before, off.chance_after), (0.0, 1.0))

    def test_what_is_hardly_ever_used_has_its_reason_and_is_not_judged_by_one_use(self):
        evening = "2027-03-01T17:00:00+00:00"
        large = {"running_w": 2200, "duty": 0.0002, "runs_by": "person", "uses_per_day": 0.06}
        (blocked,) = verdict_of(simulate(self.plan(6, evening, **large), 2000)).blocked_loads
        self.assertEqual((blocked.why, blocked.unit, blocked.alone), ("overload", "W", True))
        # It fits alone, and meets the heater in a third of its uses.
        fits = {"running_w": 700, "duty": 0.0002, "runs_by": "person", "uses_per_day": 0.01}
        plan = self.plan(24, **fits)
        heater = replace(
            plan.loads[0],
            name="Heater",
            use=LoadUse(),
            draw=replace(plan.loads[0].draw, running_w=400.0, duty=0.3, cycle_min=60.0),
        )
        battery = replace(plan.supply.battery, nominal_wh=20_000.0)
        supply = replace(plan.supply, battery=battery)
        both = replace(plan, loads=(plan.loads[0], heater), supply=supply)
        for seed in range(12):
            outcome = simulate(both, 200, seed)
            self.assertEqual(verdict_of(outcome).blocked_loads, ())
            self.assertGreater(outcome.chance, 0.9)

    def test_what_is_used_now_and_then_and_seldom_meets_another_may_run(self):
        rare = {"running_w": 700, "duty": 0.004, "runs_by": "person", "uses_per_day": 2.0}
        plan = self.plan(24, **rare)
        heater = replace(
            plan.loads[0],
            name="Heater",
            use=LoadUse(),
            draw=replace(plan.loads[0].draw, running_w=400.0, duty=0.05, cycle_min=60.0),
        )
        outcome = simulate(replace(plan, loads=(plan.loads[0], heater)), 400)
        self.assertEqual(verdict_of(outcome).blocked_loads, ())
        self.assertGreater(outcome.chance, 0.5)

    def test_a_plan_of_uses_is_less_sure_than_one_of_a_steady_mean(self):
        battery_h = [
            simulate(self.plan(120, spread=0.05, **more), 200).runtime
            for more in ({"duty": 0.05}, {"duty": 0.05, "uses_per_day": 4.0, "runs_by": "water"})
        ]
        wide = [high / low for low, _, high in battery_h]
        self.assertGreater(wide[1], 1.3 * wide[0])

    def test_a_start_is_judged_beside_what_is_on_then(self):
        plan = parse_plan(
            {
                "start": "2027-03-01T18:00:00+00:00",
                "hours": 6,
                "needed_hours": 6,
                "supply": {
                    "battery": {"chemistry": "lfp", "nominal_wh": 9000},
                    "inverter": {"continuous_w": 2500, "surge_va": 2500},
                },
                "loads": [
                    {
                        "name": "Tank",
                        "running_w": 2000,
                        "duty": 0.1,
                        "uses_per_day": 8,
                        "runs_by": "water",
                    },
                    {
                        "name": "Box",
                        "running_w": 100,
                        "duty": 0.4,
                        "start_va": 1500,
                        "start_s": 0.6,
                    },
                ],
            }
        )
        starts = {start.load: start.verdict for start in simulate(plan, 400).starts}
        self.assertAlmostEqual(starts["Box"].chance, 0.9, delta=0.06)

    def test_an_inrush_of_milliseconds_counts_by_its_energy(self):
        self.assertEqual(surge_va(900, 0.4, 100), 900)
        self.assertAlmostEqual(surge_va(900, 0.005, 100), 0.05 * 900 + 0.95 * 100)
        self.assertEqual(surge_va(50, 0.005, 100), 100)
        plan = self.plan(start_va=4000, start_s=0.005)
        self.assertAlmostEqual(plan.loads[0].draw.start_va, 0.05 * 4000 + 0.95 * 400)

    def test_a_load_from_its_evidence_draws_uses_only_where_its_hours_are_open(self):
        spot = {"type": "spot", "state": "running", "watts": 444}
        base = {
            "start": datetime(2027, 3, 1, tzinfo=UTC).isoformat(),
            "hours": 24,
            "needed_hours": 24,
            "supply": {
                "battery": {"chemistry": "lfp", "nominal_wh": 1000},
                "inverter": {"continuous_w": 1000},
            },
        }
        profile = {"name": "Pump", "kind": "pump", "readings": [spot]}
        always, windows = (
            parse_plan({**base, "loads": [{"profile": profile, "use": use}]}).loads[0]
            for use in ("always", {"between": [["18:00", "20:00"]]})
        )
        self.assertEqual((always.use.runs_by, windows.use.uses_per_day), ("water", None))
        self.assertGreater(always.use.uses_per_day, 1)
        self.assertAlmostEqual(windows.mean_w, 444)


if __name__ == "__main__":
    unittest.main()
