"""Versions by content: the same in every process of a release, another when a file changes."""

from __future__ import annotations

import hashlib
from functools import cache
from pathlib import Path

import needle
from web.first_start import BASE


@cache
def version() -> str:
    """Version of the site's pages: hash of all templates and static files."""
    return _hash_of(BASE / "web" / "templates", BASE / "web" / "static")


@cache
def core_version() -> str:
    """Version of what answers plans and trials: hash of the core's sources."""
    return _hash_of(Path(needle.__file__).parent)


def _hash_of(*folders: Path) -> str:
    """Hash of the files in folders, with their names; compiled ones are left out."""
    total = hashlib.sha256()
    for folder in folders:
        for file in sorted(folder.rglob("*")):
            if file.is_file() and file.suffix != ".pyc":
                total.update(str(file.relative_to(folder.parent)).encode())
                total.update(file.read_bytes())
    return total.hexdigest()[:16]
