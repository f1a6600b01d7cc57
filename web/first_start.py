"""Data folder and secret key, created before Django starts.

Run as ``python -m web.first_start``; the settings only read.
"""

from __future__ import annotations

import os
import secrets
from pathlib import Path

import environ

#: The checkout, or the folder that the packages are installed in.
BASE = Path(__file__).resolve().parent.parent
IS_CHECKOUT = (BASE / "manage.py").is_file()
#: Relative paths of settings start here, and ``.env`` is read from here.
HOME = BASE if IS_CHECKOUT else Path.cwd()


def data_folder(env: environ.Env) -> Path:
    """Folder of the site's data: STEADY_DATA, or a usual place."""
    usual = ".data" if IS_CHECKOUT else str(_user_data())
    return (HOME / str(env.str("STEADY_DATA", usual))).resolve()


def _user_data() -> Path:
    """Where an installed program keeps a user's data (XDG Base Directory Specification 0.8)."""
    data = os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share"
    return Path(data) / "steady-needle"


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
    env.read_env(HOME / ".env")
    return env, data_folder(env)


if __name__ == "__main__":
    prepare(environment()[1])
