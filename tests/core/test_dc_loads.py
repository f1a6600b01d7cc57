"""Loads on DC, and low volts behind adapters: mains volts are not theirs."""

import unittest

import numpy as np

from needle.document import DocumentError
from needle.plan.advice.measurements import display_hours
from needle.plan.advice.sizing import more_tasks, shortage
from needle.plan.answering import each_alone
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate
from needle.plan.verdict import verdict_of
from needle.profile.document import parse_load
from needle.profile.ledger import ledger_of
from needle.profile.profile import derive
from needle.profile.record import NoEvidence
from needle.quantity import parse, volts_amps
from needle.supply.outputs import on_usb
from needle.supply.supply import parse_supply
from needle.words.answer import blocked_text

LABEL, START = {"type": "label", "watts": 20}, {"type": "start", "amps": 5}


def profile(*readings, kind="electronics", **more):
    return derive(parse_load({"kind": kind, "readings": list(readings), **more}))


class DcAmpsTest(unittest.TestCase):
    def test_amps_alone_are_no_watts(self):
        for reading in (
            {"type": "label", "amps": 1},
            {"type": "spot", "amps": 1},
            {"type": "label", "breaker_a": 10},
        ):
            with self.subTest(reading), self.assertRaisesRegex(NoEvidence, "give the volts"):
                profile(reading, dc=True)

    def test_the_rest_counts_and_it_is_said(self):
        known = profile(LABEL, START, dc=True)
        self.assertEqual(known.start_va.grade, "D")
        self.assertIn("dc-volts-missing", [notice.code for notice in known.notices])
        document = {"kind": "electronics", "dc": True, "readings": [LABEL, START]}
        unused = [entry.where for entry in ledger_of(document) if not entry.used]
        self.assertEqual(unused, ["readings[1]"])

    def test_volts_that_were_read_beside_others_count(self):
        spots = {"type": "spot", "amps": 2}, {"type": "spot", "amps": 2.0, "volts": 12.5}
        known = profile(*spots, dc=True)
        self.assertAlmostEqual(known.running_w.value, 25.0, delta=0.1)
        self.assertIn("dc-volts-taken", [notice.code for notice in known.notices])
        # Those before its adapter are not its own.
        before = {"type": "spot", "watts": 9, "volts": 230, "instrument": "plug"}
        known = profile(before, START, dc=True)
        self.assertIn("dc-volts-missing", [notice.code for notice in known.notices])

    def test_the_volts_of_its_document_count(self):
        self.assertAlmostEqual(
            profile({"type": "spot", "amps": 2}, dc=True, volts=24).running_w.value, 48.0
        )

    def test_low_volts_on_the_label_of_a_load_on_ac_say_nothing_of_amps_at_the_outlet(self):
        label = {"type": "label", "volts": 19, "amps": 3.4}
        known = profile(label, {"type": "spot", "amps": 0.4})
        self.assertGreater(known.running_w.value, 40)


class AdapterTest(unittest.TestCase):
    def test_a_load_with_an_adapter_runs_on_an_inverter(self):
        load = {"name": "Laptop", "running_w": 40, "volts": 19}
        supply = {
            "battery": {"chemistry": "lfp", "nominal_wh": 1000},
            "inverter": {"continuous_w": 500, "volts": 230},
        }
        for volts, expected in ((19, set()), (120, {"volts"})):
            plan = {"hours": 4, "supply": supply, "loads": [load | {"volts": volts}]}
            trips = simulate(parse_plan(plan), 50).trips
            self.assertEqual({trip.why for trip in trips}, expected)


class LabelTest(unittest.TestCase):
    def test_volts_and_amps_as_labels_print_them(self):
        for text, volts, amps in (
            ("24V 4.2A", 24, 4.2),
            ("19V⎓3.42A", 19, 3.42),
            ("230 V~ / 6 A", 230, 6),
            ("12 V DC, 5 A", 12, 5),
            ("1,5A 230V", 230, 1.5),
        ):
            self.assertEqual(volts_amps(text), (volts, amps))
            self.assertAlmostEqual(parse(text, "W").value, volts * amps)
        for text in ("12V-24V", "3 A", "5 A 2 A", "24 V"):
            self.assertIsNone(volts_amps(text))

    def test_an_led_light_draws_what_stands_on_it(self):
        known = profile({"type": "label", "watts": 30}, kind="led")
        self.assertLess(known.running_w.low, 27)
        self.assertTrue(30 < known.running_w.high < 40)


