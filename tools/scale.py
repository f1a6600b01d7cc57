"""``make scale``: the site on PostgreSQL with four workers: its tests, and a load on it.

``python -m tools.scale [--people 100] [--seconds 60] [--no-tests]``
"""

from __future__ import annotations

import argparse
import csv
import tempfile
from pathlib import Path

from tools.servers import PYTHON, environment, postgres, prepare, run, site


def load_on(address: str, people: int, seconds: int, folder: Path, env: dict[str, str]) -> bool:
    """Let people look at the site; prints what they met. Whether nothing failed."""
    results = folder / "load"
    run(
        PYTHON,
        "-m",
        "locust",
        "-f",
        "tools/load.py",
        "--headless",
        "--host",
        address,
        "-u",
        str(people),
        "-r",
        "2",
        "-t",
        f"{seconds}s",
        "--csv",
        results,
        "--only-summary",
        "--exit-code-on-error",
        "0",
        "--loglevel",
        "ERROR",
        env=env,
        stdout=-3,
        stderr=-3,
    )
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


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--people", type=int, default=100)
    parser.add_argument("--seconds", type=int, default=60)
    parser.add_argument("--no-tests", action="store_true")
    parser.add_argument("--one", action="store_true", help="SQLite and one process instead")
    args = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="steady-needle-scale-") as name:
        folder = Path(name)
        if args.one:
            env = environment(folder)
            prepare(env)
            with site(env, 1, folder / "log") as address:
                fine = load_on(address, args.people, args.seconds, folder, env)
        else:
            with postgres() as url:
                env = environment(folder, STEADY_DATABASE_URL=url)
                if not args.no_tests:
                    print("The site's tests on PostgreSQL…", flush=True)
                    run(
                        PYTHON,
                        "manage.py",
                        "test",
                        "--no-input",
                        "--settings",
                        "tests.settings",
                        "tests.web",
                        env=env,
                    )
                prepare(env)
                with site(env, 4, folder / "log") as address:
                    print(f"{args.people} people for {args.seconds} s on four workers…", flush=True)
                    fine = load_on(address, args.people, args.seconds, folder, env)
    raise SystemExit(0 if fine else "Some requests failed.")


if __name__ == "__main__":
    main()
