"""What helps now, how large, how many more, and where tasks go best."""

import copy
import itertools
import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from needle.document import DocumentError
from needle.moments import in_windows, parse_windows
from needle.plan.advice.shift import TaskBlock, moved, place, propose
from needle.plan.advice.sizing import battery_for, more_tasks, nights_covered, sustains
from needle.plan.advice.suggestions import changes_of, suggestions
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate
from needle.words import text_of
from tests.core.exact import exact

BASE = {
    "start": "2027-06-09T18:00:00+00:00",
    "hours": 40,
    "needed_hours": 24,
    "room_c": 24,
    "supply": {
        "battery": {
            "chemistry": "lfp",
            "nominal_wh": 2000,
            "floor": 0.1,
            "capacity_factor": 1.0,
            "capacity_spread": 0.05,
        },
        "inverter": {"continuous_w": 2000, "surge_va": 4000, "idle_w": 25, "efficiency": 0.9},
        "outputs": [{"name": "dc12", "max_w": 120, "idle_w": 1, "efficiency": 0.92}],
    },
    "loads": [
        {
            "name": "Box",
            "running_w": 90,
            "resting_w": 2,
            "duty": 0.35,
            "set_c": 4,
            "measured_room_c": 24,
            "priority": "must",
            "spread": 0.1,
        },
        {"name": "Router", "running_w": 15, "priority": "must", "can": ["dc12"]},
        {
            "name": "Mat",
            "running_w": 65,
            "duty": 0.6,
            "spread": 0.2,
            "settings": [
                {"name": "low", "running_w": 31, "duty": 0.7},
                {"name": "high", "running_w": 120, "duty": 0.6},
            ],
        },
        {"name": "Lamp", "running_w": 38, "use": {"between": [["18:00", "22:00"]]}},
    ],
}
TASK = {
    "name": "Autoclave",
    "use": {"tasks": ["20:15"]},
    "steps": [{"watts": 1400, "minutes": 30}],
    "flexible": [["07:00", "22:00"]],
}
SUN = {"kind": "sun", "rated_w": 1200, "latitude": 50.0, "clouds": 0.0, "spread": 0.1}


def plan_of(**change):
    data = copy.deepcopy(BASE)
    data |= change
    return parse_plan(exact(data))


