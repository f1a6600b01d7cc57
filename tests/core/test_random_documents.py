"""Valid documents at random: answered or refused with a key, never a fault.

A slice of ``make harden``, which asks for many more by ``STEADY_DOCUMENTS``.
"""

import os
import unittest
from random import Random

import numpy as np

from needle.document import DocumentError
from needle.plan.documents.parse import parse_plan
from needle.plan.documents.report import as_document
from needle.plan.energy.simulate import simulate
from needle.plan.verdict import verdict_of
from needle.profile.document import as_document as profile_document
from needle.profile.document import parse_load
from needle.profile.profile import derive
from needle.round.planning import plan_round
from needle.round.report import as_document as round_document
from needle.round.visit import Visit, carried
from needle.trial.forecast import forecast
from needle.trial.prediction import as_document as forecast_document
from needle.trial.trial import parse_trial
from tests import documents

#: How many plans; an eighth as many trials, two and a half times as many profiles, a tenth as many
#: rounds.
PLANS = int(os.environ.get("STEADY_DOCUMENTS", "40"))
FIRST_SEED = int(os.environ.get("STEADY_SEED", "0"))


class RandomDocumentsTest(unittest.TestCase):
    def answered(self, count, made, answer):
        """Answer so many random documents; most are answered, the others refused with a key."""
        refused = []
        for seed in range(FIRST_SEED, FIRST_SEED + max(1, count)):
            with self.subTest(seed=seed):
                try:
                    answer(made(Random(seed)))
                except DocumentError as error:
                    self.assertTrue(error.path and error.message, str(error))
                    refused.append(str(error))
        self.assertLess(len(refused), 0.3 * count + 1, refused[:10])

    def test_plans(self):
        def answer(document):
            outcome = simulate(parse_plan(document), draws=8)
            energy = outcome.likely.energy_wh
            given = energy["sources"] + energy["battery_out"] - energy["battery_in"]
            used = sum(energy[part] for part in ("inverter_idle", "outputs_idle", "conversion"))
            used += sum(energy["loads"].values())
            self.assertAlmostEqual(given, used, delta=0.001 * max(1.0, given))
            verdict = verdict_of(outcome)
            self.assertAlmostEqual(verdict.chance, float(np.mean(outcome.holds)))
            self.assertEqual(verdict.first_failure is None, bool(outcome.holds.all()))
            low, mid, high = verdict.lasts_h
            self.assertTrue(0 <= low <= mid <= high <= outcome.plan.hours + 1e-6)

        self.answered(PLANS, documents.plan_document, answer)

    def test_plans_with_their_advice(self):
        def answer(document):
            as_document(simulate(parse_plan(document), draws=8))

        self.answered(PLANS // 10, lambda rng: documents.plan_document(rng, 4), answer)

    def test_trials(self):
        self.answered(
            PLANS // 8,
            documents.trial_document,
            lambda document: forecast_document(forecast(parse_trial(document), draws=40)),
        )

    def test_profiles(self):
        def answer(document):
            profile = derive(parse_load(document))
            profile_document(profile)
            self.assertLessEqual(profile.mean_w.low, profile.mean_w.high)

        self.answered(10 * PLANS // 4, documents.load_document, answer)

    def test_rounds(self):
        def answer(document):
            outcome = simulate(parse_plan(document), draws=40)
            visit = Visit(
                begins=documents.FIRST_DAY,
                ends=documents.FIRST_DAY.replace(hour=3),
                meters=carried(["plug", "clamp"]),
            )
            round_document(plan_round(outcome, visit))

        self.answered(PLANS // 10, lambda rng: documents.plan_document(rng, 6), answer)
