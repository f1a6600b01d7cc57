"""``manage.py backup FILE``: copy the database while the site runs."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.db import connection


class Command(BaseCommand):
    help = "Copy the database to a file, whole, while the site runs (SQLite's online backup)."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("file", type=Path)

    def handle(self, *args: Any, **options: Any) -> None:
        target: Path = options["file"]
        if connection.vendor != "sqlite":
            raise CommandError("This is for SQLite; see docs/deploy.md for another database.")
        if target.exists():
            raise CommandError(f"{target} exists already: give another name.")
        unfinished = target.with_name(f"{target.name}.unfinished")
        connection.ensure_connection()
        with closing(sqlite3.connect(unfinished)) as copy:
            connection.connection.backup(copy)
        # Only a whole copy ever has the name that was asked for.
        unfinished.replace(target)
        self.stdout.write(f"Copied to {target}.")
