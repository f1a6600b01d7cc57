"""Long writes that take turns, so that short ones between them never wait for long."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from django.core.files import locks
from django.db import connection


@contextmanager
def one_at_a_time(name: str) -> Iterator[None]:
    """Wait until no other process or thread of this machine is within the same turn.

    A database with one writer lets those who wait for it fail after a while, and is not fair; a
    file's lock waits as long as it takes, without holding the database. Others need no turns.
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
