"""The measuring round: what is offered, what it is worth, where it is put, and that it pays."""

import itertools
import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from unittest import mock

import numpy as np

from needle.document import DocumentError
from needle.plan.documents.parse import parse_plan
from needle.plan.draws.inputs import CAPACITY, INVERTER_IDLE, LOAD, InputKey
from needle.plan.energy.runs import counted_moves
from needle.plan.energy.simulate import simulate
from needle.plan.run import COUNTED_ONLY, Run
from needle.profile.kinds import KINDS
from needle.profile.variation import cut_off_spread
from needle.round import schedule
from needle.round.candidate import (
    COUNTER,
    DRAIN,
    IDLE,
    SPOT,
    START,
    TALLY,
    TOGETHER,
    Candidate,
    combined,
)
from needle.round.candidates import candidates
from needle.round.planning import plan_round, usual_ways
from needle.round.report import as_document, begin_of, end_of
from needle.round.schedule import choose
from needle.round.visit import Visit, carried, clock_of
from needle.round.worth import worth_of
from needle.words import text_of, worded
from tools.rounds import BOUND, PLANNED, judge

BEGINS = datetime(2027, 2, 9, 14, tzinfo=UTC)
FIVE = BEGINS.replace(hour=17)


def load(name, kind, watts, **more):
    readings = [{"type": "label", "watts": watts}]
    return {"name": name, "profile": {"name": name, "kind": kind, "readings": readings}, **more}


PLAN = {
    "start": "2027-02-09T18:00:00+00:00",
    "hours": 60,
    "needed_hours": 12,
    "supply": {
        "battery": {"chemistry": "lfp", "nominal_wh": 2000, "volts": 51.2, "floor": 0.1},
        "inverter": {"continuous_w": 1500, "surge_va": 2600, "surge_s": 2},
    },
    "loads": [
        load("Box", "compressor-fixed", 140, cares="store"),
        load("Incubator", "thermostat-heat", 200, cares="life"),
        load("Router", "electronics", 60),
        load("Well pump", "pump", 700, cares="hard-wired", use={"between": [["19:00", "19:20"]]}),
        load("Saw", "induction-motor", 700, use={"between": [["20:00", "20:10"]]}),
    ],
}


def visit(hours=3.0, meters=("plug", "plug", "clamp"), **more):
    return Visit(BEGINS, BEGINS + timedelta(hours=hours), carried(meters), **more)


class RoundTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.outcome = simulate(parse_plan(PLAN), 200)

    def offered(self, **more):
        offered, alone = candidates(self.outcome, visit(**more))
        return (
            {(offer.what, offer.subject) for offer in offered},
            {left.subject: text_of(left.why) for left in alone},
        )


