"""Each declared field of a document is read, and the pages that are made from them hold them."""

import contextlib
import unittest
from random import Random
from unittest.mock import patch

from needle.document import DocumentError, Reader
from needle.drill.drill import parse_drill
from needle.drill.judge import parse_answer
from needle.drill.play import careful, careless
from needle.drill.session import played
from needle.drill.shipped import DRILLS
from needle.fields import Part
from needle.measure.meters import parse_meters
from needle.measure.readings import parse
from needle.plan.documents.parse import parse_plan
from needle.profile.document import parse_load
from needle.trial.trial import parse_trial
from tests.documents import (
    READINGS,
    load_document,
    plan_document,
    reading_of,
    rich_plan,
    trial_document,
)
from tools.fields import documents

#: Remarks and names without an effect on figures, and fields that select what is read.
_NOT_FIGURES = {
    "reading: every type: type",
    "reading: every type: note",
    "supply test: every type: type",
    "plan: source of every kind: kind",
    "plan: name",
    "trial: name",
}


class EveryFieldTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.read = set()
        original = Reader._field

        def noted(reader, key, kind):
            cls.read.add(id(reader.fields[key]))
            return original(reader, key, kind)

        with patch.object(Reader, "_field", noted):
            _read_all()

    def test_each_is_read(self):
        unread = {
            name
            for title, fields in documents()
            for name, field in _walk(title + ": ", fields)
            if id(field) not in self.read
        }
        self.assertEqual(unread, _NOT_FIGURES)


def _walk(path, fields):
    for key, field in fields.items():
        yield path + key, field
        if isinstance(field, Part):
            yield from _walk(f"{path}{key}.", field.fields)


def _read_all():
    """Read documents of every sort; refused ones are read up to where they are."""
    rng = Random(4)
    for _ in range(150):
        for read, make in (
            (parse_plan, plan_document),
            (parse_plan, rich_plan),
            (parse_trial, trial_document),
            (parse_load, load_document),
        ):
            with contextlib.suppress(DocumentError):
                read(make(rng))
        for kind in READINGS:
            with contextlib.suppress(DocumentError):
                parse(reading_of(rng, 90, kind))
    parse_meters([{"kind": "plug", "name": "P1", "pairs": [[100, 98]], "steps": {"wh": 1}}])
    for document in DRILLS:
        drill = parse_drill(document)
        for actions in (careful(drill), careless(drill), [{"do": "wait", "hours": 0.1}]):
            played(drill, actions)
    played(drill, [{"do": "plan", "uses": {drill.loads[0].name: "out"}, "floor": 0.2}])
    parse_answer({"low": 1, "high": 2, "yes": True})
