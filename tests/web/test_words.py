"""Sentences: what a reading says, what the answer bar says, numbers in templates."""

import unittest

from django.test import SimpleTestCase

from needle.decide.starting import will_it_start
from needle.estimate import Estimate
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate
from needle.plan.verdict import verdict_of
from needle.quantity import chance_text
from needle.supply.inverter import parse_inverter
from needle.words import text_of
from needle.words.answer import lasts_text, reach_text
from needle.words.figures import USUAL
from web.answer.lines import runs_line
from web.answer.words import covers
from web.common.templatetags import words
from web.loads.models import Reading
from web.loads.words import row_of

N = "\u00a0"


def says(kind, **data):
    return row_of(Reading(type=kind, data=data))


class ReadingWordsTest(SimpleTestCase):
    def test_each_kind_in_one_line(self):
        for kind, data, said in [
            (
                "spot",
                {"watts": 92.4, "volts": 231.2, "pf": 0.62},
                f"running: 92.4{N}W · 231.2{N}V · PF 0.62",
            ),
            ("start", {"amps": 5.9, "volts": 231, "instrument": "clamp"}, f"5.9{N}A · 231{N}V"),
            ("energy", {"wh": 710, "hours": 21.5}, f"710{N}Wh in 21{N}h{N}30{N}min: mean 33.0{N}W"),
            (
                "tally",
                {"edges": [["on", 0], ["off", 410], ["on", 1290]]},
                f"1 complete cycle of 22{N}min: duty 0.32",
            ),
            (
                "task",
                {"wh": 1224, "minutes": 108, "pieces": 28, "runs": 2},
                f"1.224{N}kWh in 1{N}h{N}48{N}min, 28 pieces over 2 tasks",
            ),
            (
                "charge-drop",
                {"supply_wh": 1020, "from": 1.0, "to": 0.91, "hours": 6},
                f"100 → 91 % of 1.02{N}kWh in 6{N}h",
            ),
            ("label", {"horsepower": 0.5, "breaker_a": 16}, f"0.5{N}hp · 16 A breaker"),
        ]:
            with self.subTest(kind=kind):
                self.assertEqual(says(kind, **data).says, said)

    def test_a_coarse_counter_is_remarked(self):
        self.assertIn("±12 %", says("energy", wh=40, hours=4).remark)
        self.assertEqual(says("energy", wh=710, hours=21.5).remark, "")

    def test_where_it_was_read(self):
        row = says("energy", wh=710, hours=21.5, room_c=24, setting="eco", instrument="logger")
        self.assertEqual(row.where, f"eco, panel logger, room 24{N}°C")

    def test_the_agreement_is_carried(self):
        row = says("spot", watts=610, va=762, volts=231, amps=3.3, pf=0.7)
        self.assertEqual(row.agreement.suspect, "pf")
        self.assertEqual(row.remark, row.agreement.message)


def outcome_of(loads, nominal_wh=5000, needed=10.0):
    return simulate(
        parse_plan(
            {
                "hours": 48,
                "needed_hours": needed,
                "supply": {
                    "battery": {"chemistry": "lfp", "nominal_wh": nominal_wh},
                    "inverter": {
                        "continuous_w": 1000,
                        "surge_va": 2000,
                        "idle_w": 10,
                        "efficiency": 0.9,
                    },
                },
                "loads": loads,
            }
        ),
        60,
    )


def judged(*args):
    return verdict_of(outcome_of(*args))


def runs(outcome):
    """What is said of what runs: label and words."""
    line = runs_line(outcome, verdict_of(outcome))
    return line.label, line.words


