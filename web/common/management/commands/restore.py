"""``manage.py restore FILE``: put a copy made by ``backup`` in the place of the database."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.db import connection


class Command(BaseCommand):
    help = "Put a backup in the place of the database. Stop the site first."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("file", type=Path)

    def handle(self, *args: Any, **options: Any) -> None:
        source: Path = options["file"]
        if not source.is_file():
            raise CommandError(f"{source} is not there.")
        with closing(sqlite3.connect(f"file:{source}?mode=ro", uri=True)) as copy:
            try:
                fine = copy.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
                known = copy.execute(
                    "SELECT count(*) FROM sqlite_master WHERE name = 'jobs_job'"
                ).fetchone()[0]
            except sqlite3.DatabaseError:
                fine, known = False, 0
            if not fine or not known:
                raise CommandError(f"{source} is no whole copy of this site's database.")
            connection.ensure_connection()
            copy.backup(connection.connection)
        self.stdout.write(f"Restored from {source}.")
