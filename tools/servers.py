"""Servers that the tools start and stop: a private PostgreSQL cluster, Gunicorn, Waitress.

Only loopback addresses and free ports are used, and only what was started here is stopped.
"""

from __future__ import annotations

import os
import pwd
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PYTHON = sys.executable
#: Longest that a server takes to start, s.
_STARTS_S = 60.0


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port: int = probe.getsockname()[1]
    return port


def run(*command: str | Path, env: dict[str, str], **more: object) -> None:
    """A command of the project, its end awaited."""
    words = [str(word) for word in command]
    subprocess.run(words, cwd=ROOT, env=env, check=True, **more)  # type: ignore[call-overload]


class Server:
    """A program that runs until it is stopped, or killed and begun again as a service would be."""

    def __init__(self, command: list[str], env: dict[str, str], log: Path) -> None:
        self.command, self.env, self.log = command, env, log
        self.begin()

    def begin(self) -> None:
        with self.log.open("ab") as output:
            # A group of its own: its children are killed with it.
            self.process = subprocess.Popen(
                self.command,
                cwd=ROOT,
                env=self.env,
                stdout=output,
                stderr=output,
                start_new_session=True,
            )

    def kill(self) -> None:
        """End it and its children at once, without a word."""
        os.killpg(self.process.pid, signal.SIGKILL)
        self.process.wait()

    def stop(self) -> None:
        self.process.terminate()
        try:
            self.process.wait(20)
        except subprocess.TimeoutExpired:
            self.kill()

    def wait_for(self, is_there: Callable[[], bool]) -> None:
        """Wait until it answers.

        Raises
        ------
        RuntimeError
            It ended, or takes too long.
        """
        until = time.monotonic() + _STARTS_S
        while not is_there():
            if self.process.poll() is not None or time.monotonic() > until:
                raise RuntimeError(f"it did not start: {self.log.read_text()[-2000:]}")
            time.sleep(0.1)


@contextmanager
def running(command: list[str], env: dict[str, str], log: Path) -> Iterator[Server]:
    """A program, stopped at the end."""
    server = Server(command, env, log)
    try:
        yield server
    finally:
        if server.process.poll() is None:
            server.stop()


def postgres_programs() -> Path:
    """The folder of PostgreSQL's programs, the newest of those installed."""
    return sorted(Path("/usr/lib/postgresql").glob("*/bin"))[-1]


@contextmanager
def postgres() -> Iterator[str]:
    """A PostgreSQL cluster in a folder of its own, on loopback, without a password; its URL."""
    programs = postgres_programs()
    folder = Path(tempfile.mkdtemp(prefix="steady-needle-postgres-"))
    # PostgreSQL refuses to run as root: then it runs as Debian's user for it.
    before: list[str] = []
    if os.getuid() == 0:
        account = pwd.getpwnam("postgres")
        os.chown(folder, account.pw_uid, account.pw_gid)
        before = ["runuser", "-u", "postgres", "--"]
    port, data = free_port(), folder / "data"
    try:
        subprocess.run(
            [
                *before,
                str(programs / "initdb"),
                "-D",
                str(data),
                "-U",
                "needle",
                "-A",
                "trust",
                "-E",
                "UTF8",
                "--locale",
                "C.UTF-8",
            ],
            check=True,
            stdout=subprocess.DEVNULL,
            cwd=folder,
        )
        control = [*before, str(programs / "pg_ctl"), "-D", str(data), "-w"]
        start = [*control, "-l", str(folder / "log")]
        options = f"-p {port} -k {folder} -c listen_addresses=127.0.0.1 -c max_connections=200"
        subprocess.run(
            [*start, "-o", options, "start"], check=True, stdout=subprocess.DEVNULL, cwd=folder
        )
        try:
            subprocess.run(
                [
                    str(programs / "createdb"),
                    "-h",
                    "127.0.0.1",
                    "-p",
                    str(port),
                    "-U",
                    "needle",
                    "needle",
                ],
                check=True,
            )
            yield f"postgres://needle@127.0.0.1:{port}/needle"
        finally:
            subprocess.run(
                [*control, "-m", "fast", "stop"], check=False, stdout=subprocess.DEVNULL, cwd=folder
            )
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def gunicorn(port: int, workers: int) -> list[str]:
    """The command of a site of several processes."""
    options = f"--bind 127.0.0.1:{port} --workers {workers} --threads 4 --timeout 120"
    words = f"-m gunicorn web.wsgi:application {options} --keep-alive 75"
    return [PYTHON, *words.split()]


@contextmanager
def site(env: dict[str, str], workers: int, log: Path) -> Iterator[str]:
    """The site by Waitress (one worker) or Gunicorn; its address."""
    port = free_port()
    env = {**env, "STEADY_HOST": "127.0.0.1", "STEADY_PORT": str(port)}
    command = [PYTHON, "-m", "web.serve"] if workers == 1 else gunicorn(port, workers)
    with running(command, env, log) as server:
        address = f"http://127.0.0.1:{port}"
        server.wait_for(lambda: answers(address))
        yield address


def answers(address: str) -> bool:
    try:
        with urllib.request.urlopen(f"{address}/alive/", timeout=5) as answer:
            return bool(answer.status == 200)
    except (urllib.error.URLError, OSError):
        return False


def environment(folder: Path, **more: str) -> dict[str, str]:
    """Settings of a site that keeps its data in a folder, the demo with it."""
    return {
        **os.environ,
        "DJANGO_SETTINGS_MODULE": "web.settings",
        "STEADY_DATA": str(folder),
        "STEADY_DEMO": "true",
        "STEADY_DATABASE_URL": "",
        "STEADY_CACHE_URL": "",
        "STEADY_FILES_URL": "",
        "STEADY_SECRET_KEY": "only-for-this-run",
        "STEADY_TRUSTED_PROXIES": "127.0.0.1",
        **more,
    }


def prepare(env: dict[str, str]) -> None:
    """Database, demo and collected files."""
    for command in (
        ["migrate", "--verbosity", "0"],
        ["demo", "--verbosity", "0"],
        ["collectstatic", "--no-input", "--verbosity", "0"],
    ):
        run(PYTHON, "manage.py", *command, env=env)
