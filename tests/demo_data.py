"""Databases for tests, made once: an empty one, and the demo's, which is copied row by row.

The demo's keys begin far above those that tests make themselves, so that both can be there.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import shutil
import sqlite3
import subprocess
import sys
import tempfile
from contextlib import closing
from pathlib import Path
from typing import Any

from django.contrib.auth import get_user_model
from django.contrib.auth.hashers import make_password
from django.core.management import call_command
from django.db import connection, transaction

from web.demo.scenario import PASSWORD, USERNAME

ROOT = Path(__file__).resolve().parent.parent
#: Kept between runs while no source changes.
_FOLDER = Path(tempfile.gettempdir()) / f"steady-needle-demo-{os.getuid()}"
FIRST_KEY = 100_000
DATABASE = "steady-needle.sqlite3"
_LEFT_OUT = {
    "django_migrations",
    "django_content_type",
    "auth_permission",
    "steady_cache",
    "django_session",
}
_MAKING = f"""
import os
import django
django.setup()
from django.core.management import call_command
from django.db import connection
call_command("migrate", verbosity=0)
with connection.cursor() as cursor:
    cursor.execute("VACUUM INTO %s", [os.path.join(os.environ["STEADY_DATA"], "empty")])
    cursor.execute("DELETE FROM sqlite_sequence")
    for table in connection.introspection.table_names():
        cursor.execute("INSERT INTO sqlite_sequence (name, seq) VALUES (%s, {FIRST_KEY})", [table])
call_command("demo", verbosity=0)
with connection.cursor() as cursor:
    cursor.execute("PRAGMA wal_checkpoint(TRUNCATE)")
"""


def empty_database(folder: Path) -> None:
    """Put a migrated database without a row of its own into a site's data folder."""
    shutil.copy(_made() / "empty", folder / DATABASE)


def _made() -> Path:
    """The folder with both databases; whoever comes first makes them."""
    digest = hashlib.sha256()
    for folder in ("needle", "web"):
        for path in sorted((ROOT / folder).rglob("*.py")):
            digest.update(path.read_bytes())
    _FOLDER.mkdir(mode=0o700, exist_ok=True)
    made = _FOLDER / digest.hexdigest()[:16]
    with (_FOLDER / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (made / "whole").exists():
            env = {
                **os.environ,
                "DJANGO_SETTINGS_MODULE": "web.settings",
                "STEADY_DATA": str(made),
                "STEADY_SECRET_KEY": "only-for-tests",
                "STEADY_DATABASE_URL": "",
                "STEADY_FILES_URL": "",
            }
            made.mkdir(exist_ok=True)
            for name in ("empty", DATABASE):
                (made / name).unlink(missing_ok=True)
            subprocess.run([sys.executable, "-c", _MAKING], env=env, cwd=ROOT, check=True)
            (made / "whole").touch()
    return made


_rows: dict[str, tuple[list[str], list[tuple[Any, ...]]]] = {}


def _read() -> dict[str, tuple[list[str], list[tuple[Any, ...]]]]:
    """Columns and rows of every table of the demo."""
    if not _rows:
        with closing(sqlite3.connect(_made() / DATABASE)) as database:
            names = database.execute(
                "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'"
            ).fetchall()
            for (name,) in names:
                if name not in _LEFT_OUT:
                    rows = database.execute(f'SELECT * FROM "{name}"')
                    columns = [column[0] for column in rows.description]
                    if rows := rows.fetchall():
                        _rows[name] = columns, rows
    return _rows


def load_demo() -> None:
    """Put the demo account with its jobs into the test's database."""
    if connection.vendor != "sqlite":
        call_command("demo", verbosity=0)
        return
    with (
        transaction.atomic(),
        connection.cursor() as cursor,
        connection.constraint_checks_disabled(),
    ):
        for table, (columns, rows) in _read().items():
            names = ", ".join(f'"{name}"' for name in columns)
            places = ", ".join(["%s"] * len(columns))
            cursor.executemany(f'INSERT INTO "{table}" ({names}) VALUES ({places})', rows)
    # Tests hash passwords another way than the site does.
    users = get_user_model().objects.filter(username=USERNAME)
    users.update(password=make_password(PASSWORD))
