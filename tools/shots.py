"""``make shots``: retakes the pictures in ``docs/screenshots/`` from fresh demo data.

Serves the site from a folder of its own, so that no data of yours shows or changes.
"""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path
from typing import Any

from playwright.sync_api import Page, expect, sync_playwright

from tools.chromium import launch

ROOT = Path(__file__).resolve().parent.parent
OUT = ROOT / "docs" / "screenshots"
SHEET = ROOT / "docs" / "storm-night.pdf"
WIDE, PHONE = {"width": 1280, "height": 800}, {"width": 390, "height": 844}
#: For pages whose point lies below the fold.
TALL = {"width": 1280, "height": 1600}
#: File name, address, viewport, colour scheme.
SHOTS = (
    ("survey", "/jobs/1/survey/", WIDE, "light"),
    ("load", "/jobs/1/loads/1/", WIDE, "light"),
    ("round", "/jobs/1/bench/round/1/", WIDE, "light"),
    ("bench-live", "/jobs/1/bench/1/", WIDE, "light"),
    ("capture", "/jobs/1/captures/1/", WIDE, "light"),
    ("supply", "/jobs/1/supplies/1/", TALL, "light"),
    ("starts", "/jobs/1/supplies/starts/", WIDE, "light"),
    ("drill", "/practice/1/", WIDE, "light"),
    ("power-factor", "/jobs/2/loads/14/power-factor/", WIDE, "light"),
    ("day-plan", "/jobs/1/plan/", {"width": 1280, "height": 1100}, "light"),
    ("meters", "/meters/", WIDE, "light"),
    ("compare", "/jobs/1/compare/?item=3&item=2&on=1", WIDE, "light"),
    ("trial", "/jobs/1/trials/3/", WIDE, "light"),
    ("taught", "/jobs/1/trials/1/taught/", WIDE, "light"),
    ("wall-card", "/jobs/1/watch/card/", TALL, "light"),
    ("sheet", "/jobs/1/sheet/", TALL, "light"),
    ("bench-phone", "/jobs/1/bench/", PHONE, "light"),
)


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def serve(folder: str, port: int) -> subprocess.Popen[bytes]:
    """Start the site on fresh demo data; returns its process once it answers."""
    env = {**os.environ, "STEADY_DATA": folder, "STEADY_PORT": str(port), "STEADY_DEMO": "true"}
    server = subprocess.Popen([sys.executable, "-m", "web.begin"], cwd=ROOT, env=env)
    for _ in range(900):
        try:
            urllib.request.urlopen(f"http://127.0.0.1:{port}/sign-in/").close()
        except OSError:
            time.sleep(0.1)
        else:
            return server
    server.kill()
    raise RuntimeError("the site did not start")


def sign_in(page: Page, port: int) -> None:
    """As the demo's named user: visitors have copies under other numbers."""
    page.goto(f"http://127.0.0.1:{port}/sign-in/")
    page.get_by_label("Username").fill("demo")
    page.get_by_label("Password").fill("steady-needle-demo")
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url("**/jobs/")


def settle(page: Page) -> None:
    """Wait until fragments and fonts have come."""
    page.wait_for_load_state("load")
    page.wait_for_timeout(800)
    expect(page.get_by_text("Calculating")).to_have_count(0, timeout=60_000)
    page.wait_for_timeout(300)
    page.evaluate("document.fonts.ready")


def main() -> None:
    OUT.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as playwright:
        port = free_port()
        server = serve(folder, port)
        browser = launch(playwright)
        try:
            for name, address, viewport, scheme in SHOTS:
                context = browser.new_context(
                    viewport=viewport,  # type: ignore[arg-type]
                    color_scheme=scheme,  # type: ignore[arg-type]
                )
                page = context.new_page()
                sign_in(page, port)
                page.goto(f"http://127.0.0.1:{port}{address}")
                settle(page)
                page.screenshot(path=OUT / f"{name}.png")
                print(f"docs/screenshots/{name}.png")
                context.close()
            phone: Any = PHONE
            context = browser.new_context(viewport=phone)
            page = context.new_page()
            sign_in(page, port)
            page.goto(f"http://127.0.0.1:{port}/jobs/2/loads/walk/")
            for thing, watts in (("Fridge", "120"), ("Lamp", "8")):
                page.get_by_role("button", name=thing, exact=True).click()
                page.keyboard.type(watts)
            settle(page)
            page.screenshot(path=OUT / "walk-phone.png")
            print("docs/screenshots/walk-phone.png")
            context.close()
            context = browser.new_context(viewport=phone, color_scheme="dark")
            page = context.new_page()
            sign_in(page, port)
            sheet = context.request.get(f"http://127.0.0.1:{port}/jobs/1/sheet/a4.pdf")
            SHEET.write_bytes(sheet.body())
            print("docs/storm-night.pdf")
            # Last: from here on the answer bar is the watch's.
            page.goto(f"http://127.0.0.1:{port}/jobs/1/watch/")
            page.get_by_role("button", name="Power is out").click()
            page.wait_for_selector("#watch")
            settle(page)
            page.screenshot(path=OUT / "watch-phone.png")
            print("docs/screenshots/watch-phone.png")
        finally:
            browser.close()
            server.terminate()
            server.wait(10)


if __name__ == "__main__":
    main()
