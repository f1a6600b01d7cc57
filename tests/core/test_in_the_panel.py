"""Loads without a plug for a meter: hard-wired, or on both legs of split mains."""

import unittest
from datetime import UTC, datetime

from needle.plan.documents.load import parse_load as parse_plan_load
from needle.profile.document import parse_load
from needle.profile.ledger import ledger_of
from needle.profile.profile import derive
from needle.words import text_of

NOON = datetime(2027, 2, 9, 12, tzinfo=UTC)
READINGS = [{"type": "label", "watts": 700}, {"type": "spot", "watts": 640, "volts": 230}]


def document(**more):
    return {"kind": "pump", "readings": READINGS, **more}


def advice(**more):
    return [text_of(hint.said) for hint in derive(parse_load(document(**more))).advice]


class AdviceTest(unittest.TestCase):
    def test_no_plug_meter_for_what_has_no_plug(self):
        self.assertTrue(any("plug meter" in words for words in advice()))
        split = {"volts": 120, "split": True}
        for panel in ({"wired": True}, {"mains": split, "legs": "both"}):
            words = advice(**panel)
            self.assertTrue(words)
            self.assertFalse([each for each in words if "plug" in each], panel)
            self.assertTrue(any("licensed electrician" in each for each in words), panel)
        self.assertEqual(advice(mains=split, legs="one"), advice(mains=split))

    def test_its_figures_are_the_same(self):
        wired, plain = (derive(parse_load(document(**more))) for more in ({"wired": True}, {}))
        self.assertEqual(wired.mean_w, plain.mean_w)
        ledger = ledger_of(document(wired=True))
        said = next(entry for entry in ledger if entry.where == "wired")
        self.assertIn("which meter fits", text_of(said.said))


class SafetyTest(unittest.TestCase):
    def load(self, **more):
        entered = {"name": "Box", "kind": "compressor-fixed", "running_w": 100, **more}
        return parse_plan_load(entered, "loads[0]", NOON, ["ac"])

    def test_what_hangs_on_it_is_not_forgotten_for_how_it_is_wired(self):
        as_before = self.load(cares="hard-wired")
        self.assertTrue(as_before.wired)
        self.assertEqual(as_before.safety_class, "store")
        life = self.load(cares="life", wired=True)
        self.assertTrue(life.protected and life.wired and life.read_in_panel)
        self.assertFalse(self.load(cares="", legs="one").read_in_panel)

    def test_a_plan_takes_it_from_the_loads_own_document(self):
        told = document(cares="life", legs="both", mains={"volts": 120, "split": True})
        entered = {"name": "Pump", "profile": told, "use": "always"}
        load = parse_plan_load(entered, "loads[0]", NOON, ["ac"])
        self.assertTrue(load.protected and load.both_legs)
        beside = parse_plan_load({**entered, "cares": ""}, "loads[0]", NOON, ["ac"])
        self.assertFalse(beside.protected)
