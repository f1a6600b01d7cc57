"""Mains that come and go by turns: what they charge, and what they carry."""

from __future__ import annotations

import copy
import unittest
from datetime import UTC, datetime

import numpy as np

from needle.document import DocumentError
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate
from needle.plan.sources.registry import parse_sources
from needle.trial.finished_run import run_of
from needle.trial.trial import parse_trial
from needle.watch.card import card_of
from needle.watch.doings import doings
from needle.watch.watch import Watch
from needle.words import text_of

MAINS = {
    "kind": "mains",
    "name": "Mains",
    "watts": 400,
    "on_h": 2,
    "off_h": 6,
    "comes": "22:00",
    "spread": 0,
}
PLAN = {
    "start": "2027-02-10T18:00:00+00:00",
    "hours": 96,
    "needed_hours": 72,
    "supply": {
        "battery": {
            "chemistry": "lfp",
            "nominal_wh": 2000,
            "volts": 25.6,
            "capacity_factor": 1.0,
            "capacity_spread": 0,
            "floor": 0.1,
            "charge_efficiency": 1.0,
        },
        "inverter": {"continuous_w": 500, "idle_w": 0, "idle_spread": 0, "efficiency": 1.0},
    },
    "loads": [{"name": "Box", "running_w": 60}],
    "sources": [MAINS],
}


def plan(**changes):
    whole = copy.deepcopy(PLAN)
    whole["sources"] = [{**MAINS, **changes}]
    return parse_plan(whole)


class TimetableTest(unittest.TestCase):
    def on(self, minutes, start="2027-02-10T18:00:00+00:00", **changes):
        (source,) = parse_sources([{**MAINS, **changes}], UTC, None)
        return source.on(datetime.fromisoformat(start), minutes)

    def test_turns_go_on_before_and_after_the_moment_that_is_given(self):
        hours = self.on(24 * 60).reshape(24, 60).all(axis=1)
        self.assertEqual(np.flatnonzero(hours).tolist(), [4, 5, 12, 13, 20, 21])
        earlier = self.on(24 * 60, "2027-02-10T21:00:00+00:00").reshape(24, 60).all(axis=1)
        self.assertEqual(np.flatnonzero(earlier).tolist(), [1, 2, 9, 10, 17, 18])

    def test_a_date_fixes_turns_that_do_not_fit_a_day(self):
        given = {"on_h": 2, "off_h": 5, "comes": "2027-02-09T20:00:00+00:00"}
        hours = self.on(12 * 60, **given).reshape(12, 60).all(axis=1)
        # 20:00 on the 9th and 21 hours are 17:00 on the 10th: one hour of that turn is left.
        self.assertEqual(np.flatnonzero(hours).tolist(), [0, 6, 7])

    def test_what_is_refused(self):
        for wrong in ({"on_h": 0}, {"comes": "noon"}, {"comes": None}, {"off_h": None}):
            with self.assertRaises(DocumentError):
                parse_sources([{**MAINS, **wrong}], UTC, None)


class EnergyTest(unittest.TestCase):
    def test_the_battery_feeds_the_box_only_between_the_turns(self):
        """Until 22:00 four hours of 60 W are 240 Wh; the turn gives back up to 800 Wh."""
        outcome = simulate(plan(), 40)
        at = dict(zip(outcome.curve_h.round(2).tolist(), outcome.charge[1].tolist(), strict=True))
        self.assertAlmostEqual(at[4.0], 1 - 240 / 2000, delta=0.005)
        self.assertGreater(at[6.0], at[4.0] + 0.05)
        self.assertAlmostEqual(at[12.0], at[6.0] - 360 / 2000, delta=0.005)
        self.assertEqual(outcome.runtime[1], 96)

    def test_loads_that_stay_on_the_battery_take_from_what_the_charger_gives(self):
        carried, alone = (
            simulate(plan(watts=100), 40),
            simulate(plan(watts=100, battery_only=True), 40),
        )
        place = int(np.abs(carried.curve_h - 6.0).argmin())
        gained = carried.charge[1][place] - alone.charge[1][place]
        self.assertAlmostEqual(gained, 2 * 60 / 2000, delta=0.005)

    def test_what_mains_carry_is_no_energy_of_the_battery(self):
        energy = simulate(plan(), 40).likely.energy_wh
        self.assertAlmostEqual(energy["loads"]["Box"], 60 * 72 * 6 / 8, delta=70)
        self.assertGreaterEqual(energy["conversion"], -1)

    def test_how_full_it_gets_is_said(self):
        words = [text_of(notice) for notice in simulate(plan(), 40).notices]
        fills = next(text for text in words if "After a turn of Mains" in text)
        self.assertIn("turn after turn", fills)
        weak = simulate(plan(watts=60), 40).notices
        self.assertTrue(any("each turn leaves less" in text_of(notice) for notice in weak))


class WatchTest(unittest.TestCase):
    def test_its_next_steps_say_when_mains_should_come_and_go(self):
        found = doings(plan(), 0.0, 24.0, ["Box"], 2.0)
        said = [(round(doing.hour), text_of(doing.said)) for doing in found]
        self.assertIn((4, "Mains should be on"), said)
        self.assertIn((6, "Mains should be off"), said)

    def test_the_watch_lasts_as_long_as_its_plan(self):
        document = {"plan": {**PLAN, "hours": 96}, "check_ins": [{"h": 3, "percent": 91}]}
        self.assertGreater(Watch(parse_trial(document), 3.0, 72.0).chance, 0.95)
        without = {**document, "plan": {**document["plan"], "sources": []}}
        self.assertLess(Watch(parse_trial(without), 3.0, 72.0).chance, 0.05)

    def test_the_card_counts_on_them(self):
        self.assertGreater(card_of(plan()).carries, 0.95)

    def test_a_run_that_mains_carried_in_part_is_no_evidence_on_the_battery(self):
        end = {"h": 30, "why": "floor"}
        self.assertEqual(
            run_of(parse_trial({"plan": PLAN, "check_ins": [], "ended": end})),
            "part of it ran on mains",
        )
