"""What every page needs to know."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.http import HttpRequest

THEMES = ("light", "dark")


def look(request: HttpRequest) -> dict[str, Any]:
    """The chosen theme (empty: as the system), and whether this is a demo or can send mail.

    A page that belongs to no job, or has no keys of its own, leaves those as they are here.
    """
    theme = request.COOKIES.get("theme", "")
    theme = theme if theme in THEMES else ""
    return {
        "theme": theme,
        "demo": settings.DEMO,
        "can_mail": settings.MAIL,
        "job": None,
        "page_keys": (),
    }
