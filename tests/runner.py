"""The test runner: in parallel, with the slowest tests named at the end."""

from __future__ import annotations

import os
import tempfile
import time
import unittest
from pathlib import Path
from typing import Any

from django.test.runner import DiscoverRunner

from tests import templates
from web.serve import settle_memory

#: Tests named at the end.
NAMED = 15


class TimedRunner(DiscoverRunner):
    """Django's, which also says what took long. (Python tells durations itself from 3.12 on.)"""

    def run_tests(self, test_labels: list[str], **kwargs: Any) -> int:
        """A name that a template uses and that does not exist counts as a failure."""
        templates.begin()
        failures = super().run_tests(test_labels, **kwargs)
        unknown = templates.end()
        if unknown:
            print("Names that templates use and that do not exist:", *unknown, sep="\n  ")
        return failures + len(unknown)

    def setup_test_environment(self, **kwargs: Any) -> None:
        super().setup_test_environment(**kwargs)
        # Every worker begins with what is loaded here, and makes and drops millions of objects.
        settle_memory()
        handle, name = tempfile.mkstemp(prefix="steady-needle-times-")
        os.close(handle)
        self.times = Path(name)
        self.plain_run = unittest.TestCase.run
        plain_run, times = self.plain_run, self.times

        def run(case: unittest.TestCase, result: Any = None) -> Any:
            began = time.perf_counter()
            try:
                return plain_run(case, result)
            finally:
                seconds = time.perf_counter() - began
                # Every worker writes here: one line is one write.
                with times.open("a") as file:
                    file.write(f"{seconds:7.1f} s  {case.id()}\n")

        unittest.TestCase.run = run  # type: ignore[method-assign]

    def teardown_test_environment(self, **kwargs: Any) -> None:
        super().teardown_test_environment(**kwargs)
        unittest.TestCase.run = self.plain_run  # type: ignore[method-assign]
        lines = sorted(self.times.read_text().splitlines(), reverse=True)
        floors: dict[str, float] = {}
        for line in lines:
            floor = ".".join(line.split()[2].split(".")[1:3])
            floors[floor] = floors.get(floor, 0.0) + float(line.split()[0])
        print("Slowest tests:", *lines[:NAMED], sep="\n")
        longest = sorted(floors.items(), key=lambda item: -item[1])[:NAMED]
        print("Longest modules:", *(f"{took:7.1f} s  {name}" for name, took in longest), sep="\n")
        self.times.unlink()
