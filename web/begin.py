"""``python -m web.begin``: create whatever the demo lacks, then serve it.

A single process does everything and skips what exists, so that a second start is quick.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

from web.first_start import BASE, environment, prepare
from web.serve import main as serve
from web.serve import refuse_if_taken


def main() -> None:
    """Create data folder, database, demo and collected files if missing, and serve."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "web.settings")
    os.umask(0o077)
    env, folder = environment()
    prepare(folder)
    refuse_if_taken(env.str("STEADY_HOST", "127.0.0.1"), env.int("STEADY_PORT", 8000))
    import django

    django.setup()
    from django.core.management import CommandError, call_command

    if _lacks_migrations():
        print("Making the database…", flush=True)
        try:
            call_command("migrate", verbosity=0)
        except CommandError as error:
            sys.exit(str(error))
    if _lacks_demo():
        print("Making the demo from its simulated appliances, about ten seconds…", flush=True)
        call_command("demo", verbosity=0)
    if _files_changed(folder / "static" / "staticfiles.json"):
        print("Collecting styles, scripts and fonts…", flush=True)
        call_command("collectstatic", interactive=False, verbosity=0)
    serve()


def _lacks_migrations() -> bool:
    from django.db import connection
    from django.db.migrations.executor import MigrationExecutor

    from web.common.apps import BEFORE_FIRST_RELEASE

    executor = MigrationExecutor(connection)
    if BEFORE_FIRST_RELEASE in executor.loader.applied_migrations:
        return True
    return bool(executor.migration_plan(executor.loader.graph.leaf_nodes()))


def _lacks_demo() -> bool:
    from web.demo.models import PreparedJob

    return not PreparedJob.objects.exists()


def _files_changed(manifest: Path) -> bool:
    """Whether a file of the site is newer than the collected ones."""
    if not manifest.is_file():
        return True
    collected = manifest.stat().st_mtime
    return any(path.stat().st_mtime > collected for path in (BASE / "web" / "static").rglob("*"))


if __name__ == "__main__":
    main()