class OfferedTest(RoundTest):
    def test_what_keeps_somebody_alive_is_unplugged_only_where_that_is_said(self):
        offered, alone = self.offered(keep_plugged=frozenset({"Incubator"}))
        self.assertEqual(alone["Incubator"], "its plug stays in")
        self.assertEqual({what for what, subject in offered if subject == "Incubator"}, {TALLY})
        self.assertIn((COUNTER, "Incubator"), self.offered()[0])

    def test_hard_wired_loads_are_for_a_logger_of_somebody_qualified(self):
        offered, alone = self.offered()
        self.assertIn("licensed electrician", alone["Well pump"])
        self.assertNotIn("Well pump", {subject for _, subject in offered})
        with_logger = self.offered(meters=("plug", "logger"), qualified=True)[0]
        self.assertIn((COUNTER, "Well pump"), with_logger)
        plug_only = self.offered(meters=("plug",), qualified=True)[0]
        self.assertNotIn("Well pump", {subject for _, subject in plug_only})

    def test_no_plug_meter_is_put_before_what_is_on_both_legs(self):
        loads = [load("Dryer", "resistive-heat", 5000, legs="both", volts=240)]
        outcome = simulate(parse_plan({**PLAN, "loads": loads}), 60)
        offered, alone = candidates(outcome, visit())
        self.assertEqual([offer for offer in offered if offer.subject == "Dryer"], [])
        self.assertIn("no plug meter fits", text_of(alone[0].why))
        qualified = visit(meters=("plug", "logger"), qualified=True)
        meters = {o.meter_key for o in candidates(outcome, qualified)[0] if o.subject == "Dryer"}
        self.assertEqual(meters, {"logger"})

    def test_what_keeps_alive_may_be_hard_wired_too(self):
        both = load("Concentrator", "electronics", 300, cares="life", wired=True)
        plan = parse_plan({**PLAN, "loads": [both]})
        self.assertTrue(plan.loads[0].protected and plan.loads[0].stays_on)
        self.assertIn("licensed", text_of(candidates(simulate(plan, 60), visit())[1][0].why))

    def test_only_what_an_instrument_can_see(self):
        clamp_only = self.offered(meters=("clamp",))[0]
        self.assertEqual({what for what, _ in clamp_only}, {START, TALLY})
        self.assertIn((IDLE, ""), self.offered(meters=("shunt",))[0])

    def test_a_battery_that_is_needed_soon_is_not_drained(self):
        soon = visit(4.0, ("shunt",))
        days_before = replace(
            soon, begins=BEGINS - timedelta(days=3), ends=soon.ends - timedelta(days=3)
        )
        while_it_runs, days_after = (
            replace(
                soon,
                begins=soon.begins + timedelta(hours=hours),
                ends=soon.ends + timedelta(hours=hours),
            )
            for hours in (10, 17)
        )
        for when, drains in (
            (soon, False),
            (days_before, True),
            (while_it_runs, False),
            (days_after, True),
        ):
            offered = candidates(self.outcome, when)[0]
            self.assertEqual(any(offer.what == DRAIN for offer in offered), drains)

    def test_a_longer_counter_leaves_less_but_never_what_days_share(self):
        offered = candidates(self.outcome, visit(hours=30.0))[0]
        left = [
            offer.leaves[InputKey(LOAD, "Box")]
            for offer in offered
            if offer.key == "counter: Box" and offer.meter_min <= 24 * 60 + 10
        ]
        self.assertEqual(left, sorted(left, reverse=True))
        self.assertGreater(left[-1], 0.07 / 0.9)

    def test_what_modulates_wanders_within_the_hour(self):
        variable = KINDS["compressor-variable"]
        short, long = (cut_off_spread(variable, hours, 40, 1.0) for hours in (0.25, 6.0))
        self.assertAlmostEqual(short, 0.20)
        self.assertLess(long, 0.08)


class WorthTest(RoundTest):
    def test_its_prediction_agrees_with_a_new_simulation(self):
        worth = worth_of(self.outcome)
        for name, rest in (("Incubator", 0.3), ("Box", 0.4)):
            plan = self.outcome.plan
            known = replace(
                plan,
                loads=tuple(
                    replace(load, spreads=replace(load.spreads, mean=load.spreads.mean * rest))
                    if load.name == name
                    else load
                    for load in plan.loads
                ),
            )
            low, _, high = simulate(known, 200).runtime
            told_low, _, told_high = worth.left({InputKey(LOAD, name): rest})
            self.assertAlmostEqual((told_high - told_low) / (high - low), 1.0, delta=0.12)

    def test_nobody_knows_less_for_having_measured(self):
        worth = worth_of(self.outcome)
        for key in self.outcome.inputs.spreads:
            for rest in (0.95, 0.6, 0.1):
                low, _, high = worth.left({key: rest})
                self.assertLessEqual(high - low, worth.width + 1e-9, (key, rest))

    def test_what_removes_variance_narrows_the_range(self):
        """Also where the quantiles of 200 moved draws would not show it."""
        worth = worth_of(self.outcome)
        taken = {key: worth.taken({key: 0.5}) for key in worth.bends}
        telling = [key for key, share in taken.items() if share > 0.005]
        self.assertGreater(len(telling), 1)
        for key in telling:
            low, _, high = worth.left({key: 0.5})
            self.assertLess(high - low, worth.width * 0.999, (key, taken[key]))

    def test_knowing_nothing_more_changes_nothing(self):
        worth = worth_of(self.outcome)
        self.assertEqual(worth.left({}), self.outcome.runtime)
        self.assertEqual(worth.taken({InputKey(LOAD, "Box"): 1.0}), 0.0)

    def test_two_measurements_of_one_thing_join(self):
        key = InputKey(CAPACITY)
        both = combined({key: 0.5}, {key: 0.5, InputKey(INVERTER_IDLE): 0.2})
        self.assertAlmostEqual(both[key], 1 / np.sqrt(7))
        self.assertEqual(both[InputKey(INVERTER_IDLE)], 0.2)


