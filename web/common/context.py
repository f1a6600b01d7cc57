"""Context of every page."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.http import HttpRequest

from web.common.version import version

THEMES = ("light", "dark")


def look(request: HttpRequest) -> dict[str, Any]:
    """The chosen theme (empty: system), whether this is a demo, and whether mail can be sent.

    Pages without a job, or without keyboard shortcuts of their own, use the defaults given here.
    """
    theme = request.COOKIES.get("theme", "")
    theme = theme if theme in THEMES else ""
    return {
        "theme": theme,
        "demo": settings.DEMO,
        "can_mail": settings.MAIL,
        "version": version(),
        "job": None,
        "page_keys": (),
    }
