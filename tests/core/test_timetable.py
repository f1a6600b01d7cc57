"""One time of a plan put off, or left out, while an outage goes on."""

from __future__ import annotations

import unittest
from datetime import datetime, timedelta

import numpy as np

from needle.moments import occurrences
from needle.plan.documents.parse import parse_plan
from needle.plan.draws.patterns import runs
from needle.plan.plan import in_use
from needle.watch.timetable import put_off

HALF_H = timedelta(minutes=30)
PLAN = {
    "start": "2027-02-10T16:46:00+00:00",
    "hours": 72,
    "needed_hours": 48,
    "supply": {
        "battery": {"chemistry": "lfp", "nominal_wh": 2000, "volts": 25.6},
        "inverter": {"continuous_w": 500},
    },
    "loads": [
        {"name": "Lamp", "running_w": 20, "use": {"between": [["18:00", "22:30"]]}},
        {"name": "Night light", "running_w": 5, "use": {"between": [["21:00", "06:00"]]}},
        {
            "name": "Washer",
            "running_w": 300,
            "use": {"tasks": ["19:30", "08:00"]},
            "steps": [{"watts": 300, "minutes": 40}],
        },
        {"name": "Box", "running_w": 60},
    ],
    "sources": [
        {"kind": "window", "name": "Generator", "watts": 500, "between": [["21:15", "23:15"]]}
    ],
}


def at(text):
    return datetime.fromisoformat(f"2027-02-{text}:00+00:00")


def used(plan, number):
    """Hours of a plan in which a load with windows is used."""
    parsed = parse_plan(plan)
    mask = in_use(parsed.loads[number], parsed.start, 72 * 60)
    edges = np.flatnonzero(np.diff(mask.astype(int), prepend=0, append=0)) / 60
    return [(round(a, 2), round(b, 2)) for a, b in zip(edges[::2], edges[1::2], strict=True)]


def began(plan):
    parsed = parse_plan(plan)
    return occurrences(parsed.loads[2].use.moments, parsed.start, 72 * 60)


def given(plan):
    parsed = parse_plan(plan)
    return np.flatnonzero(np.diff(parsed.sources[0].power_w(parsed.start, 72 * 60), prepend=0) > 0)


def on(document):
    """Minutes in which a plan's mains come and go."""
    plan = parse_plan(document)
    spans = runs(plan.sources[0].on(plan.start, round(plan.hours * 60)))
    return [(int(first), int(end)) for first, end in spans]


