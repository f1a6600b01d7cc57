"""``manage.py restore FILE``: replace the database by a copy made by ``backup``."""

from __future__ import annotations

import sqlite3
import tempfile
from contextlib import closing
from pathlib import Path
from typing import Any

from django.apps import apps
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.db import connection, connections
from django.db.migrations.loader import MigrationLoader
from django.utils import timezone

from web.common.apps import BEFORE_FIRST_RELEASE, TOO_OLD

#: The name of the connection on which a copy is tried.
_TRIED = "tried"


class Command(BaseCommand):
    help = (
        "Put a backup in the place of the database, once it was seen to be whole. Stop the site "
        "first. The database that is replaced is kept beside it."
    )

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("file", type=Path)

    def handle(self, *args: Any, **options: Any) -> None:
        source: Path = options["file"]
        if connection.vendor != "sqlite":
            raise CommandError("This is for SQLite; see docs/deploy.md for another database.")
        if not source.is_file():
            raise CommandError(f"{source} is not there.")
        with tempfile.TemporaryDirectory() as folder:
            tried = Path(folder) / "tried.sqlite3"
            _copy(source, tried)
            _check_whole(tried, source)
            _bring_up_to_date(tried, source)
            kept = self._keep_what_is_there()
            with closing(sqlite3.connect(tried)) as copy:
                connection.ensure_connection()
                copy.backup(connection.connection)
        self.stdout.write(f"Restored from {source}.")
        if kept is not None:
            self.stdout.write(f"What was there is kept as {kept}.")

    def _keep_what_is_there(self) -> Path | None:
        """Copy the database that is about to be replaced."""
        if "jobs_job" not in connection.introspection.table_names():
            return None
        kept = _beside()
        call_command("backup", kept, stdout=self.stdout)
        return kept


def _beside() -> Path:
    """A new file name next to the database."""
    database = Path(str(connection.settings_dict["NAME"]))
    return database.with_name(f"replaced-{timezone.now():%Y-%m-%d-%H%M%S-%f}.sqlite3")


def _copy(source: Path, target: Path) -> None:
    try:
        with (
            closing(sqlite3.connect(f"file:{source}?mode=ro&immutable=1", uri=True)) as old,
            closing(sqlite3.connect(target)) as new,
        ):
            old.backup(new)
    except sqlite3.DatabaseError:
        raise CommandError(f"{source} is no whole copy of this site's database.") from None


def _check_whole(tried: Path, source: Path) -> None:
    """Refuse a file that is damaged, not from this site, or from a newer version."""
    with closing(sqlite3.connect(tried)) as copy:
        try:
            fine = copy.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
            fine = fine and copy.execute("PRAGMA foreign_key_check").fetchone() is None
            applied = set(copy.execute("SELECT app, name FROM django_migrations"))
        except sqlite3.DatabaseError:
            fine, applied = False, set()
    known = set(MigrationLoader(None, ignore_no_migrations=True).disk_migrations)
    if not fine or ("jobs", "0001_initial") not in applied:
        raise CommandError(f"{source} is no whole copy of this site's database.")
    if BEFORE_FIRST_RELEASE in applied:
        raise CommandError(f"{source} {TOO_OLD}")
    if newer := sorted(applied - known):
        app, name = newer[0]
        raise CommandError(
            f"{source} comes from a newer version of this site (it knows {app} {name}): "
            "bring the site up to date first."
        )


def _bring_up_to_date(tried: Path, source: Path) -> None:
    """Migrate the copy, and check that every table and column exists."""
    connections.databases[_TRIED] = {**connections.databases["default"], "NAME": str(tried)}
    try:
        call_command("migrate", database=_TRIED, verbosity=0)
        other = connections[_TRIED]
        with other.cursor() as cursor:
            tables = set(other.introspection.table_names(cursor))
            for model in apps.get_models(include_auto_created=True):
                table = model._meta.db_table
                described = (
                    other.introspection.get_table_description(cursor, table)
                    if table in tables
                    else []
                )
                lacking = {field.column for field in model._meta.concrete_fields} - {
                    column.name for column in described
                }
                if lacking:
                    first = sorted(map(str, lacking))[0]
                    raise CommandError(f"{source} lacks {table}.{first}: it is not whole.")
    except CommandError:
        raise
    except Exception as error:
        raise CommandError(f"{source} cannot be brought up to date: {error}") from None
    finally:
        connections[_TRIED].close()
        del connections[_TRIED]
        del connections.databases[_TRIED]
