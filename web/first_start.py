"""Data folder and secret key, created before Django starts.

Run as ``python -m web.first_start``; the settings only read.
"""

from __future__ import annotations

import os
import secrets
from pathlib import Path

import environ

BASE = Path(__file__).resolve().parent.parent


def data_folder(env: environ.Env) -> Path:
    """Where the site keeps its data."""
    return (BASE / str(env.str("STEADY_DATA", ".data"))).resolve()


def prepare(folder: Path) -> Path:
    """Create the folder, private to its owner, and a secret key unless there is one.

    The key is written to a temporary file and renamed, so that a kill leaves no empty key.
    """
    folder.mkdir(parents=True, exist_ok=True)
    folder.chmod(0o700)
    for database in folder.glob("*.sqlite3*"):
        database.chmod(0o600)
    key = folder / "secret_key"
    if not key.exists():
        fresh = folder / f"secret_key.{os.getpid()}"
        handle = os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(handle, "w") as file:
            file.write(secrets.token_urlsafe(60))
        fresh.replace(key)
    key.chmod(0o600)
    return key


def environment() -> tuple[environ.Env, Path]:
    """The settings' environment and the data folder."""
    env = environ.Env()
    env.read_env(BASE / ".env")
    return env, data_folder(env)


if __name__ == "__main__":
    prepare(environment()[1])
