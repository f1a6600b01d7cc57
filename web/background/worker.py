"""The program of a worker: ``celery -A web.background.worker worker --concurrency 2``."""

from __future__ import annotations

import os

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "web.settings")

from web.background.queue import app

__all__ = ["app"]