class AnswerWordsTest(unittest.TestCase):
    def test_a_chance_has_one_wording(self):
        said = {
            0.0: "less than 1 in 10",
            0.02: "less than 1 in 10",
            0.34: "3 in 10",
            0.97: "more than 9 in 10",
            1.0: "more than 9 in 10",
        }
        for chance, text in said.items():
            self.assertEqual(chance_text(chance), text)

    def test_covered_unsure_and_not(self):
        load = [{"name": "Lamp", "running_w": 150}]
        self.assertEqual(covers(judged(load, 5000)), "yes")
        self.assertEqual(covers(judged(load, 500)), "no")
        just = 1.02 * 10 * (10 + 150 / 0.9) / 0.93 / 0.9
        self.assertEqual(covers(judged(load, just)), "unsure")

    def test_the_load_that_is_too_large_is_named_with_its_limit(self):
        lamp = {"name": "Lamp", "running_w": 100, "spread": 0.0}
        motor = {"name": "Motor", "running_w": 300, "start_s": 0.3, "spread": 0.0}
        for load, label, said in [
            ({**motor, "start_va": 900}, "Runs", "everything"),
            (
                {**motor, "start_va": 2500},
                "May not run",
                "Motor: its start may trip the inverter (chance 3 in 10).",
            ),
            (
                {**motor, "start_va": 5000},
                "Cannot run",
                f"Motor needs 5.0{N}kVA to start; the inverter gives 2{N}kVA.",
            ),
            (
                {**motor, "running_w": 2200},
                "Cannot run",
                f"Motor needs 2.2{N}kW; the inverter gives 1{N}kW.",
            ),
            (
                {**motor, "running_w": 950, "use": {"between": [["19:00", "20:00"]]}},
                "Cannot run",
                f"Motor and what runs with it need 1.1{N}kW; the inverter gives 1{N}kW.",
            ),
        ]:
            with self.subTest(said=said):
                outcome = outcome_of([lamp, load], 9000)
                self.assertEqual(runs(outcome), (label, said))

    def test_hours_stay_where_a_load_is_too_large(self):
        lamp, heater = {"name": "Lamp", "running_w": 100}, {"name": "Heater", "running_w": 1500}
        alone, both = outcome_of([lamp], 1500), outcome_of([lamp, heater], 1500)
        self.assertEqual(lasts_text(both), lasts_text(alone))
        self.assertRegex(lasts_text(both), r"^Lasts 9 to 12.h, most likely 1\d.h.\d+.min$")
        self.assertIn("without Heater", reach_text(both, verdict_of(both), USUAL))
        held = {start.load: start.verdict.verdict for start in both.starts}
        self.assertEqual(held, {"Lamp": "holds", "Heater": "trips"})

    def test_a_plan_whose_load_trips_is_not_covered(self):
        heater = {"name": "Heater", "running_w": 1500}
        outcome = outcome_of([{"name": "Lamp", "running_w": 100}, heater], 9000)
        self.assertEqual((covers(verdict_of(outcome)), outcome.chance), ("no", 0.0))
        self.assertEqual(verdict_of(outcome).chance_without, 1.0)
        nice = outcome_of(
            [{"name": "Lamp", "running_w": 100}, {**heater, "priority": "nice"}], 9000
        )
        self.assertEqual(covers(verdict_of(nice)), "yes")
        self.assertEqual(runs(nice)[0], "Cannot run")


class NumberTest(unittest.TestCase):
    def test_values_and_ranges(self):
        estimate = Estimate(33.02, 0.05, "A")
        self.assertEqual(words.mid(estimate, "W"), f"33.0{N}W")
        self.assertEqual(words.span(estimate, "W"), f"31\u201335{N}W")
        self.assertEqual(words.span(Estimate(1363, 0.1, "B"), "VA"), f"1.2\u20131.5{N}kVA")
        self.assertEqual(words.span(Estimate(5, 0.0, "A"), "W"), "")
        self.assertEqual(words.mid(None, "W"), "–")
        self.assertEqual(words.quantity(None, "W"), "–")
        self.assertEqual(words.rated(3000.0, "W"), f"3{N}kW")
        self.assertEqual(words.percent(0.516), f"52{N}%")
        self.assertEqual(words.hours(None), "–")
        self.assertEqual(words.plural(1, "load"), f"1{N}load")
        self.assertEqual(words.plural(3, "load"), f"3{N}loads")

    def test_grades_in_words(self):
        self.assertEqual(
            words.grade_mark("A"),
            '<span class="grade grade-a" title="recorded long enough">A</span>',
        )
        self.assertIn('title="nothing known"', words.grade_mark("?"))

    def test_a_range_stands_beside_its_value_in_the_same_unit(self):
        for estimate, unit, value, span in [
            (Estimate(1000, 0.1, "B"), "VA", f"1.00{N}kVA", "0.88\u20131.1"),
            (Estimate(0.62, 0.0, "B"), "", "0.62", ""),
            (None, "W", "\u2013", ""),
        ]:
            with self.subTest(unit=unit):
                self.assertEqual(
                    words.with_range(estimate, unit), f'{value} <span class="range">{span}</span>'
                )

    def test_a_verdicts_margin_has_a_unit(self):
        inverter = parse_inverter({"continuous_w": 1000, "surge_va": 2000})
        reason = will_it_start(900, 0.3, 100, 0, inverter).reason
        self.assertEqual(text_of(reason), f"1.10{N}kVA left")