class PutOffTest(unittest.TestCase):
    def test_a_use_that_begins_later_ends_as_planned_and_the_next_day_stays(self):
        before = used(PLAN, 0)
        after = used(put_off(PLAN, "switch-on", "Lamp", at("10T18:00"), HALF_H), 0)
        self.assertEqual(after[0], (before[0][0] + 0.5, before[0][1]))
        self.assertEqual(after[1:], before[1:])

    def test_a_use_that_is_not_possible_is_left_out_once(self):
        after = used(put_off(PLAN, "switch-on", "Lamp", at("11T18:00"), None), 0)
        self.assertEqual(after, [used(PLAN, 0)[0], used(PLAN, 0)[2]])

    def test_a_use_that_goes_on_for_longer(self):
        after = used(put_off(PLAN, "switch-off", "Lamp", at("10T22:30"), HALF_H), 0)
        self.assertEqual(after[0][1], used(PLAN, 0)[0][1] + 0.5)

    def test_a_use_over_midnight(self):
        before = used(PLAN, 1)
        after = used(put_off(PLAN, "switch-off", "Night light", at("11T06:00"), HALF_H), 1)
        self.assertEqual(after, [(before[0][0], before[0][1] + 0.5), *before[1:]])

    def test_a_task(self):
        before = began(PLAN)
        later = began(put_off(PLAN, "begin-task", "Washer", at("10T19:30"), HALF_H))
        self.assertEqual(later, [before[0] + 30, *before[1:]])
        never = began(put_off(PLAN, "begin-task", "Washer", at("10T19:30"), None))
        self.assertEqual(never, before[1:])

    def test_a_charger(self):
        before = given(PLAN)
        later = put_off(PLAN, "run-source", "Generator", at("10T21:15"), timedelta(hours=1))
        self.assertEqual(given(later).tolist(), [before[0] + 60, *before[1:]])
        never = put_off(PLAN, "run-source", "Generator", at("10T21:15"), None)
        self.assertEqual(given(never).tolist(), before[1:].tolist())

    def test_mains_that_come_later_not_at_all_or_go_earlier(self):
        turns = {"kind": "mains", "name": "Mains", "watts": 400, "on_h": 2, "off_h": 6}
        plan = {**PLAN, "sources": [{**turns, "comes": "18:00"}]}
        first, *others = on(plan)
        hour = timedelta(hours=1)
        later = put_off(plan, "mains-come", "Mains", at("10T18:00"), hour)
        self.assertEqual(on(later), [(first[0] + 60, first[1]), *others])
        again = put_off(later, "mains-come", "Mains", at("10T19:00"), 2 * hour)
        self.assertEqual(on(again), others)
        never = put_off(plan, "mains-come", "Mains", at("11T02:00"), None)
        self.assertEqual(on(never), [first, *others[1:]])
        gone = put_off(later, "mains-go", "Mains", at("10T20:00"), -hour / 2)
        self.assertEqual(on(gone), [(first[0] + 60, first[1] - 30), *others])
        for code, when, by in (
            ("mains-come", "10T18:10", hour),
            ("mains-go", "10T20:00", -3 * hour),
            ("mains-go", "10T20:00", None),
        ):
            with self.subTest(code=code, by=by), self.assertRaises(LookupError):
                put_off(plan, code, "Mains", at(when), by)

    def test_mains_that_come_earlier_or_go_later(self):
        turns = {"kind": "mains", "name": "Mains", "watts": 400, "on_h": 2, "off_h": 6}
        plan = {**PLAN, "sources": [{**turns, "comes": "18:00"}]}
        first, *others = on(plan)
        hour = timedelta(hours=1)
        early = put_off(plan, "mains-come", "Mains", at("10T18:00"), -hour)
        self.assertEqual(on(early), [(first[0] - 60, first[1]), *others])
        long = put_off(early, "mains-go", "Mains", at("10T20:00"), hour)
        self.assertEqual(on(long), [(first[0] - 60, first[1] + 60), *others])
        # What is said last counts: they go half an hour after they came early.
        short = put_off(long, "mains-go", "Mains", at("10T21:00"), -3.5 * hour)
        self.assertEqual(on(short), [(first[0] - 60, first[0] - 30), *others])
        late = put_off(plan, "mains-come", "Mains", at("10T18:00"), hour)
        back = put_off(late, "mains-come", "Mains", at("10T19:00"), -hour / 2)
        self.assertEqual(on(back), [(first[0] + 30, first[1]), *others])

    def test_one_after_another(self):
        plan = put_off(PLAN, "begin-task", "Washer", at("10T19:30"), HALF_H)
        plan = put_off(plan, "begin-task", "Washer", at("10T20:00"), HALF_H)
        self.assertEqual(began(plan)[0], began(PLAN)[0] + 60)

    def test_the_plan_that_is_given_stays_as_it_is(self):
        before = repr(PLAN)
        put_off(PLAN, "switch-on", "Lamp", at("10T18:00"), None)
        self.assertEqual(repr(PLAN), before)

    def test_what_does_not_happen_then(self):
        for code, name, text in (
            ("switch-on", "Lamp", "10T18:10"),
            ("switch-on", "Box", "10T18:00"),
            ("switch-on", "Nobody", "10T18:00"),
            ("begin-task", "Lamp", "10T18:00"),
            ("run-source", "Lamp", "10T18:00"),
            ("look-at-charge", "", "10T18:00"),
        ):
            with self.subTest(code=code, name=name), self.assertRaises(LookupError):
                put_off(PLAN, code, name, at(text), HALF_H)
        with self.assertRaises(LookupError):
            put_off(PLAN, "switch-off", "Lamp", at("10T22:30"), None)
