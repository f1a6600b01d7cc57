"""Nothing entered is silently lost: what moves no answer is named as left out."""

import os
import re
import unittest
from random import Random

from needle.document import DocumentError
from needle.leaves import leaves, moves, others, path_text, with_value
from needle.ledger import LedgerEntry, covers, left_out
from needle.plan.document import parse_plan
from needle.plan.ledger import ledger_of as plan_ledger
from needle.plan.simulate import simulate
from needle.plan.verdict import verdict_of
from needle.profile.document import as_document as profile_document
from needle.profile.document import parse_load
from needle.profile.ledger import ledger_of as profile_ledger
from needle.profile.profile import derive
from tests import documents

#: How many random documents of each sort are perturbed leaf by leaf.
DOCUMENTS = int(os.environ.get("STEADY_LEDGERS", "6"))
FIRST_SEED = int(os.environ.get("STEADY_SEED", "0"))
DRAWS = 40


def lost(document, answer, entries):
    """Values of a document that move no answer and that no entry names as left out."""
    before = answer(document)
    out = [entry for entry in entries if not entry.used]
    lost, moved = [], set()
    for path, value in leaves(document):
        where = path_text(path)
        if any(covers(entry, where) for entry in out) or not others(path, value):
            continue
        if moves(document, path, value, answer, before):
            moved.add(whole(where))
        else:
            lost.append(where)
    return [where for where in lost if whole(where) not in moved]


def whole(where):
    """What is used or left out as one: a curve with all its points."""
    return re.sub(r"(overload)\[.*", r"\1", where)


class LedgerTest(unittest.TestCase):
    def test_every_value_of_a_load_moves_its_profile_or_is_named(self):
        def answer(document):
            told = profile_document(derive(parse_load(document)))
            return {key: value for key, value in told.items() if key != "ledger"}

        for seed in range(FIRST_SEED, FIRST_SEED + 4 * DOCUMENTS):
            with self.subTest(seed=seed):
                document = documents.load_document(Random(seed))
                try:
                    answer(document)
                    entries = profile_ledger(document)
                except DocumentError:
                    continue
                self.assertEqual(lost(document, answer, entries), [])

    def test_every_value_of_a_plan_moves_its_answer_or_is_named(self):
        def answer(document):
            outcome = simulate(parse_plan(document), DRAWS)
            return (
                outcome.runtime_h.tolist(), outcome.mean_ac_w.tolist(), outcome.energy_wh,
                outcome.unserved_wh, outcome.by_source_wh, outcome.fuel_l, outcome.trips,
                outcome.starts, outcome.peak_w, verdict_of(outcome), outcome.charge.tolist(),
                outcome.notices,
            )  # fmt: skip

        for seed in range(FIRST_SEED, FIRST_SEED + DOCUMENTS):
            with self.subTest(seed=seed):
                document = documents.rich_plan(Random(seed))
                try:
                    outcome = simulate(parse_plan(document), DRAWS)
                except DocumentError:
                    continue
                entries = plan_ledger(document, outcome)
                self.assertEqual(lost(document, answer, entries), [])

    def test_names_and_notes_are_not_counted_as_left_out(self):
        entries = [
            LedgerEntry("name", False, "name", "a name"), LedgerEntry("a.hz", False, "hz", "idle"),
            LedgerEntry("b", True, "load", "what runs"),
        ]  # fmt: skip
        self.assertEqual([entry.where for entry in left_out(entries)], ["a.hz"])
        self.assertTrue(covers(entries[1], "a.hz") and not covers(entries[1], "a.hzz"))

    def test_a_value_in_another_place_leaves_the_document_as_it_was(self):
        document = {"a": [{"b": 1}, {"b": 2}]}
        self.assertEqual(with_value(document, ("a", 1, "b"), 3), {"a": [{"b": 1}, {"b": 3}]})
        self.assertEqual(document["a"][1]["b"], 2)
