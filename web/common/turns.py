"""Locks for long writes, so that short writes in between do not wait for long."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from django.core.files import locks
from django.db import connection


@contextmanager
def one_at_a_time(name: str) -> Iterator[None]:
    """Wait until no other process or thread of this machine holds the lock.

    A database with a single writer makes waiting writers fail after a while, in no fair order; a
    file lock waits as long as needed without blocking the database. Other databases need no lock.
    """
    if connection.vendor != "sqlite":
        yield
        return
    beside = Path(str(connection.settings_dict["NAME"])).parent
    with (beside / f"steady-needle-{name}.turn").open("w") as file:
        locks.lock(file, locks.LOCK_EX)
        try:
            yield
        finally:
            locks.unlock(file)