class DoubtTest(unittest.TestCase):
    """A saw on a small inverter: little energy, but it decides whether the plan holds."""

    def outcome(self, hours, needed_hours, nominal_wh, continuous_w=900):
        box, _, router, _, saw = PLAN["loads"]
        supply = {
            "battery": {**PLAN["supply"]["battery"], "nominal_wh": nominal_wh},
            "inverter": {"continuous_w": continuous_w, "surge_va": 9000, "surge_s": 5},
        }
        loads = [box, router, {**saw, "use": {"between": [["20:00", "20:30"]]}}]
        asked = {"hours": hours, "needed_hours": needed_hours}
        return simulate(parse_plan({**PLAN, **asked, "supply": supply, "loads": loads}), 200)

    def steps(self, outcome, hours=0.25):
        planned = plan_round(outcome, visit(hours, ("plug",)))
        return {step.candidate.subject: step for step in planned.steps}

    def test_what_decides_is_measured_although_the_range_stays(self):
        in_doubt = self.outcome(8, 8, 3000)
        self.assertEqual(in_doubt.runtime, (8.0, 8.0, 8.0))
        steps = self.steps(in_doubt)
        self.assertEqual(list(steps), ["Saw"])
        self.assertGreater(steps["Saw"].settles, 0.2)
        self.assertFalse(self.steps(self.outcome(8, 8, 3000, continuous_w=5000)))

    def test_it_comes_before_what_only_narrows_the_range(self):
        """Ten minutes have room for two of three."""
        small, large = (
            self.steps(self.outcome(48, 12, 2600, continuous_w=watts), hours=1 / 6)
            for watts in (900, 5000)
        )
        self.assertEqual(set(small), {"Saw", "Router"})
        self.assertEqual(set(large), {"Box", "Router"})

    def test_a_plan_in_little_doubt_is_judged_by_its_range_alone(self):
        worth = worth_of(self.outcome(48, 4, 2600, continuous_w=5000))
        self.assertIsNone(worth.doubt)
        known = {InputKey(LOAD, "Box"): 0.3}
        self.assertEqual(worth.settled(known), 0.0)
        self.assertEqual(worth.gained(known), worth.taken(known))


class TogetherTest(unittest.TestCase):
    """A count at the battery of all that runs all the time."""

    SMALL = [load(f"Set {number}", "electronics", 60) for number in range(6)]
    LAMP = load("Lamp", "electronics", 40, use={"between": [["19:00", "21:00"]]})

    @classmethod
    def setUpClass(cls):
        cls.outcome = simulate(parse_plan({**PLAN, "loads": [*cls.SMALL, cls.LAMP]}), 200)

    def visit(self, meters=("plug", "shunt"), days=3, **more):
        begins = BEGINS - timedelta(days=days)
        return Visit(begins, begins + timedelta(hours=3), carried(meters), **more)

    def counts(self, visit):
        offered, _ = candidates(self.outcome, visit)
        return [offer.count for offer in offered if offer.what == TOGETHER]

    def test_it_counts_what_runs_all_the_time_and_may_be_moved(self):
        keep = frozenset({"Set 0"})
        names = {count.loads for count in self.counts(self.visit(keep_plugged=keep))}
        self.assertEqual(names, {tuple(f"Set {number}" for number in range(1, 6))})

    def test_loads_of_class_life_or_store_are_not_moved_for_a_round(self):
        cared = [
            load("Incubator", "electronics", 60, cares="life"),
            load("Vaccine box", "electronics", 60, cares="store"),
        ]
        outcome = simulate(parse_plan({**PLAN, "loads": [*self.SMALL, *cared]}), 60)
        offered, _ = candidates(outcome, self.visit())
        counts = [offer.count for offer in offered if offer.what == TOGETHER]
        self.assertTrue(counts)
        for count in counts:
            self.assertFalse({"Incubator", "Vaccine box"} & set(count.loads))

    def test_a_battery_that_is_needed_soon_is_not_used_and_no_shunt_counts_nothing(self):
        self.assertFalse(self.counts(self.visit(days=0)))
        self.assertFalse(self.counts(self.visit(("plug", "clamp"))))
        all_but_one = frozenset(f"Set {number}" for number in range(5))
        self.assertFalse(self.counts(self.visit(keep_plugged=all_but_one)))

    def test_its_prediction_agrees_with_conditioning_on_the_count(self):
        worth = worth_of(self.outcome)
        count = self.counts(self.visit())[-1]
        alone = worth.left({}, count)
        plan = self.outcome.plan
        fed = tuple(load for load in plan.loads if load.name in count.loads)
        run = Run(2.75, 1.0, 1.0, COUNTED_ONLY, fed)
        wh = counted_moves(plan, run)[2]
        counted = replace(plan, runs=(replace(run, wh=wh),))
        low, _, high = simulate(counted, 200).runtime
        self.assertAlmostEqual((alone[2] - alone[0]) / (high - low), 1.0, delta=0.2)
        self.assertLess(alone[2] - alone[0], 0.7 * worth.width)

    def test_a_counter_of_one_load_adds_nothing_after_a_count_of_all(self):
        worth = worth_of(self.outcome)
        count = self.counts(self.visit())[-1]
        known = {InputKey(LOAD, f"Set {number}"): 0.05 for number in range(6)}
        both = worth.taken(known, count)
        self.assertLess(both, worth.taken(known) + worth.taken({}, count))
        self.assertGreaterEqual(both, max(worth.taken(known), worth.taken({}, count)))

    def test_many_small_loads_are_counted_at_once(self):
        planned = plan_round(self.outcome, self.visit())
        steps = {step.candidate.what: step for step in planned.steps}
        told = text_of(begin_of(steps[TOGETHER], FIVE))
        self.assertTrue(told.startswith("DC shunt"), told)
        self.assertIn("run Set 0, Set 1, Set 2, Set 3, Set 4, Set 5 on the supply, nothing", told)
        self.assertEqual(planned.open, [])
        document = next(step for step in as_document(planned)["steps"] if "together" in step)
        self.assertEqual(document["together"], [f"Set {number}" for number in range(6)])
        # The lamp would be counted with them, were it left on for its own counter.
        for step in planned.steps:
            self.assertFalse(step.candidate.what == COUNTER and step.candidate.subject == "Lamp")
        without = plan_round(self.outcome, self.visit(("plug", "plug")))
        self.assertLess(np.subtract(*planned.after_h[::-2]), np.subtract(*without.after_h[::-2]))


