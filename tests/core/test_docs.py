"""The examples of the documents are true."""

import json
import re
import unittest
from pathlib import Path

from needle.plan.documents.parse import parse_plan
from needle.plan.documents.report import as_document as plan_document
from needle.plan.energy.simulate import simulate
from needle.profile.document import as_document, parse_load
from needle.profile.profile import derive
from tools import fields

READINGS = Path(__file__).parents[2] / "docs" / "readings.md"
BLOCK = re.compile(r"```json (load|plan) (\w+)([=<>])([\d.]+)\n(.*?)```", re.S)


class ReadingsPageTest(unittest.TestCase):
    def test_each_example_says_what_stands_above_it(self):
        blocks = BLOCK.findall(READINGS.read_text())
        self.assertGreaterEqual(len(blocks), 8)
        for kind, key, sign, figure, text in blocks:
            document, wanted = json.loads(text), float(figure)
            with self.subTest(name=document.get("name", kind)):
                if kind == "load":
                    answer = as_document(derive(parse_load(document)))
                else:
                    answer = plan_document(simulate(parse_plan(document), draws=100))
                value = answer[key]["value"]
                if sign == "=":
                    self.assertAlmostEqual(value, wanted, delta=0.03 * wanted)
                elif sign == "<":
                    self.assertLess(answer[key]["high"], wanted + 1)
                else:
                    self.assertGreater(value, wanted)


class FieldsPageTest(unittest.TestCase):
    def test_it_is_what_is_declared(self):
        self.assertEqual(fields.FILE.read_text("utf-8"), fields.as_markdown(), "run `make fields`")
