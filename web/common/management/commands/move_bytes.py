"""``manage.py move_bytes``: photos, captures and uploads into the storage that is set, or back."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from web.common.stored_bytes import BytesUnreachableError, move_bytes, storage


class Command(BaseCommand):
    help = (
        "Move the bytes of photos, captures and uploads from the database into the storage that "
        "STEADY_FILES_URL names, or with --back into the database. The site may run meanwhile; "
        "what was interrupted goes on where it was."
    )

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--back", action="store_true", help="into the database")

    def handle(self, *args: Any, **options: Any) -> None:
        if storage() is None:
            raise CommandError("Set STEADY_FILES_URL first.")
        moved = size = 0
        try:
            for length in move_bytes(options["back"]):
                moved, size = moved + 1, size + length
        except BytesUnreachableError as error:
            raise CommandError(f"{moved} were moved, then: {error}") from error
        where = "into the database" if options["back"] else "into the storage"
        self.stdout.write(f"{moved} moved {where}, {size / 1e6:.1f} MB.")
