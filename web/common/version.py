"""The version of the site's pages: another one whenever a template, style or script changes."""

from __future__ import annotations

import hashlib
from functools import cache

from web.first_start import BASE


@cache
def version() -> str:
    """Hash of all templates and static files, the same in every process of one release."""
    folders = (BASE / "web" / "templates", BASE / "web" / "static")
    files = sorted(file for folder in folders for file in folder.rglob("*") if file.is_file())
    total = hashlib.sha256()
    for file in files:
        total.update(str(file.relative_to(BASE)).encode())
        total.update(file.read_bytes())
    return total.hexdigest()[:16]
