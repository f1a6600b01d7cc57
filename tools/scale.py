"""``make scale``: the site on PostgreSQL: its tests, a load on it, and parts of it killed.

``python -m tools.scale [--only tests|load|objects|kills] [--people N] [--seconds N] [--one]``

The kills: two servers behind a proxy, two queue workers, PostgreSQL, Redis, and photos in a server
of objects. While people work, a worker, a server and Redis are killed in turn, each begun again ten
seconds later as a service manager does. Wanted: no acknowledged reading or photo lost, nobody sees
errors for more than ten seconds, and answers go on. At the end the database is dumped, restored
beside, and compared.
"""

from __future__ import annotations

import argparse
import csv
import json
import subprocess
import tempfile
import threading
import time
from collections import defaultdict
from pathlib import Path
from typing import Any

from tools.cluster import Cluster, cluster
from tools.objects import object_server, objects_on
from tools.servers import PYTHON, environment, postgres, postgres_programs, prepare, run, site

#: Longest that anybody may see errors for, s.
MOST_ERRORS_S = 10.0
#: How long a part stays away that was killed, s.
AWAY_S = 10.0
#: Accounts that the people share, several at each.
ACCOUNTS = 20
_ACCOUNTS = f"""
import os
import django
django.setup()
from django.test import Client
from web.demo.visits import VISITORS, new_visitor
with open(os.environ["STEADY_SCALE_SESSIONS"], "w") as file:
    for number in range({ACCOUNTS}):
        client = Client()
        client.force_login(new_visitor(VISITORS))
        print(client.cookies["sessionid"].value, file=file)
"""
#: Prints the watts of each spot reading whose photo is there, in both sizes.
_PHOTOS = """
import django
django.setup()
from web.loads.models import Photo
for photo in Photo.objects.select_related("reading").filter(reading__type="spot").iterator():
    if bytes(photo.large) and bytes(photo.small):
        print(photo.reading.data.get("watts"))
"""


