"""Answers of few draws, for tests in which the numbers are not the point."""

from __future__ import annotations

import unittest
from unittest import mock

from needle.plan import answering
from needle.plan.advice import suggestions


def answer_key(key: str, prefix: str, version: int) -> str:
    """A kept answer's key, with its draws: tests share answers, which follow from documents."""
    return f"{prefix}:{version}:{answering.MOST_DRAWS}:{suggestions.PAIRED_DRAWS}:{key}"


class FewDraws(unittest.TestCase):
    """Plans of this class's tests are run with few draws."""

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.enterClassContext(
            mock.patch.multiple(answering, MOST_DRAWS=40, QUICK_DRAWS=20, LEAST_DRAWS=20)
        )
        cls.enterClassContext(mock.patch.multiple(suggestions, PAIRED_DRAWS=12))
