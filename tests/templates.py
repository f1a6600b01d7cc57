"""Names that a template uses and that do not exist: each fails the test run."""

from __future__ import annotations

import logging
import os
import tempfile
from pathlib import Path

from django.template.base import VariableDoesNotExist

#: One file for all processes of a run; made by the runner.
_PATH = "STEADY_UNKNOWN_NAMES"


class UnknownNames(logging.Handler):
    """Records the names that Django's templates could not resolve (logged at DEBUG)."""

    def emit(self, record: logging.LogRecord) -> None:
        error = record.exc_info[1] if record.exc_info else None
        if _PATH not in os.environ or not isinstance(error, VariableDoesNotExist):
            return
        name, holder = error.params
        if holder is not None:  # What is None has no parts; the template shows nothing then.
            template = record.args[1] if isinstance(record.args, tuple) else ""
            with Path(os.environ[_PATH]).open("a") as taken_down:
                taken_down.write(f"{template}: {name}\n")


def begin() -> None:
    descriptor, os.environ[_PATH] = tempfile.mkstemp(prefix="steady-needle-names-")
    os.close(descriptor)


def end() -> list[str]:
    """Every name that was not there, with its template."""
    path = Path(os.environ.pop(_PATH))
    names = sorted(set(path.read_text().splitlines()))
    path.unlink()
    return names