class TerminalsTest(unittest.TestCase):
    def test_amps_of_bare_terminals_are_at_the_volts_of_the_battery(self):
        output = {"name": "bus", "kind": "terminals", "max_a": 40}
        battery = {"chemistry": "lead", "nominal_wh": 5400, "volts": 24}
        (bus,) = parse_supply({"battery": battery, "outputs": [output]}).outputs
        self.assertEqual(bus.max_w, 960.0)
        for kind, known in (("converter", battery), ("terminals", {**battery, "volts": None})):
            document = {"battery": known, "outputs": [{**output, "kind": kind}]}
            with self.subTest(kind), self.assertRaisesRegex(DocumentError, "beside the highest"):
                parse_supply(document)


class DcOnlyTest(unittest.TestCase):
    """A supply without an inverter: what runs on AC cannot run there, and the rest does."""

    @classmethod
    def setUpClass(cls):
        supply = {
            "battery": {"chemistry": "lfp", "nominal_wh": 1280, "volts": 12.8},
            "outputs": [{"name": "fuse box", "kind": "terminals", "max_a": 30}],
        }
        box = {"name": "Box", "running_w": 40, "route": "fuse box"}
        cls.alone = {"hours": 12, "supply": supply, "loads": [box]}
        cls.lamp = {"name": "Lamp", "running_w": 20, "priority": "must"}
        cls.outcome = simulate(parse_plan({**cls.alone, "loads": [box, cls.lamp]}), 50)

    def test_what_runs_on_ac_does_not_run(self):
        (trip,) = self.outcome.trips
        self.assertEqual((trip.load, trip.why, trip.chance), ("Lamp", "no-ac", 1.0))
        self.assertEqual(self.outcome.chance, 0.0)
        (blocked,) = verdict_of(self.outcome).blocked_loads
        self.assertEqual(blocked_text(blocked), "Lamp runs on AC; this supply has no inverter.")
        self.assertEqual(self.outcome.likely.energy_wh["loads"]["Lamp"], 0.0)

    def test_the_rest_runs_as_long_as_without_it(self):
        alone = simulate(parse_plan(self.alone), 50)
        np.testing.assert_allclose(self.outcome.runtime_h, alone.runtime_h)
        self.assertTrue(40 < self.outcome.peak_w < 46)

    def test_no_more_of_its_tasks_fit(self):
        kettle = {
            "name": "Kettle",
            "steps": [{"watts": 1800, "minutes": 4}],
            "use": {"tasks": ["20:00"]},
        }
        loads = [*self.alone["loads"], kettle]
        outcome = simulate(parse_plan({**self.alone, "loads": loads}), 50)
        self.assertEqual(more_tasks(outcome), [])

    def test_mains_run_it_while_they_are_on(self):
        mains = {"kind": "mains", "name": "Mains", "watts": 100, "on_h": 4, "off_h": 20}
        tea = {"name": "Kettle", "steps": [{"watts": 1800, "minutes": 4}], "priority": "must"}
        trips = {}
        for at in ("20:00", "23:30"):
            plan = {
                **self.alone,
                "start": "2027-02-09T18:00:00+00:00",
                "loads": [*self.alone["loads"], {**tea, "use": {"tasks": [at]}}],
                "sources": [{**mains, "comes": "18:00"}],
            }
            outcome = simulate(parse_plan(plan), 50)
            trips[at] = [trip.why for trip in outcome.trips]
            drawn = outcome.likely.energy_wh["loads"]["Kettle"]
            self.assertEqual(drawn, 0.0, "what mains run does not come from the battery")
            self.assertLess(outcome.peak_w, 46, "nor does it load an output")
        self.assertEqual(trips, {"20:00": [], "23:30": ["no-ac"]})

    def test_more_watts_are_no_cure(self):
        self.assertIn("no inverter", shortage(self.outcome).why_not)
        (only,) = each_alone({**self.alone, "loads": [self.lamp]})
        self.assertEqual((only.why_not, only.hours), ("no-ac", None))
        self.assertIsNone(display_hours(parse_plan({**self.alone, "loads": [self.lamp]})))


class UsbTest(unittest.TestCase):
    def test_which_volts_it_is_asked_for(self):
        for volts in (None, 5.0, 5.1, 9.0, 15.0, 19.0, 20.0):
            self.assertTrue(on_usb(volts), volts)
        for volts in (12.0, 12.8, 24.0, 48.0):
            self.assertFalse(on_usb(volts), volts)
