"""``make harden``: kills, mutated input, foreign ids, load, backups and what is pinned, in figures.

``python -m tools.harden [PART] [--kills 1000] [--mutations 100000] [--documents 20000]
[--minutes 10]``
"""

from __future__ import annotations

import argparse
import re
import sqlite3
import subprocess
import tempfile
import threading
import time
from contextlib import closing
from datetime import UTC, datetime
from importlib import metadata
from pathlib import Path

from tools.scale import load_on
from tools.servers import PYTHON, ROOT, environment, postgres, prepare, run, site

#: Pinned packages that meet what strangers send: watch these for advisories.
WATCH = (
    "Django",
    "waitress",
    "gunicorn",
    "pandas",
    "numpy",
    "Pint",
    "fpdf2",
    "Pillow",
    "whitenoise",
    "django-axes",
    "psycopg",
    "redis",
)


def tests(*labels: str, **settings: object) -> None:
    """Run tests of the site with settings in the environment."""
    with tempfile.TemporaryDirectory() as name:
        env = environment(Path(name), **{key: str(value) for key, value in settings.items()})
        run(
            PYTHON,
            "-W",
            "ignore",
            "manage.py",
            "test",
            "--no-input",
            "--parallel",
            "2",
            "--settings",
            "tests.settings",
            *labels,
            env=env,
        )


def kills(count: int) -> None:
    """A third of the kills each during readings, check-ins and samples; imports; backups."""
    print(f"{count} kills of a real server and of the backup command…", flush=True)
    tests("tests.web.test_kill", STEADY_KILLS=max(1, count // 3))


def mutations(count: int) -> None:
    print(f"{count} mutated posts, packages, documents and captures…", flush=True)
    tests("tests.web.test_mutations", STEADY_MUTATIONS=count, STEADY_SEED=int(time.time()))


def documents(count: int) -> None:
    """Valid documents at random: plans, an eighth as many trials, profiles and rounds."""
    print(f"{count} valid plans at random, and trials, profiles and rounds…", flush=True)
    tests(
        "tests.core.test_random_documents",
        STEADY_DOCUMENTS=count,
        STEADY_SEED=int(time.time()) % 10**9,
    )


def addresses() -> None:
    print("Every address as nobody, as another user, with foreign ids…", flush=True)
    tests("tests.web.test_addresses")


def load(minutes: float) -> None:
    """A hundred people, one in ten of them acting, on one process and on four."""
    seconds = int(60 * minutes)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        env = environment(folder)
        prepare(env)
        print(f"100 people for {seconds} s, SQLite and one process…", flush=True)
        with site(env, 1, folder / "log") as address:
            load_on(address, 100, seconds, folder, env)
    with tempfile.TemporaryDirectory() as name, postgres() as url:
        folder = Path(name)
        env = environment(folder, STEADY_DATABASE_URL=url)
        prepare(env)
        print(f"100 people for {seconds} s, PostgreSQL and four processes…", flush=True)
        with site(env, 4, folder / "log") as address:
            load_on(address, 100, seconds, folder, env)


def backups() -> None:
    """Copies made while rows are written are whole; a restored one equals its copy."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        env = environment(folder)
        prepare(env)
        database, stop = folder / "steady-needle.sqlite3", threading.Event()

        def write() -> None:
            with closing(sqlite3.connect(database, timeout=30)) as connection:
                while not stop.is_set():
                    connection.execute("UPDATE loads_load SET note = note || 'x' WHERE id = 1")
                    connection.commit()

        writer = threading.Thread(target=write)
        writer.start()
        copies = [folder / f"copy-{number}.sqlite3" for number in range(5)]
        for copy in copies:
            run(PYTHON, "manage.py", "backup", copy, env=env, stdout=subprocess.DEVNULL)
        stop.set()
        writer.join()
        for copy in copies:
            run(PYTHON, "manage.py", "restore", copy, env=env, stdout=subprocess.DEVNULL)
            equal = _rows(copy) == _rows(database)
            print(f"{copy.name}: whole, and after its restore {'equal' if equal else 'NOT EQUAL'}")
            if not equal:
                raise SystemExit(1)


def _rows(path: Path) -> list[tuple[str, list[tuple[object, ...]]]]:
    with closing(sqlite3.connect(path)) as database:
        names = database.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall()
        return [
            (name, database.execute(f'SELECT * FROM "{name}"').fetchall())
            for (name,) in sorted(names)
            if name != "sqlite_sequence"
        ]


def audit() -> None:
    """What is pinned, since when, and what to watch; asks no network."""
    print(f"{'package':22s}{'pinned':>14s}{'installed':>14s}  pinned since  watch")
    for path in sorted((ROOT / "requirements").glob("*.txt")):
        for name, version in re.findall(r"^([A-Za-z0-9_.\-\[\]]+)==(\S+)", path.read_text(), re.M):
            plain = name.split("[")[0]
            try:
                there = metadata.version(plain)
            except metadata.PackageNotFoundError:
                there = "–"
            mark = "watch" if plain.casefold() in map(str.casefold, WATCH) else ""
            print(
                f"{plain:22s}{version:>14s}{there:>14s}  {_since(path, name, version):12s}  {mark}"
            )


def _since(path: Path, name: str, version: str) -> str:
    """Days since the pin came into the project's history."""
    asked = subprocess.run(
        [
            "git",
            "log",
            "--format=%ct",
            "--reverse",
            f"-S{name}=={version}",
            "--",
            str(path.relative_to(ROOT)),
        ],
        cwd=ROOT,
        capture_output=True,
        text=True,
        check=False,
    ).stdout.split()
    if not asked:
        return "not yet"
    return f"{(datetime.now(UTC).timestamp() - int(asked[0])) / 86_400:.0f} days"


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument(
        "part",
        nargs="?",
        default="all",
        choices=["all", "kills", "mutations", "documents", "addresses", "load", "backups", "audit"],
    )
    parser.add_argument("--kills", type=int, default=1000)
    parser.add_argument("--mutations", type=int, default=100_000)
    parser.add_argument("--documents", type=int, default=20_000)
    parser.add_argument("--minutes", type=float, default=10.0)
    args = parser.parse_args()
    parts = {
        "kills": lambda: kills(args.kills),
        "mutations": lambda: mutations(args.mutations),
        "documents": lambda: documents(args.documents),
        "addresses": addresses,
        "backups": backups,
        "load": lambda: load(args.minutes),
        "audit": audit,
    }
    for name, part in parts.items():
        if args.part in ("all", name):
            part()


if __name__ == "__main__":
    main()