class HelpsTest(unittest.TestCase):
    def test_each_kind_is_tried_where_it_applies(self):
        outcome = simulate(plan_of(), 100)
        offered = suggestions(outcome)
        kinds = {(offer.change.kind, offer.load) for offer in offered}
        self.assertIn(("leave_off", "Mat"), kinds)
        self.assertIn(("setting", "Mat"), kinds)
        self.assertIn(("set_point", "Box"), kinds)
        self.assertNotIn("leave_off Box", {f"{a} {b}" for a, b in kinds})
        self.assertNotIn("rest", {kind for kind, _ in kinds})  # the box must run at night
        self.assertEqual(
            [offer.value for offer in offered], sorted((o.value for o in offered), reverse=True)
        )
        for offer in offered:
            self.assertLessEqual(offer.low, offer.value)
            self.assertGreater(offer.value, 0)

    def test_the_last_ac_load_on_dc_saves_the_idle_draw(self):
        loads = [copy.deepcopy(BASE["loads"][1])]
        (only,) = list(suggestions(simulate(plan_of(loads=loads, hours=300), 60)))
        self.assertEqual((only.change.kind, only.change.to), ("route", "dc12"))
        self.assertIn("stay off", text_of(only.change.caveat))
        exact = 1800 / (1 + 15 / 0.92) - 1800 / (1 + 25 + 15 / 0.9)
        self.assertAlmostEqual(only.value, exact, delta=0.02 * exact)

    def test_resting_at_night_is_said_to_leave_loads_without_power(self):
        loads = [{**BASE["loads"][2]}, {**BASE["loads"][3]}]
        rest = next(
            change
            for change in changes_of(simulate(plan_of(loads=loads), 30))
            if change.kind == "rest"
        )
        self.assertIn("Mat is off for 6\u00a0h and works it off afterwards", text_of(rest.caveat))

    def test_advice_never_touches_loads_of_class_life_or_store(self):
        window = {"between": [["22:00", "02:00"]]}
        tempting = {
            "priority": "nice",
            "can": ["dc12"],
            "set_c": 4,
            "measured_room_c": 24,
            "settings": [{"name": "low", "running_w": 5}],
        }
        for cares in ("life", "store"):
            for use in ("always", window):
                with self.subTest(cares=cares, use=use):
                    loads = [
                        *copy.deepcopy(BASE["loads"][2:]),
                        {
                            "name": "Breather",
                            "running_w": 300,
                            "cares": cares,
                            "use": use,
                            **tempting,
                        },
                    ]
                    changes = list(changes_of(simulate(plan_of(loads=loads), 30)))
                    self.assertIn(("leave_off", "Mat"), {(c.kind, c.load) for c in changes})
                    self.assertNotIn("Breather", {c.load for c in changes})
                    self.assertNotIn("rest", {c.kind for c in changes})
        task = {**TASK, "use": {"tasks": ["02:00"]}, "cares": "life"}
        plan = plan_of(loads=[*BASE["loads"], task], sources=[SUN], hours=300)
        self.assertEqual(propose(plan), [])
        self.assertNotEqual(
            propose(
                plan_of(loads=[*BASE["loads"], {**task, "cares": ""}], sources=[SUN], hours=300)
            ),
            [],
        )

    def test_a_task_that_must_run_at_night_keeps_the_inverter_on(self):
        task = {**TASK, "use": {"tasks": ["02:00"]}}
        loads = [*copy.deepcopy(BASE["loads"][2:]), task]
        loads[-1] = {**task, "priority": "must"}
        outcome = simulate(plan_of(loads=loads), 30)
        rest = next(change for change in changes_of(outcome) if change.kind == "rest")
        # Searched over all hours: it lies where the task does not run.
        off = in_windows(rest.plan.supply.inverter.off, outcome.plan.start, 1440)
        first = (2 * 60 - outcome.plan.start.hour * 60) % 1440
        self.assertFalse(off[first : first + 30].any())
        self.assertTrue(off.any())
        self.assertTrue((simulate(rest.plan, 30).failures.why != "rest").all())

    def test_what_was_off_works_it_off_afterwards(self):
        box = {"name": "Box", "running_w": 100, "duty": 0.3, "spread": 0}
        plan = plan_of(loads=[box], hours=24, needed_hours=24)
        inverter = replace(
            plan.supply.inverter, off=parse_windows([["20:00", "22:00"]], "off", None)
        )
        rested = replace(plan, supply=replace(plan.supply, inverter=inverter))
        before, after = (
            simulate(tried, 60).likely.energy_wh["loads"]["Box"] for tried in (plan, rested)
        )
        missed = 2 * 0.3 * 100
        self.assertAlmostEqual(before - after, 0.1 * missed, delta=0.5)
        self.assertAlmostEqual(
            simulate(rested, 60).likely.unserved_wh["Box"], 0.1 * missed, delta=0.5
        )

    def test_the_only_load_is_never_left_off(self):
        outcome = simulate(plan_of(loads=[copy.deepcopy(BASE["loads"][2])]), 30)
        self.assertNotIn("leave_off", {change.kind for change in changes_of(outcome)})

    def test_a_charger_is_run_longer(self):
        source = {
            "kind": "window",
            "name": "generator",
            "watts": 400,
            "litres_per_kwh": 0.6,
            "between": [["18:00", "19:00"]],
        }
        offered = suggestions(simulate(plan_of(sources=[source]), 60))
        charge = next(offer for offer in offered if offer.change.kind == "charge")
        self.assertIn("outdoors", text_of(charge.change.caveat))
        self.assertGreater(charge.value, 2)

    def test_a_plan_that_lasts_needs_no_help(self):
        battery = {**BASE["supply"]["battery"], "nominal_wh": 50_000}
        self.assertEqual(
            suggestions(simulate(plan_of(supply={**BASE["supply"], "battery": battery}), 30)), []
        )


class SizingTest(unittest.TestCase):
    def test_the_size_reaches_the_odds_and_less_does_not(self):
        outcome = simulate(plan_of(), 100)
        sizes = battery_for(outcome, 0.9, labels_w=500)
        for share, wanted in ((1.05, True), (0.93, False)):
            battery = replace(outcome.plan.supply.battery, nominal_wh=sizes.nominal_wh * share)
            plan = replace(outcome.plan, supply=replace(outcome.plan.supply, battery=battery))
            self.assertEqual(simulate(plan, 400).chance >= 0.895, wanted)
        self.assertLess(sizes.by_mean_wh, sizes.nominal_wh)
        self.assertEqual(sizes.by_labels_wh, 12_000)

    def test_closed_form(self):
        loads = [{"name": "All", "running_w": 90}]
        exactly = {**BASE["supply"]["battery"], "capacity_spread": 0.0}
        plan = plan_of(loads=loads, supply={**BASE["supply"], "battery": exactly, "outputs": []})
        size = battery_for(simulate(plan, 20)).nominal_wh
        self.assertAlmostEqual(size, 24 * (25 + 100) / 0.9, delta=0.011 * size)

    def test_how_many_more_tasks(self):
        loads = [
            {"name": "Base", "running_w": 20},
            {**TASK, "steps": [{"watts": 600, "minutes": 10}]},
        ]
        (more,) = more_tasks(
            simulate(
                plan_of(
                    loads=loads,
                    supply={
                        **BASE["supply"],
                        "outputs": [],
                        "inverter": {"continuous_w": 2000, "idle_w": 0, "efficiency": 1.0},
                    },
                ),
                50,
            )
        )
        # 1800 usable less 24 h of 20 W and one task of 100 Wh: 1220 left.
        self.assertEqual((more.load, more.likely), ("Autoclave", 12))
        self.assertLessEqual(more.low, more.likely)
        self.assertEqual(more_tasks(simulate(plan_of(), 20)), [])

    def test_nights(self):
        lamp = {"name": "Lamp", "running_w": 150, "use": {"between": [["20:00", "06:00"]]}}
        (nights,) = nights_covered(simulate(plan_of(loads=[lamp], hours=100), 50))
        self.assertEqual((nights.load, nights.likely), ("Lamp", 0))
        (nights,) = nights_covered(
            simulate(plan_of(loads=[{**lamp, "running_w": 8}], hours=100), 50)
        )
        self.assertEqual(nights.likely, 2)

    def test_sustains(self):
        light = [{"name": "Load", "running_w": 20}]
        yes = sustains(simulate(plan_of(loads=light, sources=[SUN], hours=96), 40))
        self.assertTrue(yes.yes)
        self.assertEqual(len(yes.daily), 4)
        no = sustains(
            simulate(
                plan_of(loads=[{"name": "Load", "running_w": 500}], sources=[SUN], hours=96), 40
            )
        )
        self.assertFalse(no.yes)
        self.assertLess(no.days, 1)
        self.assertIsNone(sustains(simulate(plan_of(), 20)))