class ScheduleTest(unittest.TestCase):
    @mock.patch.object(schedule, "_SEARCH_S", 60.0)
    def test_it_is_the_best_of_all_subsets(self):
        rng = np.random.default_rng(4)
        for _ in range(6):
            lengths = rng.integers(2, 14, 7) * 5.0
            worths = rng.uniform(0.1, 1.0, 7)
            offered = [
                Candidate(COUNTER, f"load {n}", "plug", length, 1.0, 1.0, {})
                for n, length in enumerate(lengths)
            ]
            chosen = choose(visit(1.5, ("plug",)), offered, list(worths))
            got = sum(worths[offered.index(placed.candidate)] for placed in chosen.placed)
            best = max(
                sum(worths[list(picked)])
                for size in range(8)
                for picked in itertools.combinations(range(7), size)
                if sum(lengths[list(picked)]) <= 90
            )
            self.assertGreaterEqual(got, best * 0.99)
            with mock.patch.object(schedule, "_SEARCH_S", 0.0):
                hurried = choose(visit(1.5, ("plug",)), offered, list(worths))
            got = sum(worths[offered.index(placed.candidate)] for placed in hurried.placed)
            self.assertGreaterEqual(got, best * (1 - hurried.gap) - 1e-9)

    def test_no_meter_is_in_two_places_and_one_person_has_two_hands(self):
        outcome = simulate(parse_plan(PLAN), 200)
        planned = plan_round(outcome, visit(keep_plugged=frozenset({"Incubator"})))
        self.assertGreater(len(planned.steps), 2)
        for step, other in itertools.combinations(planned.steps, 2):
            if step.meter == other.meter:
                self.assertTrue(
                    step.last_min <= other.first_min or other.last_min <= step.first_min,
                    (step, other),
                )
        hands = sorted(
            (step.first_min, step.first_min + step.candidate.before_min) for step in planned.steps
        )
        for (_, end), (begin, _) in itertools.pairwise(hands):
            self.assertLessEqual(end, begin + 1e-9)
        self.assertLessEqual(max(step.last_min for step in planned.steps), 180)

    def test_a_meter_that_is_in_use_is_not_given_away(self):
        outcome = simulate(parse_plan(PLAN), 100)
        busy = visit(3.0, ("plug",), busy=(("plug meter", BEGINS + timedelta(hours=1)),))
        for step in plan_round(outcome, busy).steps:
            if step.meter == "plug meter":
                self.assertGreaterEqual(step.first_min, 60)

    def test_slots_grow_with_the_visit(self):
        self.assertEqual([visit(hours).slot_min for hours in (1, 3, 24)], [5, 5, 40])


