"""What an answer uses: readings, tests, runs, and what is unused."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from functools import lru_cache

from django.urls import reverse
from django.utils import timezone

from needle.document import DocumentError
from needle.ledger import LedgerEntry
from needle.plan.documents.ledger import tests_ledger
from needle.plan.load import AC
from needle.profile.ledger import readings_ledger
from web.common.units import said
from web.loads.models import Load
from web.loads.words import row_of
from web.plans.draft import Draft, newest_of
from web.plans.honesty import spread_factor_of
from web.plans.used import UsedLoad
from web.supplies.models import StartTest


@dataclass(frozen=True)
class RestLine:
    """One input: what it is, its link, its use or why it is unused."""

    what: str
    url: str
    text: str
    used: bool


@dataclass(frozen=True)
class Rests:
    """What an answer uses, in the order of the document."""

    lines: Sequence[RestLine] = ()
    counts: dict[str, int] = field(default_factory=dict)

    @property
    def used(self) -> list[RestLine]:
        return [line for line in self.lines if line.used]

    @property
    def left_out(self) -> list[RestLine]:
        return [line for line in self.lines if not line.used]

    @property
    def summary(self) -> str:
        """For example ``31 readings, 3 tests, 1 run; 2 unused``."""
        told = [_many(number, word) for word, number in self.counts.items() if number]
        words = ", ".join(told) or "nothing measured yet"
        out = len(self.left_out)
        return f"{words}; {out} not used" if out else words


def _many(number: int, word: str) -> str:
    return f"{number} {word}" if number == 1 else f"{number} {word}s"


def rests_of(draft: Draft) -> Rests:
    """What a plan's answer uses: readings of its loads, tests and runs of its supply."""
    readings = [
        line
        for used in draft.used
        if used.entry.taken_in
        for line in _of_readings(used.load, used.setting)
    ]
    tests = [*_of_tests(draft), *_of_starts(draft)]
    runs = list(_of_runs(draft))
    asked = [_not_counted(used, why) for used in draft.used if (why := used.why_not_counted)]
    counts = {
        "reading": sum(line.used for line in readings),
        "test": sum(line.used for line in tests),
        "run": sum(line.used for line in runs),
    }
    return Rests([*asked, *readings, *tests, *runs], counts)


def _not_counted(used: UsedLoad, why: str) -> RestLine:
    url = reverse("loads:load", args=[used.load.job_id, used.load.pk])
    return RestLine(used.name, url, why, False)


def _of_readings(load: Load, setting: str) -> Iterable[RestLine]:
    url = reverse("loads:load", args=[load.job_id, load.pk])
    entries = readings_ledger(load.to_core(setting))
    for reading, entry in zip(load.known_readings(), entries, strict=False):
        what = f"{load.name}: {reading.get_type_display()}, {row_of(reading, ()).says}"
        yield _line(entry, what, url)


def _line(entry: LedgerEntry, what: str, url: str) -> RestLine:
    return RestLine(what, url, said(entry.said), entry.used)


def _of_tests(draft: Draft) -> Iterable[RestLine]:
    supply = draft.supply
    if supply is None or supply.pk is None:
        return
    url = reverse("supplies:supply", args=[supply.job_id, supply.pk])
    carried = {run.trial.carried_test_id for run in draft.runs if run.document is not None}
    names = [used.name for used in draft.used if used.counted]
    try:
        entries = _ledger_of_tests(json.dumps(supply.to_document()), tuple(names))
    except DocumentError:
        return
    for test, entry in zip(supply.known_tests(), entries, strict=False):
        on = timezone.localtime(test.tested_at)
        what = f"{supply.name}: {test.get_type_display()} of {on.day} {on:%b %Y}"
        if test.pk in carried:
            yield RestLine(what, url, "the run that it came from counts itself", False)
        else:
            yield _line(entry, what, url)


@lru_cache(maxsize=256)
def _ledger_of_tests(supply: str, names: tuple[str, ...]) -> list[LedgerEntry]:
    """What plans use of a supply's tests, by its document as JSON: it is read once for each."""
    return tests_ledger(json.loads(supply), names)


def _of_starts(draft: Draft) -> Iterable[RestLine]:
    """Start tests on the plan's supply: the newest of each load counts, on AC, in its setting."""
    if draft.supply is None or draft.supply.pk is None:
        return
    url = reverse("matching:starts", args=[draft.plan.job.pk])
    by_load = {used.load.pk: used for used in draft.used}
    tests = list(draft.supply.start_tests.live().select_related("load"))
    newest = newest_of(tests)
    for test in tests:
        what = f"{test.load}: start test, {test.get_result_display()}"
        newer = newest[test.load_id] != test
        why = _why_unused(test, by_load.get(test.load_id), newer)
        yield RestLine(what, url, why or "its start", not why)


def _why_unused(test: StartTest, used: UsedLoad | None, newer: bool) -> str:
    """Why a start test is not used in a plan; empty if it is."""
    if used is None or not used.counted:
        return "the load is not counted in this plan"
    if newer:
        return "a newer start test replaces it"
    if used.route != AC:
        return "the load is not on AC in this plan"
    if test.setting not in ("", used.setting):
        return f"made in the setting “{test.setting}”"
    return ""


def _of_runs(draft: Draft) -> Iterable[RestLine]:
    factor = spread_factor_of(draft.plan.job)
    if factor != 1:
        url = reverse("trials:index", args=[draft.plan.job.pk])
        words = f"all ranges are {factor:.1f} times as wide as the rest alone gives"
        yield RestLine("How earlier runs ended", url, words, True)
    for run in draft.runs:
        on = timezone.localtime(run.trial.started_at)
        what = f"{run.trial}: run of {on.day} {on:%b %Y}"
        url = reverse("trials:trial", args=[draft.plan.job.pk, run.trial.pk])
        if run.document is not None:
            yield RestLine(what, url, "what really ran on this supply", True)
        else:
            yield RestLine(what, url, run.why_not, False)
