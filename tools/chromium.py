"""Debian's Chromium, started the way that needs no network."""

from __future__ import annotations

import shutil

from playwright.sync_api import Browser, Playwright

ARGS = (
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
)


def launch(playwright: Playwright) -> Browser:
    """A headless browser; its caller closes it."""
    return playwright.chromium.launch(executable_path=shutil.which("chromium"), args=list(ARGS))