class PlannedTest(RoundTest):
    def test_each_step_narrows_and_what_is_open_is_said(self):
        planned = plan_round(self.outcome, visit(keep_plugged=frozenset({"Incubator"})))
        widths = [
            step.left_h[2] - step.left_h[0]
            for step in sorted(planned.steps, key=lambda step: step.last_min)
        ]
        self.assertEqual(widths, sorted(widths, reverse=True))
        self.assertLess(widths[-1], planned.before_h[2] - planned.before_h[0])
        self.assertNotIn("Incubator", planned.open)

    def test_every_load_to_grade_b(self):
        planned = plan_round(self.outcome, visit(6.0, target="grades"))
        self.assertLessEqual(
            {"Box", "Incubator", "Router"}, {step.candidate.subject for step in planned.steps}
        )

    def test_what_turned_out_impossible_is_not_planned_again(self):
        ways = ("counter", "spot", "tally")
        without = visit(impossible=frozenset(f"{what}: Incubator" for what in ways))
        planned = plan_round(self.outcome, without)
        self.assertNotIn("Incubator", {step.candidate.subject for step in planned.steps})

    def test_no_time_or_nothing_to_measure_with_is_refused(self):
        for wrong in (visit(0.1), visit(100.0), visit(3.0, ())):
            with self.assertRaises(DocumentError):
                plan_round(self.outcome, wrong)
        with self.assertRaises(DocumentError):
            carried(["plug", "telescope"])

    def test_times_of_day_are_the_next_ones(self):
        self.assertEqual(clock_of("17:00", "--until", BEGINS), BEGINS + timedelta(hours=3))
        self.assertEqual(clock_of("13:00", "--until", BEGINS), BEGINS + timedelta(hours=23))

    def test_words_and_document(self):
        planned = plan_round(self.outcome, visit())
        document = worded(as_document(planned))
        self.assertEqual(document["meters"][:2], ["plug meter 1", "plug meter 2"])
        for step, told in zip(planned.steps, document["steps"], strict=True):
            self.assertTrue(told["do"].startswith(step.meter[0].upper()))
            self.assertIn(step.candidate.subject, told["do"])
            self.assertEqual(
                end_of(step) is not None, step.candidate.what not in (SPOT, START, IDLE)
            )
            self.assertNotIn("{", text_of(begin_of(step, FIVE)) + text_of(end_of(step)))


class TallyTest(RoundTest):
    def known(self, **more):
        """The same plan, where its box and incubator were read while they ran."""
        read = [{"type": "spot", "state": "running", "watts": 70.0}]
        loads = [
            {**load, "profile": {**load["profile"], "readings": load["profile"]["readings"] + read}}
            if load["name"] in ("Box", "Incubator")
            else load
            for load in PLAN["loads"]
        ]
        return simulate(parse_plan({**PLAN, "loads": loads}), 200)

    def test_cycles_are_tallied_by_ear_if_the_running_watts_are_known(self):
        outcome = self.known()
        for meters in (("clamp",), ("plug",)):
            keep = frozenset({"Incubator"})
            offered, _ = candidates(outcome, visit(meters=meters, keep_plugged=keep))
            tallied = {offer.subject for offer in offered if offer.what == TALLY}
            self.assertEqual(tallied, {"Box", "Incubator"})
        self.assertNotIn((TALLY, "Box"), self.offered()[0])

    def test_one_person_listens_to_one_load_at_a_time(self):
        planned = plan_round(self.known(), visit(4.0, ("clamp",)))
        tallies = [step for step in planned.steps if step.candidate.what == TALLY]
        self.assertEqual({step.candidate.subject for step in tallies}, {"Box", "Incubator"})
        first, second = tallies
        self.assertLessEqual(first.last_min, second.first_min)
        self.assertIn("note each start and each stop until", text_of(begin_of(first, FIVE)))


class ProofTest(unittest.TestCase):
    def test_planned_rounds_leave_less_than_usual_ways(self):
        scores, _ = judge(6)
        planned = np.array(scores[PLANNED].left)
        ways = usual_ways(simulate(parse_plan(PLAN), 40), visit())
        self.assertEqual(set(scores), {PLANNED, BOUND, *ways})
        for words in ways:
            self.assertLess(np.median(planned / np.array(scores[words].left)), 1.0, words)
