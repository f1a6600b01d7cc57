"""Nothing entered is silently lost: what moves no answer is named as left out."""

import os
import re
import unittest
from random import Random

from needle.document import DocumentError
from needle.leaves import leaves, moves, others, path_text, with_value
from needle.ledger import covers
from needle.plan.documents.ledger import ledger_of as plan_ledger
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate
from needle.plan.verdict import verdict_of
from needle.profile.document import as_document as profile_document
from needle.profile.document import parse_load
from needle.profile.ledger import ledger_of as profile_ledger
from needle.profile.profile import derive
from needle.trial.forecast import forecast
from needle.trial.prediction import as_document as forecast_document
from needle.trial.trial import parse_trial
from tests import documents

#: How many random documents of each sort are perturbed leaf by leaf.
DOCUMENTS = int(os.environ.get("STEADY_LEDGERS", "4"))
FIRST_SEED = int(os.environ.get("STEADY_SEED", "0"))
DRAWS = 40

BATTERY = {"chemistry": "lfp", "nominal_wh": 1200.0, "volts": 12.8}
#: A trial without a plan, with each figure that a check-in may have.
ALONE = {
    "supply": {"battery": BATTERY},
    "expected_w": {"value": 60, "spread": 0.2},
    "start_charge": 0.98,
    "stop_at": 0.1,
    "check_ins": [
        {
            "h": 1.0,
            "percent": 94,
            "wh": 62.0,
            "watts": 60,
            "display_h": 18,
            "room_c": 18,
            "note": "on",
            "counted": "battery",
        },
        {"h": 2.5, "bars": 4, "of": 5, "ah": 12.4, "volts": 13.1, "amps": 4.7, "inside_c": 5},
        {"h": 4.0, "percent": 78, "bars": 4, "of": 5, "wh": 250.0, "ah": 19.0, "leg": "lamp off"},
        {
            "h": 6.0,
            "percent": 74,
            "volts": 13.0,
            "amps": 3.0,
            "wh": 305.0,
            "wh_in": 10,
            "watts_in": 5,
        },
    ],
}
#: A trial of a plan, with counters behind the inverter and at an output.
OF_A_PLAN = {
    "plan": {
        "start": "2027-02-09T17:00:00+00:00",
        "hours": 20,
        "needed_hours": 12,
        "supply": {
            "battery": BATTERY,
            "outputs": [{"name": "dc12"}],
            "inverter": {"continuous_w": 600, "idle_w": 9, "efficiency": 0.9},
        },
        "loads": [
            {"name": "Box", "running_w": 80, "duty": 0.45, "cycle_min": 30, "route": "ac"},
            {"name": "Lamp", "running_w": 10, "route": "dc12"},
        ],
        "sources": [
            {"name": "Mains", "kind": "window", "watts": 60, "between": [["20:00", "22:00"]]},
        ],
    },
    "check_ins": [
        {"h": 1.0, "percent": 93, "wh": 40.0, "counted": "ac", "watts": 38, "watts_at": "ac"},
        {"h": 2.5, "watts": 92, "watts_at": "battery", "percent": 82},
        {"h": 3.5, "watts_in": 58, "percent": 85, "wh": 150.0, "counted": "ac"},
        {"h": 6.0, "bars": 4, "of": 5, "wh": 13.0, "counted": "dc12", "wh_in": 100},
    ],
}


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
                outcome.runtime_h.tolist(),
                outcome.mean_ac_w.tolist(),
                outcome.likely.energy_wh,
                outcome.likely.unserved_wh,
                outcome.likely.by_source_wh,
                outcome.likely.fuel_l,
                outcome.trips,
                outcome.starts,
                outcome.peak_w,
                verdict_of(outcome),
                outcome.charge.tolist(),
                outcome.notices,
            )

        for seed in range(FIRST_SEED, FIRST_SEED + DOCUMENTS):
            with self.subTest(seed=seed):
                document = documents.rich_plan(Random(seed))
                try:
                    outcome = simulate(parse_plan(document), DRAWS)
                except DocumentError:
                    continue
                entries = plan_ledger(document, outcome)
                self.assertEqual(lost(document, answer, entries), [])

    def test_a_load_on_ac_without_an_inverter_is_named_whole(self):
        plan = documents.rich_plan(Random(1))
        supply = {"battery": BATTERY, "outputs": [{"name": "dc12"}]}
        loads = [{**load, "route": "ac", "can": []} for load in plan["loads"][:1]]
        loads.append({"name": "Lamp", "running_w": 9, "route": "dc12"})
        document = {"hours": 10, "supply": supply, "loads": loads}
        entries = {e.where: e for e in plan_ledger(document, simulate(parse_plan(document), DRAWS))}
        self.assertFalse(entries["loads[0]"].used)
        self.assertEqual(entries["loads[0]"].said.code, "without-ac")
        self.assertTrue(entries["loads[1]"].used)

    def test_every_value_of_a_check_in_moves_its_forecast_or_is_named(self):
        def answer(document):
            told = forecast_document(forecast(parse_trial(document), draws=DRAWS))
            return {key: value for key, value in told.items() if key != "ledger"}

        for document in ({**ALONE, "ended": {"h": 14.5, "why": "floor"}}, OF_A_PLAN):
            entries = forecast(parse_trial(document), draws=DRAWS).ledger
            # A plan's own values are tested with plans.
            own = [where for where in lost(document, answer, entries) if "plan." not in where]
            self.assertEqual(own, [])

    def test_a_counter_at_an_output_is_not_the_one_behind_the_inverter(self):
        seen = forecast(parse_trial(OF_A_PLAN), draws=DRAWS)
        self.assertEqual([entry.where for entry in seen.ledger if not entry.used], [])
        self.assertFalse([notice for notice in seen.notices if notice.code == "counter-fell-at"])

    def test_a_value_in_another_place_leaves_the_document_as_it_was(self):
        document = {"a": [{"b": 1}, {"b": 2}]}
        self.assertEqual(with_value(document, ("a", 1, "b"), 3), {"a": [{"b": 1}, {"b": 3}]})
        self.assertEqual(document["a"][1]["b"], 2)