def value_of(blocks, at, surplus_w, room_w):
    """Surplus met, W, less a thousandth of each slot moved; None where a placing passes a limit."""
    slots = len(surplus_w)
    total, busy = np.zeros(slots), np.zeros(slots, dtype=int)
    alone = np.zeros(slots, dtype=bool)
    for block, start in zip(blocks, at, strict=True):
        last = min(slots, start + len(block.watts))
        total[start:last] += block.watts[: last - start]
        busy[start:last] += 1
        alone[start:last] |= block.alone
    if (total > np.maximum(0.0, room_w) + 1e-6).any() or (alone & (busy > 1)).any():
        return None
    met = float(np.minimum(total, np.maximum(0.0, surplus_w)).sum())
    far = sum(abs(start - block.stands) for block, start in zip(blocks, at, strict=True))
    return met - 1e-3 * far


class PlacingTest(unittest.TestCase):
    blocks = st.lists(
        st.tuples(st.floats(50, 900), st.integers(1, 3), st.integers(0, 7), st.booleans()),
        min_size=1,
        max_size=3,
    )

    @given(
        blocks,
        st.lists(st.floats(0, 1200), min_size=10, max_size=10),
        st.lists(st.floats(0, 1600), min_size=10, max_size=10),
    )
    def test_no_placing_is_better(self, rows, surplus, room):
        blocks = [
            TaskBlock(f"load {n}", 0, stands, (watts,) * length, tuple(range(11 - length)), alone)
            for n, (watts, length, stands, alone) in enumerate(rows)
        ]
        surplus, room = np.array(surplus), np.array(room)
        values = [
            value
            for at in itertools.product(*(block.allowed for block in blocks))
            if (value := value_of(blocks, at, surplus, room)) is not None
        ]
        placed = place(blocks, surplus, room)
        if not values:
            self.assertIsNone(placed)
        else:
            self.assertAlmostEqual(value_of(blocks, placed, surplus, room), max(values), delta=1e-3)

    def test_a_task_goes_into_the_sun(self):
        plan = plan_of(loads=[BASE["loads"][1], TASK], sources=[SUN])
        (move,) = propose(plan)
        clock = 18 * 60 + move.to_minute
        self.assertTrue(10 * 60 <= clock % 1440 <= 15 * 60)
        before, after = simulate(plan, 40), simulate(moved(plan, [move]), 40)
        self.assertGreaterEqual(after.runtime[1], before.runtime[1])
        self.assertLess(
            after.likely.energy_wh["battery_out"], before.likely.energy_wh["battery_out"]
        )

    def test_two_heavy_tasks_are_taken_apart(self):
        other = {**TASK, "name": "Kettle", "use": {"tasks": ["2027-06-09T20:15:00+00:00"]}}
        plan = plan_of(loads=[TASK, other])
        self.assertTrue(simulate(plan, 20).trips)
        moves = propose(plan)
        self.assertIn(len(moves), (1, 2))
        self.assertEqual(sum(abs(move.to_minute - move.minute) for move in moves), 30)
        self.assertEqual(simulate(moved(plan, moves), 20).trips, [])

    def test_nothing_to_move_and_nowhere_to_go(self):
        self.assertEqual(propose(plan_of()), [])
        tight = {**TASK, "flexible": [["20:15", "20:40"]]}
        with self.assertRaises(DocumentError):
            propose(plan_of(loads=[tight]))
