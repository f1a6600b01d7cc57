"""When several plans end, worked out together: as each would by itself."""

from __future__ import annotations

from dataclasses import replace
from random import Random
from unittest import TestCase

import numpy as np

from needle.document import DocumentError
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.ends import first_ends
from needle.plan.energy.simulate import simulate
from tests.documents import rich_plan

DRAWS = 20


def plans(count):
    """Valid plans of at most two days, with sources, trips and finished runs among them."""
    rng = Random(11)
    while count:
        document = rich_plan(rng)
        document["hours"] = min(document["hours"], 48)
        try:
            plan = parse_plan(document)
        except DocumentError:
            continue
        if len(plan.loads) > 1:
            count -= 1
            yield plan


def within(plan, fails_min):
    """Failures of the needed hours; later ones are not asked for."""
    return np.where(fails_min < 60 * plan.needed_hours - 1e-6, fails_min, np.inf)


class FirstEndsTest(TestCase):
    def test_a_plan_and_its_changes_end_as_each_by_itself(self):
        tripping = fed = 0
        for plan in plans(12):
            changed = [
                replace(plan, loads=plan.loads[1:]),
                replace(plan, loads=plan.loads[:-1]),
                replace(plan, sources=()),
            ]
            ends = first_ends([plan, *changed], DRAWS)
            tripping += bool(ends[0].failures_by_load)
            fed += bool(plan.sources)
            for each, together in zip([plan, *changed], ends, strict=True):
                alone = simulate(each, DRAWS)
                np.testing.assert_allclose(together.stops_h, alone.runtime_h, rtol=1e-9)
                np.testing.assert_allclose(
                    within(each, 60 * together.fails_h),
                    within(each, alone.failures.minute),
                    rtol=1e-9,
                )
        self.assertGreater(tripping, 2)
        self.assertGreater(fed, 2)
