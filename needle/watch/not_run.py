"""Loads that a supply does not run: which, why, and the sentences that say so."""

from __future__ import annotations

from collections.abc import Mapping

from needle.message import Message, message
from needle.plan.verdict import UNFIT


def never_run(cannot_run: Mapping[str, str]) -> set[str]:
    """Names of those that no draw runs; the others trip in most draws and run in some."""
    return {name for name, why in cannot_run.items() if why in UNFIT}


def not_run_notices(cannot_run: Mapping[str, str]) -> list[Message]:
    """A sentence for each, from its name and the reason."""
    return [message("not-run-here", load=name, why=why) for name, why in cannot_run.items()]
