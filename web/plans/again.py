"""Outdated measurements that an answer depends on."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date, datetime

from django.utils import timezone

from needle.profile.advice import OLD
from needle.supply.supply_tests import CapacityTest, IdleTest
from web.plans.outcomes import Answer

#: Share of the draw under which a load is not worth it.
LEAST_SHARE = 0.05


def measure_again(answer: Answer) -> list[str]:
    """Sentences on old measurements that matter to the answer, the most important first."""
    return [*_loads(answer), *_supply(answer)]


def _loads(answer: Answer) -> Iterator[str]:
    energy = answer.outcome.likely.energy_wh["loads"] if answer.outcome else {}
    total = sum(energy.values())
    for used_load in sorted(answer.used, key=lambda used: -energy.get(used.name, 0.0)):
        profile = used_load.profile
        if not used_load.counted or profile is None or profile.newest_at is None:
            continue
        if total and energy.get(used_load.name, 0.0) < LEAST_SHARE * total:
            continue
        if timezone.now() - profile.newest_at > OLD:
            yield f"{used_load.name}: last read in {timezone.localtime(profile.newest_at):%B %Y}"


def _supply(answer: Answer) -> Iterator[str]:
    if answer.supply is None:
        return
    named = {CapacityTest: "what it holds", IdleTest: "its idle draw"}
    tests = answer.supply.to_core().tests
    for kind, words in named.items():
        days = [test.on for test in tests if isinstance(test, kind) and test.on]
        if days and timezone.localdate() - date.fromisoformat(max(days)) > OLD:
            tested = datetime.fromisoformat(max(days))
            yield f"{answer.supply.name}, {words}: last tested in {tested:%B %Y}"
