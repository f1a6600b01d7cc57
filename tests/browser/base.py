"""A real browser on the live site; console errors and requests that leave the machine fail."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any, ClassVar
from urllib.parse import urlparse

from django.contrib.staticfiles.testing import StaticLiveServerTestCase
from django.core.cache import caches
from django.urls import reverse
from playwright.sync_api import Browser, Page, Playwright, expect, sync_playwright

from tools.chromium import launch
from web.demo.scenario import PASSWORD, USERNAME, load_demo
from web.jobs.models import Job

AXE = Path(__file__).parent / "vendor" / "axe.min.js"
WIDE = {"width": 1280, "height": 800}
PHONE = {"width": 390, "height": 844}
expect.set_options(timeout=20_000)


class BrowserTest(StaticLiveServerTestCase):
    """Each test gets a fresh browser context; the demo scenario is there."""

    playwright: ClassVar[Playwright]
    browser: ClassVar[Browser]

    @classmethod
    def setUpClass(cls) -> None:
        # Playwright's sync API keeps an event loop in this thread; the ORM is only used beside it.
        os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"
        super().setUpClass()
        cls.playwright = sync_playwright().start()
        cls.browser = launch(cls.playwright)

    @classmethod
    def tearDownClass(cls) -> None:
        cls.browser.close()
        cls.playwright.stop()
        super().tearDownClass()

    def setUp(self) -> None:
        for name in ("default", "answers"):
            caches[name].clear()
        load_demo()
        self.complaints: list[str] = []
        self.expected_statuses: set[int] = set()

    def tearDown(self) -> None:
        self.assertEqual(self.complaints, [])

    def open(self, viewport: dict[str, int] | None = None, **context: Any) -> Page:
        """A page of a new context, watched."""
        opened = self.browser.new_context(viewport=viewport or WIDE, **context)  # type: ignore[arg-type]
        self.addCleanup(opened.close)
        page = opened.new_page()
        page.on("console", lambda one: self._console(one.type, one.text))
        page.on("pageerror", lambda error: self.complaints.append(f"page error: {error}"))
        page.on("request", lambda one: self._request(one.url))
        return page

    def _console(self, kind: str, text: str) -> None:
        expected = any(f"status of {status}" in text for status in self.expected_statuses)
        if kind in ("error", "warning") and not expected:
            self.complaints.append(f"console {kind}: {text}")

    def _request(self, url: str) -> None:
        parts = urlparse(url)
        if parts.scheme in ("http", "https") and parts.hostname not in ("localhost", "127.0.0.1"):
            self.complaints.append(f"request left the machine: {url}")

    def url(self, name: str, *args: Any) -> str:
        return self.live_server_url + reverse(name, args=args)

    def signed_in(self, viewport: dict[str, int] | None = None, **context: Any) -> Page:
        """A page signed in as the demo user."""
        page = self.open(viewport, **context)
        page.goto(self.url("accounts:sign-in"))
        page.get_by_label("Username").fill(USERNAME)
        page.get_by_label("Password").fill(PASSWORD)
        page.get_by_role("button", name="Sign in").click()
        expect(page.get_by_role("heading", name="Your jobs")).to_be_visible()
        return page

    def clinic(self) -> Job:
        return Job.objects.get(name="Tern Point Animal Clinic")

    def go(self, page: Page, name: str, *args: Any) -> None:
        page.goto(self.url(name, self.clinic().pk, *args))

    def axe(self, page: Page) -> list[str]:
        """What axe finds wrong, one line each."""
        page.evaluate(AXE.read_text())
        found = page.evaluate(
            "async () => (await axe.run({runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa']}))"
            ".violations.map(v => `${v.id}: ${v.nodes.slice(0, 3).map(n => n.target).join(' | ')}`)"
        )
        return list(found)