def locust(
    script: str, address: str, people: int, seconds: int, results: Path, env: dict[str, str]
) -> None:
    """Let people at the site, for some seconds."""
    options = f"--headless --only-summary --exit-code-on-error 0 --loglevel ERROR -u {people}"
    rate = max(2, people // 20)
    words = f"-m locust -f {script} --host {address} {options} -r {rate} -t {seconds}s"
    run(PYTHON, *words.split(), "--csv", results, env=env, stdout=-3, stderr=-3)


def load_on(address: str, people: int, seconds: int, folder: Path, env: dict[str, str]) -> bool:
    """Let people look at the site; prints what they met. Whether nothing failed."""
    results = folder / "load"
    locust("tools/load.py", address, people, seconds, results, env)
    with Path(f"{results}_stats.csv").open() as file:
        rows = list(csv.DictReader(file))
    empty = next((float(row["95%"]) for row in rows if row["Name"] == "an empty view"), 1.0)
    print(f"{'':24s}{'requests':>9s}{'failed':>8s}{'median':>9s}{'95 %':>9s}{'ratio':>7s}")
    for row in sorted(rows, key=lambda row: -float(row["95%"] or 0)):
        slowest = float(row["95%"] or 0)
        print(
            f"{row['Name']:24s}{row['Request Count']:>9s}{row['Failure Count']:>8s}"
            f"{float(row['50%'] or 0):7.0f} ms{slowest:6.0f} ms{slowest / max(1.0, empty):7.1f}"
        )
    failures = Path(f"{results}_failures.csv").read_text().splitlines()[1:]
    for line in failures[:10]:
        print("  failed:", line[:160])
    return not failures


def kill_parts(parts: Cluster, seconds: float, done: threading.Event) -> None:
    """Kill a worker, a server and Redis in turn, spread over the run."""
    pause = seconds / 5
    for name, server in (
        ("a worker", parts.workers[0]),
        ("a server", parts.servers[0]),
        ("Redis", parts.redis),
    ):
        if done.wait(pause):
            return
        print(f"  {time.strftime('%H:%M:%S')} {name} is killed", flush=True)
        server.kill()
        time.sleep(AWAY_S)
        server.begin()


def longest_errors_s(notes: list[dict[str, Any]]) -> float:
    """The longest time between an error that somebody saw and their next page without one, s.

    Pauses in which they asked for nothing are left out: only answers count.
    """
    longest = 0.0
    by_person = defaultdict(list)
    for note in notes:
        by_person[note["who"]].append(note)
    for theirs in by_person.values():
        since = None
        for note in sorted(theirs, key=lambda note: note["at"]):
            failed = note["status"] == 0 or note["status"] >= 500
            if failed:
                since = note["at"] if since is None else since
                longest = max(longest, note["at"] - since)
            else:
                since = None
    return longest


def tables_of(url: str) -> dict[str, int]:
    """Rows of each table of a PostgreSQL database."""
    import psycopg

    with psycopg.connect(url.replace("postgres://", "postgresql://")) as connection:
        names = connection.execute(
            "SELECT tablename FROM pg_tables WHERE schemaname = 'public' ORDER BY 1"
        ).fetchall()
        counted = {}
        for (name,) in names:
            row = connection.execute(f'SELECT count(*) FROM "{name}"').fetchone()
            counted[name] = row[0] if row else 0
    return counted


def kept_watts(url: str) -> set[float]:
    """Watts of all spot readings in a database."""
    import psycopg

    with psycopg.connect(url.replace("postgres://", "postgresql://")) as connection:
        rows = connection.execute("SELECT data FROM loads_reading WHERE type = 'spot'").fetchall()
    datas = (row[0] if isinstance(row[0], dict) else json.loads(row[0]) for row in rows)
    return {round(float(data["watts"]), 6) for data in datas if "watts" in data}


def kept_photos(env: dict[str, str]) -> set[float]:
    """Watts of all spot readings whose photos can be fetched."""
    command = [PYTHON, "-c", _PHOTOS]
    ended = subprocess.run(command, env=env, check=True, capture_output=True, text=True)
    return {round(float(watts), 6) for watts in ended.stdout.split()}


def restored(url: str, folder: Path) -> bool:
    """Dump a database, restore it beside itself, and compare them. Whether they are alike."""
    programs, dump = postgres_programs(), folder / "dump"
    beside = url.rsplit("/", 1)[0] + "/restored"
    for command in (
        ["pg_dump", "-Fc", "-f", str(dump), url],
        ["createdb", "--maintenance-db", url, "restored"],
        ["pg_restore", "--no-owner", "-d", beside, str(dump)],
    ):
        subprocess.run([str(programs / command[0]), *command[1:]], check=True, cwd=folder)
    alike = tables_of(url) == tables_of(beside) and kept_watts(url) == kept_watts(beside)
    print(
        f"  dumped {dump.stat().st_size / 1e6:.1f} MB and restored: {'alike' if alike else 'NOT'}"
    )
    return alike


def kills_on(people: int, seconds: int, folder: Path, url: str) -> bool:
    """People at work while parts are killed; prints what they met. Whether all was as wanted."""
    notes = folder / "notes"
    files = {"STEADY_SCALE_NOTES": str(notes), "STEADY_SCALE_SESSIONS": str(folder / "sessions")}
    with object_server(folder) as objects:
        env = environment(folder, STEADY_DATABASE_URL=url, STEADY_FILES_URL=objects, **files)
        prepare(env)
        run(PYTHON, "-c", _ACCOUNTS, env=env)
        done = threading.Event()
        with cluster(env, folder) as parts:
            print(f"{people} people for {seconds} s, two servers, two workers…", flush=True)
            killing = threading.Thread(target=kill_parts, args=(parts, seconds, done))
            killing.start()
            locust("tools/load_kills.py", parts.address, people, seconds, folder / "kills", env)
            done.set()
            killing.join()
        photographed = kept_photos(env)
    seen = [json.loads(line) for line in notes.read_text().splitlines()]
    failed = [note for note in seen if note["status"] == 0 or note["status"] >= 500]
    acknowledged = {note["watts"] for note in seen if "watts" in note}
    with_photo = {note["watts"] for note in seen if note.get("photo")}
    lost, lost_photos = acknowledged - kept_watts(url), with_photo - photographed
    errors_s = longest_errors_s(seen)
    late = sorted(note["seconds"] for note in seen if note["status"])
    last = [note for note in seen if note["at"] > seen[-1]["at"] - seconds / 10]
    went_on = any(note["what"] == "answer/" and note["status"] == 200 for note in last)
    print(
        f"  {len(seen)} requests, {len(failed)} failed, median {late[len(late) // 2]:.2f} s, 95 % "
        f"{late[int(0.95 * len(late))]:.2f} s\n"
        f"  {len(acknowledged)} readings acknowledged, {len(lost)} lost; "
        f"{len(with_photo)} of them with a photo, {len(lost_photos)} lost\n"
        f"  longest that anybody saw errors: {errors_s:.1f} s (wanted: {MOST_ERRORS_S:g})\n"
        f"  answers at the end: {'yes' if went_on else 'NO'}"
    )
    kept = not lost and not lost_photos
    return restored(url, folder) and kept and errors_s <= MOST_ERRORS_S and went_on


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--people", type=int)
    parser.add_argument("--seconds", type=int)
    parser.add_argument("--only", choices=("tests", "load", "objects", "kills"))
    parser.add_argument("--one", action="store_true", help="the load on SQLite and one process")
    args = parser.parse_args()
    people, seconds = args.people or 100, args.seconds or 60
    fine = True
    with tempfile.TemporaryDirectory(prefix="steady-needle-scale-") as name:
        folder = Path(name)
        if args.one:
            env = environment(folder)
            prepare(env)
            with site(env, 1, folder / "log") as address:
                fine = load_on(address, people, seconds, folder, env)
        if not args.one and args.only in (None, "tests"):
            with postgres() as url:
                print("The site's tests on PostgreSQL…", flush=True)
                test = ["test", "--no-input", "--settings", "tests.settings", "tests.web"]
                run(PYTHON, "manage.py", *test, env=environment(folder, STEADY_DATABASE_URL=url))
        if not args.one and args.only in (None, "load"):
            with postgres() as url:
                env = environment(folder, STEADY_DATABASE_URL=url)
                prepare(env)
                with site(env, 4, folder / "log") as address:
                    print(f"{people} people for {seconds} s on four workers…", flush=True)
                    fine = load_on(address, people, seconds, folder, env)
        if not args.one and args.only in (None, "objects"):
            beside = folder / "objects"
            beside.mkdir()
            print("Photos and captures in a server of objects…", flush=True)
            fine = objects_on(beside) and fine
        if not args.one and args.only in (None, "kills"):
            with postgres() as url:
                beside = folder / "kills"
                beside.mkdir()
                people, seconds = args.people or 200, args.seconds or 180
                fine = kills_on(people, seconds, beside, url) and fine
    raise SystemExit(0 if fine else "Some requests failed.")


if __name__ == "__main__":
    main()
